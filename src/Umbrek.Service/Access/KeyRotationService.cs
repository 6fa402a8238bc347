using System.Collections.Concurrent;
using System.Threading.Channels;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Access;

/// <summary>
/// Other access keys for the hosts of a selection. How far each host is stands in the database; hosts that are away have theirs
/// changed when they return, also after a restart of the service.
/// </summary>
public sealed partial class KeyRotationService(IDatabase database, EstateIndex estate, SelectionService selections, AccessIndex access, IAgentLinks links, VaultedKeys keys, Gate gate, AuditLog audit, TimeProvider time, ILogger<KeyRotationService> log) : BackgroundService
{
    private const int AtOnce = 8;
    private const int MostReason = 500;
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(10);

    /// <summary>Hosts whose turn is still to come: all the others return without a look into the database.</summary>
    private readonly ConcurrentDictionary<Guid, byte> expected = new();
    private readonly Channel<bool> bell = Channel.CreateBounded<bool>(new BoundedChannelOptions(1) { FullMode = BoundedChannelFullMode.DropWrite });

    public async Task<KeyRotationDetail> CreateAsync(NewKeyRotation wish, Asker by, CancellationToken cancel)
    {
        var chosen = await selections.SelectAsync(wish.Selection, by.Reach, cancel).ConfigureAwait(false);
        if (chosen.Count == 0)
        {
            throw new ProblemException(404, ProblemTypes.SelectionEmpty, "No host matches; no key was changed.");
        }
        gate.All(by, Permission.Administer, chosen);
        gate.All(by, Permission.UseSecrets, chosen);
        var row = new KeyRotationRow { Id = Guid.CreateVersion7(), Selection = wish.Selection, EndSessions = wish.EndSessions, CreatedAt = time.GetUtcNow(), CreatedById = by.Id, CreatedBy = by.Name };
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            var ids = chosen.ConvertAll(h => h.Id).ToHashSet();
            var busy = await db.KeyRotationHosts.Where(h => h.State == KeyRotationState.Waiting).Select(h => h.HostId).ToListAsync(cancel).ConfigureAwait(false);
            if (busy.FirstOrDefault(ids.Contains) is var first && first != Guid.Empty)
            {
                throw new ProblemException(409, ProblemTypes.Conflict, $"{estate.Find(first)?.Label} waits for another key already. Let that end, or cancel it: 'umbrek access-key rotations'.");
            }
            db.KeyRotations.Add(row);
            db.KeyRotationHosts.AddRange(chosen.Select(h => new KeyRotationHostRow { RotationId = row.Id, HostId = h.Id }));
            await audit.AddAsync(db, by, "access-key.rotate-all", wish.Selection, cancel, ("id", $"{row.Id}"), ("hosts", $"{chosen.Count}")).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        chosen.ForEach(h => expected[h.Id] = 0);
        Ring();
        return await GetAsync(row.Id, by, cancel).ConfigureAwait(false);
    }

    /// <summary>Newest first; those with a host that one may see.</summary>
    public async Task<List<KeyRotationInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var rows = await db.KeyRotations.AsNoTracking().OrderByDescending(r => r.Id).Take(Paging.Default).ToListAsync(cancel).ConfigureAwait(false);
        var ids = rows.ConvertAll(r => r.Id);
        var hosts = (await db.KeyRotationHosts.AsNoTracking().Where(h => ids.Contains(h.RotationId)).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(h => h.RotationId);
        return [.. rows.Select(r => ToInfo(r, Seen(hosts[r.Id], by))).Where(i => i.Hosts > 0)];
    }

    public async Task<KeyRotationDetail> GetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.KeyRotations.AsNoTracking().FirstOrDefaultAsync(r => r.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("rotation");
        var seen = Seen(await db.KeyRotationHosts.AsNoTracking().Where(h => h.RotationId == id).ToListAsync(cancel).ConfigureAwait(false), by);
        return seen.Count == 0 ? throw ProblemException.NotFound("rotation") : new KeyRotationDetail(ToInfo(row, seen), [.. seen.OrderBy(h => h.Host.Label, StringComparer.OrdinalIgnoreCase)
            .Select(h => new KeyRotationHost(h.Row.HostId, h.Host.Label, h.Host.GroupPath, h.Row.State, h.Row.Reason, h.Row.At))]);
    }

    /// <summary>Changes no further key; those that were changed stay.</summary>
    public async Task<KeyRotationDetail> CancelAsync(Guid id, Asker by, CancellationToken cancel)
    {
        var before = await GetAsync(id, by, cancel).ConfigureAwait(false);
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            var waiting = await db.KeyRotationHosts.Where(h => h.RotationId == id && h.State == KeyRotationState.Waiting).Select(h => h.HostId).ToListAsync(cancel).ConfigureAwait(false);
            gate.All(by, Permission.Administer, [.. waiting.Select(estate.Find).OfType<HostSummary>()]);
            var now = time.GetUtcNow();
            await db.KeyRotationHosts.Where(h => h.RotationId == id && h.State == KeyRotationState.Waiting)
                .ExecuteUpdateAsync(h => h.SetProperty(r => r.State, KeyRotationState.Cancelled).SetProperty(r => r.Reason, $"cancelled by {by.Name}").SetProperty(r => r.At, now), cancel).ConfigureAwait(false);
            await db.KeyRotations.Where(r => r.Id == id).ExecuteUpdateAsync(r => r.SetProperty(x => x.IsOver, true), cancel).ConfigureAwait(false);
            await audit.AddAsync(db, by, "access-key.rotate-cancel", before.Info.Selection, cancel, ("id", $"{id}"), ("hosts", $"{waiting.Count}")).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        return await GetAsync(id, by, cancel).ConfigureAwait(false);
    }

    /// <summary>A host is linked (again).</summary>
    public void Returned(Guid hostId)
    {
        if (expected.ContainsKey(hostId))
        {
            Ring();
        }
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await using (var db = database.Open())
        {
            foreach (var id in await db.KeyRotationHosts.Where(h => h.State == KeyRotationState.Waiting).Select(h => h.HostId).ToListAsync(stoppingToken).ConfigureAwait(false))
            {
                expected[id] = 0;
            }
        }
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                await LookAsync(stoppingToken).ConfigureAwait(false);
            }
            catch (Exception e) when (e is DbUpdateException or System.Data.Common.DbException or IOException)
            {
                Log.Failed(log, e);
            }
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(stoppingToken);
            limit.CancelAfter(Look);
            await ((Task)bell.Reader.WaitToReadAsync(limit.Token).AsTask()).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            _ = bell.Reader.TryRead(out _);
        }
    }

    private async Task LookAsync(CancellationToken cancel)
    {
        if (expected.IsEmpty)
        {
            return;
        }
        List<(KeyRotationRow Rotation, Guid HostId)> due;
        await using (var db = database.Open())
        {
            due = [.. (await db.KeyRotationHosts.AsNoTracking().Where(h => h.State == KeyRotationState.Waiting).Join(db.KeyRotations.AsNoTracking(), h => h.RotationId, r => r.Id, (h, r) => new { Rotation = r, h.HostId }).ToListAsync(cancel).ConfigureAwait(false))
                .Where(d => links.IsLinked(d.HostId) || estate.Find(d.HostId) is null or { RetiredAt: not null }).Select(d => (d.Rotation, d.HostId))];
        }
        await Parallel.ForEachAsync(due, new ParallelOptions { MaxDegreeOfParallelism = AtOnce, CancellationToken = cancel }, async (d, c) => await ChangeAsync(d.Rotation, d.HostId, c).ConfigureAwait(false)).ConfigureAwait(false);
        await using var after = database.Open();
        await after.KeyRotations.Where(r => !r.IsOver && !after.KeyRotationHosts.Any(h => h.RotationId == r.Id && h.State == KeyRotationState.Waiting)).ExecuteUpdateAsync(r => r.SetProperty(x => x.IsOver, true), cancel).ConfigureAwait(false);
    }

    private async Task ChangeAsync(KeyRotationRow rotation, Guid hostId, CancellationToken cancel)
    {
        await using (var db = database.Open())
        {
            if (!await db.KeyRotationHosts.AnyAsync(h => h.RotationId == rotation.Id && h.HostId == hostId && h.State == KeyRotationState.Waiting, cancel).ConfigureAwait(false))
            {
                return;
            }
        }
        if (await TryAsync(rotation, hostId, cancel).ConfigureAwait(false) is not { } outcome)
        {
            return;
        }
        expected.TryRemove(hostId, out _);
        var now = time.GetUtcNow();
        var reason = outcome.Reason?.Length > MostReason ? outcome.Reason[..MostReason] : outcome.Reason;
        await using var after = database.Open();
        await after.KeyRotationHosts.Where(h => h.RotationId == rotation.Id && h.HostId == hostId)
            .ExecuteUpdateAsync(h => h.SetProperty(r => r.State, outcome.State).SetProperty(r => r.Reason, reason).SetProperty(r => r.At, now), CancellationToken.None).ConfigureAwait(false);
    }

    /// <returns>How it ended; null when the host went away and is waited for.</returns>
    private async Task<(KeyRotationState State, string? Reason)?> TryAsync(KeyRotationRow rotation, Guid hostId, CancellationToken cancel)
    {
        if (estate.Find(hostId) is not { RetiredAt: null } host)
        {
            return (KeyRotationState.Failed, "The host was retired or removed meanwhile.");
        }
        if (access.Find(rotation.CreatedById) is not { } seat || !seat.Reach.May(Permission.Administer, host.GroupPath) || !seat.Reach.May(Permission.UseSecrets, host.GroupPath))
        {
            return (KeyRotationState.Failed, $"{rotation.CreatedBy} may not do that here any more.");
        }
        try
        {
            await keys.ChangeAsync(host, rotation.EndSessions, new Asker(seat, null, false, seat.Reach, null), cancel).ConfigureAwait(false);
            return (KeyRotationState.Changed, null);
        }
        catch (DoorException e)
        {
            return links.IsLinked(hostId) ? (KeyRotationState.Failed, e.Message) : null;
        }
    }

    private void Ring() => bell.Writer.TryWrite(true);

    private List<(KeyRotationHostRow Row, HostSummary Host)> Seen(IEnumerable<KeyRotationHostRow> rows, Asker by) =>
        [.. rows.Select(r => (Row: r, Host: estate.Find(r.HostId, by.Reach))).Where(r => r.Host is not null).Select(r => (r.Row, r.Host!))];

    private static KeyRotationInfo ToInfo(KeyRotationRow row, List<(KeyRotationHostRow Row, HostSummary Host)> hosts)
    {
        int Count(KeyRotationState state) => hosts.Count(h => h.Row.State == state);
        return new(row.Id, row.Selection, row.EndSessions, row.CreatedAt, row.CreatedBy, row.IsOver, hosts.Count, Count(KeyRotationState.Changed), Count(KeyRotationState.Failed), Count(KeyRotationState.Waiting), Count(KeyRotationState.Cancelled));
    }

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Error, Message = "Changing access keys failed and is tried again")]
        public static partial void Failed(ILogger logger, Exception e);
    }
}
