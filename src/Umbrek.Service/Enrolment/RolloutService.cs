using System.Collections.Concurrent;
using System.Threading.Channels;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Enrolment;

/// <summary>
/// Agent updates of many hosts. All state is in the database; whatever may move a roll-out on (a host returned or reported, time
/// passed) only rings a bell, and one loop looks at it (<see cref="Rollout"/> decides).
/// </summary>
public sealed partial class RolloutService(IDatabase database, EstateIndex estate, SelectionService selections, IAgentLinks links, Gate gate, AuditLog audit, TimeProvider time, ILogger<RolloutService> log) : BackgroundService
{
    private const int MaxAttempts = 3;
    private static readonly TimeSpan AnswerWithin = TimeSpan.FromSeconds(15);
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(5);

    /// <summary>Held while the stored state of roll-outs is read and changed, never while a host is asked.</summary>
    private readonly SemaphoreSlim turn = new(1);

    /// <summary>Hosts of running roll-outs: all the others return without a look into the database.</summary>
    private readonly ConcurrentDictionary<Guid, byte> expected = new();
    private readonly Channel<Guid> bell = Channel.CreateBounded<Guid>(new BoundedChannelOptions(1) { FullMode = BoundedChannelFullMode.DropWrite });

    public async Task<RolloutDetail> CreateAsync(NewRollout wish, Asker by, CancellationToken cancel)
    {
        if (wish.FailuresAllowed is < 0 or > 10_000)
        {
            throw ProblemException.Invalid("Say how many hosts may fail before it stops: 0 to 10000.");
        }
        if (wish.ReturnWithinSeconds is < 60 or > 3600)
        {
            throw ProblemException.Invalid("A host has 60 to 3600 seconds to return.");
        }
        var chosen = await selections.SelectAsync(wish.Selection, by.Reach, cancel).ConfigureAwait(false);
        if (chosen.Count == 0)
        {
            throw new ProblemException(404, ProblemTypes.SelectionEmpty, "No host matches; nothing was started.");
        }
        gate.All(by, Permission.Software, chosen);
        if (Rollout.Sizes(wish.Waves ?? Rollout.DefaultWaves, chosen.Count, out var problem) is not { } sizes)
        {
            throw ProblemException.Invalid(problem);
        }
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var release = await db.Releases.AsNoTracking().Where(r => wish.Version == null || r.Version == wish.Version).OrderByDescending(r => r.AddedAt).FirstOrDefaultAsync(cancel).ConfigureAwait(false)
            ?? throw new ProblemException(404, ProblemTypes.NotFound, wish.Version is null ? "The service has no agent to give. Add one: umbrek release add" : $"There is no version {wish.Version}; 'umbrek release list' shows all.");
        var ids = chosen.Select(h => h.Id).ToHashSet();
        var busy = await db.RolloutHosts.Join(db.Rollouts, h => h.RolloutId, r => r.Id, (h, r) => new { h.HostId, h.State, Rollout = r.State })
            .Where(h => h.Rollout == RolloutState.Running && (h.State == UpdateState.Waiting || h.State == UpdateState.Told)).Select(h => h.HostId).ToListAsync(cancel).ConfigureAwait(false);
        if (busy.FirstOrDefault(ids.Contains) is var first && first != Guid.Empty)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"{estate.Find(first)?.Label} is in another update that has not ended. Wait for it, or cancel it.");
        }
        var row = new RolloutRow
        {
            Id = Guid.CreateVersion7(),
            ReleaseId = release.Id,
            Selection = wish.Selection,
            FailuresAllowed = wish.FailuresAllowed,
            ReturnWithinSeconds = wish.ReturnWithinSeconds,
            State = RolloutState.Running,
            CreatedAt = time.GetUtcNow(),
            CreatedBy = by.Name,
        };
        db.Rollouts.Add(row);
        var next = 0;
        for (var wave = 0; wave < sizes.Count; wave++)
        {
            foreach (var host in chosen.Skip(next).Take(sizes[wave]))
            {
                var has = host.AgentVersion == release.Version;
                db.RolloutHosts.Add(new RolloutHostRow { RolloutId = row.Id, HostId = host.Id, Wave = wave + 1, State = has ? UpdateState.Updated : UpdateState.Waiting, Reason = has ? "had it already" : null, At = has ? row.CreatedAt : null });
            }
            next += sizes[wave];
        }
        await audit.AddAsync(db, by, "update.start", wish.Selection, cancel, ("id", $"{row.Id}"), ("version", release.Version), ("hosts", $"{chosen.Count}"), ("waves", string.Join(", ", sizes))).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        chosen.ForEach(h => expected[h.Id] = 0);
        Ring();
        return await GetAsync(row.Id, by, cancel).ConfigureAwait(false);
    }

    /// <summary>Newest first; those with a host that one may see.</summary>
    public async Task<List<RolloutInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var rows = await db.Rollouts.AsNoTracking().OrderByDescending(r => r.Id).Take(Paging.Default).ToListAsync(cancel).ConfigureAwait(false);
        var ids = rows.Select(r => r.Id).ToList();
        var versions = await db.Releases.AsNoTracking().ToDictionaryAsync(r => r.Id, r => r.Version, cancel).ConfigureAwait(false);
        var members = (await db.RolloutHosts.AsNoTracking().Where(h => ids.Contains(h.RolloutId)).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(h => h.RolloutId);
        return [.. rows.Where(r => members[r.Id].Any(m => estate.Find(m.HostId, by.Reach) is not null)).Select(r => ToInfo(r, versions.GetValueOrDefault(r.ReleaseId, ""), [.. members[r.Id]]))];
    }

    public async Task<RolloutDetail> GetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Rollouts.AsNoTracking().FirstOrDefaultAsync(r => r.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("update");
        var version = await db.Releases.Where(r => r.Id == row.ReleaseId).Select(r => r.Version).FirstAsync(cancel).ConfigureAwait(false);
        var members = await db.RolloutHosts.AsNoTracking().Where(h => h.RolloutId == id).OrderBy(h => h.Wave).ToListAsync(cancel).ConfigureAwait(false);
        if (!members.Any(m => estate.Find(m.HostId, by.Reach) is not null))
        {
            throw ProblemException.NotFound("update");
        }
        return new RolloutDetail(ToInfo(row, version, members), [.. members.Select(m => (Row: m, Host: estate.Find(m.HostId, by.Reach))).Where(m => m.Host is not null)
            .OrderBy(m => m.Row.Wave).ThenBy(m => m.Host!.Label, StringComparer.OrdinalIgnoreCase)
            .Select(m => new RolloutHostInfo(m.Row.HostId, m.Host!.Label, m.Host.GroupPath, m.Row.Wave, m.Row.State, m.Row.Reason, m.Row.At))]);
    }

    /// <summary>Tells nobody any more; hosts that were told go on.</summary>
    public async Task<RolloutDetail> CancelAsync(Guid id, Asker by, CancellationToken cancel)
    {
        _ = await GetAsync(id, by, cancel).ConfigureAwait(false);
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            var row = await db.Rollouts.FirstOrDefaultAsync(r => r.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("update");
            var hosts = await db.RolloutHosts.Where(h => h.RolloutId == id).Select(h => h.HostId).ToListAsync(cancel).ConfigureAwait(false);
            gate.All(by, Permission.Software, [.. hosts.Select(estate.Find).OfType<HostSummary>()]);
            if (row.State == RolloutState.Running)
            {
                row.State = RolloutState.Cancelled;
                row.Reason = $"cancelled by {by.Name}";
                await db.RolloutHosts.Where(h => h.RolloutId == id && h.State == UpdateState.Waiting).ExecuteUpdateAsync(h => h.SetProperty(r => r.State, UpdateState.Cancelled), cancel).ConfigureAwait(false);
                await audit.AddAsync(db, by, "update.cancel", row.Selection, cancel, ("id", $"{id}")).ConfigureAwait(false);
                await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
            }
        }
        return await GetAsync(id, by, cancel).ConfigureAwait(false);
    }

    /// <summary>A host is linked again, with this version. What it was told since then, over this very link, it has yet to answer for.</summary>
    public async Task ReturnedAsync(Guid hostId, string version, DateTimeOffset linkedAt, CancellationToken cancel)
    {
        if (!expected.ContainsKey(hostId))
        {
            return;
        }
        using var held = await HoldAsync(cancel).ConfigureAwait(false);
        await using var db = database.Open();
        var told = await db.RolloutHosts.Where(h => h.HostId == hostId && (h.State == UpdateState.Told || h.State == UpdateState.Waiting))
            .Join(db.Rollouts, h => h.RolloutId, r => r.Id, (h, r) => new { Host = h, r.ReleaseId })
            .Join(db.Releases, h => h.ReleaseId, r => r.Id, (h, r) => new { h.Host, r.Version }).ToListAsync(cancel).ConfigureAwait(false);
        foreach (var entry in told)
        {
            if (entry.Version == version)
            {
                End(entry.Host, UpdateState.Updated, null);
            }
            else if (entry.Host.State == UpdateState.Told && entry.Host.At?.ToUnixTimeMilliseconds() < linkedAt.ToUnixTimeMilliseconds())
            {
                // It was interrupted before the new program was in its place: told again, but not for ever.
                entry.Host.State = entry.Host.Attempts < MaxAttempts ? UpdateState.Waiting : UpdateState.Failed;
                entry.Host.Reason = $"it returned with version {version}";
                entry.Host.At = time.GetUtcNow();
            }
        }
        if (told.Count > 0)
        {
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
            Ring();
        }
    }

    /// <summary>A host tells that an update did not come off.</summary>
    public async Task ReportedAsync(Guid hostId, UpdateReport report, CancellationToken cancel)
    {
        using var held = await HoldAsync(cancel).ConfigureAwait(false);
        await using var db = database.Open();
        var rows = await db.RolloutHosts.Where(h => h.HostId == hostId && (h.State == UpdateState.Told || h.State == UpdateState.Waiting)).ToListAsync(cancel).ConfigureAwait(false);
        // One that waits was told before it was interrupted; this is what it was interrupted by.
        foreach (var row in rows.Where(r => r.Attempts > 0))
        {
            End(row, report.WentBack ? UpdateState.WentBack : UpdateState.Failed, report.Reason);
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        Ring();
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        try
        {
            await LoadAsync(stoppingToken).ConfigureAwait(false);
            while (true)
            {
                try
                {
                    await MoveOnAsync(stoppingToken).ConfigureAwait(false);
                }
                catch (Exception e) when (e is not OperationCanceledException)
                {
                    Log.Stumbled(log, e);
                }
                using var limit = CancellationTokenSource.CreateLinkedTokenSource(stoppingToken);
                using var timer = time.CreateTimer(_ => bell.Writer.TryWrite(default), null, Look, Timeout.InfiniteTimeSpan);
                await bell.Reader.ReadAsync(limit.Token).ConfigureAwait(false);
            }
        }
        catch (OperationCanceledException)
        {
            // The next start goes on from the database.
        }
    }

    private void Ring() => bell.Writer.TryWrite(default);

    private async Task LoadAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        var open = await db.RolloutHosts.Join(db.Rollouts.Where(r => r.State == RolloutState.Running), h => h.RolloutId, r => r.Id, (h, _) => h.HostId).ToListAsync(cancel).ConfigureAwait(false);
        open.ForEach(h => expected[h] = 0);
    }

    private async Task MoveOnAsync(CancellationToken cancel)
    {
        var told = new List<(Guid Rollout, Guid Host, int Attempt, ReleaseOffer Offer)>();
        using (await HoldAsync(cancel).ConfigureAwait(false))
        {
            await using var db = database.Open();
            foreach (var rollout in await db.Rollouts.Where(r => r.State == RolloutState.Running).ToListAsync(cancel).ConfigureAwait(false))
            {
                told.AddRange(await DecideAsync(db, rollout, cancel).ConfigureAwait(false));
            }
        }
        if (told.Count > 0)
        {
            Log.Told(log, told.Count, told[0].Offer.Manifest.Version);
            await Task.WhenAll(told.Select(t => TellAsync(t.Rollout, t.Host, t.Attempt, t.Offer, cancel))).ConfigureAwait(false);
        }
    }

    /// <summary>One roll-out's next step; hosts to be told are marked so before they are.</summary>
    private async Task<IEnumerable<(Guid Rollout, Guid Host, int Attempt, ReleaseOffer Offer)>> DecideAsync(UmbrekContext db, RolloutRow rollout, CancellationToken cancel)
    {
        var release = await db.Releases.AsNoTracking().FirstAsync(r => r.Id == rollout.ReleaseId, cancel).ConfigureAwait(false);
        var members = await db.RolloutHosts.Where(h => h.RolloutId == rollout.Id).ToListAsync(cancel).ConfigureAwait(false);
        var now = time.GetUtcNow();
        foreach (var late in members.Where(m => m.State == UpdateState.Told && now - m.At > TimeSpan.FromSeconds(rollout.ReturnWithinSeconds)))
        {
            End(late, UpdateState.Failed, $"it did not return within {rollout.ReturnWithinSeconds} s");
        }
        var step = Next(members, rollout.FailuresAllowed);
        if (step.State != RolloutState.Running)
        {
            await EndAsync(db, rollout, members, step.State, cancel).ConfigureAwait(false);
            return [];
        }
        var wave = members.Where(m => step.Tell.Contains(m.HostId)).ToList();
        foreach (var member in wave)
        {
            member.State = UpdateState.Told;
            member.Attempts++;
            member.At = now;
            member.Reason = null;
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        var offer = new ReleaseOffer(ReleaseService.ToManifest(release), release.Signature);
        return wave.Select(m => (rollout.Id, m.HostId, m.Attempts, offer));
    }

    private async Task TellAsync(Guid rollout, Guid host, int attempt, ReleaseOffer offer, CancellationToken cancel)
    {
        string? refused = null;
        try
        {
            refused = (await links.AskAsync(host, new HostRequest(HostRequest.Update, offer), AnswerWithin, cancel).ConfigureAwait(false)).Error;
            if (refused is null)
            {
                return;
            }
        }
        catch (HostUnreachableException e) when (e.Asked)
        {
            // It may be at it: its return, its report or the time that it has will tell.
            return;
        }
        catch (HostUnreachableException)
        {
            // It heard nothing, and waits for the next look.
        }
        using var held = await HoldAsync(cancel).ConfigureAwait(false);
        await using var db = database.Open();
        var member = await db.RolloutHosts.FirstAsync(h => h.RolloutId == rollout && h.HostId == host, cancel).ConfigureAwait(false);
        if (member.State != UpdateState.Told || member.Attempts != attempt)
        {
            return;
        }
        if (refused is null)
        {
            member.State = UpdateState.Waiting;
            member.Attempts--;
        }
        else
        {
            End(member, UpdateState.Failed, refused);
            Ring();
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
    }

    private async Task EndAsync(UmbrekContext db, RolloutRow rollout, List<RolloutHostRow> members, RolloutState state, CancellationToken cancel)
    {
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        rollout.State = state;
        if (state == RolloutState.Stopped)
        {
            var failed = members.Where(m => m.State is UpdateState.Failed or UpdateState.WentBack).ToList();
            rollout.Reason = $"{string.Join(", ", failed.Take(5).Select(f => estate.Find(f.HostId)?.Label))}{(failed.Count > 5 ? $" and {failed.Count - 5} more" : "")} did not come to run the new version ({failed[0].Reason}); nobody else is told";
            foreach (var waiting in members.Where(m => m.State == UpdateState.Waiting))
            {
                waiting.State = UpdateState.Cancelled;
            }
        }
        await audit.AddAsync(db, Caller.Service, $"update.{(state == RolloutState.Done ? "done" : "stop")}", rollout.Selection, cancel, ("id", $"{rollout.Id}"), ("reason", rollout.Reason)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        members.ForEach(m => expected.TryRemove(m.HostId, out _));
    }

    private RolloutStep Next(IEnumerable<RolloutHostRow> members, int failuresAllowed) =>
        Rollout.Next([.. members.Select(m => new RolloutHost(m.HostId, m.Wave, m.State, estate.Find(m.HostId)?.Presence.State == PresenceState.Linked))], failuresAllowed);

    private async Task<IDisposable> HoldAsync(CancellationToken cancel)
    {
        await turn.WaitAsync(cancel).ConfigureAwait(false);
        return new Held(turn);
    }

    public override void Dispose()
    {
        turn.Dispose();
        base.Dispose();
    }

    private sealed class Held(SemaphoreSlim turn) : IDisposable
    {
        public void Dispose() => turn.Release();
    }

    private void End(RolloutHostRow row, UpdateState state, string? reason)
    {
        row.State = state;
        row.Reason = reason is { Length: > 500 } ? reason[..500] : reason;
        row.At = time.GetUtcNow();
    }

    private RolloutInfo ToInfo(RolloutRow row, string version, List<RolloutHostRow> members)
    {
        var step = Next(members, row.FailuresAllowed);
        return new RolloutInfo(
            row.Id, version, row.Selection, row.State, row.Reason, row.CreatedAt, row.CreatedBy, step.Wave, members.Count == 0 ? 0 : members.Max(m => m.Wave), members.Count,
            members.Count(m => m.State == UpdateState.Updated), members.Count(m => m.State is UpdateState.Failed or UpdateState.WentBack), members.Count(m => m.State is UpdateState.Waiting or UpdateState.Told));
    }

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Information, Message = "{Count} hosts were told to update to {Version}")]
        public static partial void Told(ILogger logger, int count, string version);

        [LoggerMessage(Level = LogLevel.Error, Message = "Updates could not be moved on; tried again in a moment")]
        public static partial void Stumbled(ILogger logger, Exception e);
    }
}
