using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Service.Estate;
using Umbrek.Service.Storage;
using Umbrek.Wire;

namespace Umbrek.Service.Health;

/// <summary>
/// Runs the checks over hosts that changed, over those on which something is under way every few seconds, and over all of them once a minute, for what only
/// time changes.
/// </summary>
public sealed partial class CheckEngine(IDatabase database, EstateIndex estate, CheckBook checks, AlertBook alerts, ProbeBook probes, TimeProvider time, ILogger<CheckEngine> log) : BackgroundService
{
    private static readonly TimeSpan Tick = TimeSpan.FromSeconds(2);
    private static readonly TimeSpan EverythingEvery = TimeSpan.FromMinutes(1);
    private readonly Dictionary<Guid, Dictionary<string, CheckState>> states = [];
    private readonly HashSet<Guid> underWay = [];
    private long looked;

    /// <summary>How often it has run what was due.</summary>
    public long Looked => Interlocked.Read(ref looked);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        foreach (var alert in alerts.Current)
        {
            StatesOf(alert.HostId)[alert.Check] = CheckState.Alarmed;
        }
        using var changes = estate.Changes.Subscribe();
        var everythingAt = DateTimeOffset.MinValue;
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                var now = time.GetUtcNow();
                HashSet<Guid> due = [.. underWay];
                if (now - everythingAt >= EverythingEvery || now < everythingAt)
                {
                    everythingAt = now;
                    await checks.LoadAsync().ConfigureAwait(false);
                    due.UnionWith(estate.All.Select(h => h.Id));
                    due.UnionWith(states.Keys);
                }
                using (var patience = new CancellationTokenSource(Tick, time))
                using (var either = CancellationTokenSource.CreateLinkedTokenSource(patience.Token, stoppingToken))
                {
                    try
                    {
                        due.UnionWith(await changes.TakeAsync(due.Count > underWay.Count ? new CancellationToken(true) : either.Token).ConfigureAwait(false));
                    }
                    catch (OperationCanceledException) when (!stoppingToken.IsCancellationRequested)
                    {
                        // Nothing changed but the time.
                    }
                }
                await RunAsync(due, stoppingToken).ConfigureAwait(false);
                await alerts.WakeAsync(stoppingToken).ConfigureAwait(false);
                Interlocked.Increment(ref looked);
            }
            catch (Exception e) when (e is not OperationCanceledException)
            {
                Log.Failed(log, e);
                await Task.Delay(Tick, time, stoppingToken).ConfigureAwait(false);
            }
        }
    }

    private Dictionary<string, CheckState> StatesOf(Guid hostId) => states.TryGetValue(hostId, out var known) ? known : states[hostId] = [];

    private async Task RunAsync(HashSet<Guid> hosts, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        var raised = new List<AlertRow>();
        var cleared = new List<(AlertRow, string?)>();
        var after = new List<(Guid Host, string Check, CheckState State)>();
        foreach (var id in hosts)
        {
            if (estate.FindSelectable(id) is not { } host)
            {
                states.Remove(id);
                underWay.Remove(id);
                alerts.Forget(id);
                continue;
            }
            await RunAsync(id, host, now, raised, cleared, after, cancel).ConfigureAwait(false);
        }
        if (raised.Count + cleared.Count > 0)
        {
            await alerts.TurnAsync(raised, cleared, cancel).ConfigureAwait(false);
        }
        // Only when it is stored: what could not be is found again in the next turn.
        foreach (var ofHost in after.GroupBy(a => a.Host))
        {
            var known = StatesOf(ofHost.Key);
            foreach (var (_, check, state) in ofHost)
            {
                if (state == CheckState.Calm)
                {
                    known.Remove(check);
                }
                else
                {
                    known[check] = state;
                }
            }
            if (known.Values.All(s => s.IsSettled))
            {
                underWay.Remove(ofHost.Key);
            }
            else
            {
                underWay.Add(ofHost.Key);
            }
        }
    }

    private async Task RunAsync(Guid id, SelectableHost host, DateTimeOffset now, List<AlertRow> raised, List<(AlertRow, string?)> cleared, List<(Guid, string, CheckState)> after, CancellationToken cancel)
    {
        var known = states.GetValueOrDefault(id);
        var current = host.Retired ? [] : checks.For(id, host.GroupPath);
        foreach (var check in current)
        {
            var before = known?.GetValueOrDefault(check.Key) ?? CheckState.Calm;
            var reading = check.Read(host, check.Probe is null ? null : probes.Find(id, check.Key), now);
            var state = before.Step(reading, check.Rule.Hold, now);
            if (before == CheckState.Calm && reading == Reading.Bad && !state.Raised && await BadSinceAsync(id, host, check, now, cancel).ConfigureAwait(false) is { } since)
            {
                state = (before with { TurningSince = since }).Step(reading, check.Rule.Hold, now);
            }
            if (state.Raised && !before.Raised)
            {
                raised.Add(NewAlert(id, host, check, now));
            }
            else if (before.Raised && !state.Raised && alerts.Find(id, check.Key) is { } over)
            {
                cleared.Add((over, null));
            }
            if (state != before)
            {
                after.Add((id, check.Key, state));
            }
        }
        // What is checked no longer has no alert either.
        foreach (var (key, state) in known ?? [])
        {
            if (!current.Any(c => c.Key == key))
            {
                after.Add((id, key, CheckState.Calm));
                if (state.Raised && alerts.Find(id, key) is { } over)
                {
                    cleared.Add((over, host.Retired ? "the host was retired" : "the check was switched off here"));
                }
            }
        }
    }

    /// <summary>
    /// Since when the host has been bad already, by its samples: after a restart of the service, or when a host joins with a past, nobody waits for the hold time again.
    /// </summary>
    private async Task<DateTimeOffset?> BadSinceAsync(Guid id, SelectableHost host, EffectiveCheck check, DateTimeOffset now, CancellationToken cancel)
    {
        if (check.Probe is not null || check.Rule.When.FactsRead.Any() || check.Subsystem == Subsystem.Reachability)
        {
            return null;
        }
        var from = now - check.Rule.Hold - TimeSpan.FromMinutes(1);
        await using var db = database.Open();
        var samples = await db.Samples.AsNoTracking().Where(s => s.HostId == id && s.At >= from).OrderByDescending(s => s.At).Select(s => s.Sample).ToListAsync(cancel).ConfigureAwait(false);
        DateTimeOffset? since = null;
        foreach (var sample in samples.Select(s => JsonSerializer.Deserialize(s, WireJson.Default.Sample)).OfType<Sample>())
        {
            if (check.Rule.Read(host with { Health = EstateIndex.Figures(sample), SampledAt = sample.At }, sample.At) != Reading.Bad)
            {
                break;
            }
            since = sample.At;
        }
        return since;
    }

    private AlertRow NewAlert(Guid id, SelectableHost host, EffectiveCheck check, DateTimeOffset now)
    {
        var text = check.Say(new AlertSubject(host, estate.Find(id)?.StorageMount, now, probes.Find(id, check.Key)));
        return new AlertRow
        {
            Id = Guid.CreateVersion7(now),
            HostId = id,
            Check = check.Key,
            CheckName = check.Name,
            Subsystem = check.Subsystem,
            Severity = check.Severity,
            State = AlertState.Open,
            RaisedAt = now,
            StateAt = now,
            What = text.What,
            Follows = text.Follows,
            Fix = text.Fix,
        };
    }

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Error, Message = "Checks could not be run; they are run again")]
        public static partial void Failed(ILogger logger, Exception e);
    }
}
