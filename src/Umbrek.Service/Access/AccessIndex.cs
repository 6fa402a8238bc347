using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Access;

/// <summary>One technician and what his grants give him, until they change or one of them ends.</summary>
[System.Diagnostics.CodeAnalysis.SuppressMessage("Design", "CA1001", Justification = "A source without a timer or a wait handle has nothing to give back, and its token is used as long as a view lives.")]
public sealed class Seat(Guid id, string name, IReadOnlyList<HeldGrant> held, bool factorMissing, DateTimeOffset now)
{
    private readonly CancellationTokenSource lapsed = new();
    private readonly ConcurrentDictionary<PermissionSet, Reach> limited = new();

    public Guid Id { get; } = id;
    public string Name { get; } = name;
    public Reach Reach { get; } = new(held, now);

    /// <summary>The service asks everybody for a second factor, and he has none: he may set one up and nothing else.</summary>
    public bool FactorMissing { get; } = factorMissing;

    /// <summary>What a sign-in is good for that is for some permissions only.</summary>
    public Reach For(PermissionSet limit) => limit == PermissionSet.All ? Reach : limited.GetOrAdd(limit, l => new Reach(held, now, l));

    /// <summary>Cancelled when this is no longer what he may do: whatever goes on because of it ends.</summary>
    public CancellationToken Lapsed => lapsed.Token;

    /// <summary>True when nothing has changed for him.</summary>
    public bool IsAs(Seat other) => other.Name == Name && other.FactorMissing == FactorMissing && other.Reach.Held.SequenceEqual(Reach.Held);

    public void Lapse() => _ = lapsed.CancelAsync();
}

/// <summary>
/// Technicians and their grants in memory: read at start and after every change, so that a decision asks no database. A change
/// reaches those it is about, and nobody else, at once.
/// </summary>
public sealed class AccessIndex(IDatabase database, TimeProvider time) : IDisposable
{
    private static readonly TimeSpan LongestWait = TimeSpan.FromDays(1);

    private readonly SemaphoreSlim turn = new(1);
    private volatile Snapshot now = new([], [], []);
    private ITimer? next;

    private sealed record Snapshot(Dictionary<Guid, Seat> Seats, Dictionary<Guid, string> Paths, IReadOnlyList<Role> Roles);

    public IReadOnlyCollection<Seat> Seats => now.Seats.Values;

    /// <summary>Those that every service has, then one's own by name.</summary>
    public IReadOnlyList<Role> Roles => now.Roles;

    /// <returns>Null when there is no such technician (any more).</returns>
    public Seat? Find(Guid technicianId) => now.Seats.GetValueOrDefault(technicianId);

    public string? PathOf(Guid groupId) => now.Paths.GetValueOrDefault(groupId);

    /// <summary>Ids of the groups at which something is allowed, for queries; null is all of them.</summary>
    public List<Guid>? GroupsWith(Reach reach, Permission permission) =>
        reach.Everywhere.Contains(permission) ? null : [.. now.Paths.Where(g => reach.May(permission, g.Value)).Select(g => g.Key)];

    /// <summary>Who says who gets in at a place, by name; null is everything.</summary>
    public IReadOnlyList<string> WhoAdministers(string? place) =>
        [.. now.Seats.Values.Where(s => (place is null ? s.Reach.Everywhere : s.Reach.At(place)).Contains(Permission.Administer)).Select(s => s.Name).Order(StringComparer.OrdinalIgnoreCase)];

    /// <summary>
    /// Reads everything anew; whoever may do something else than before has lapsed when this returns. Nobody cancels it: a caller
    /// that hangs up after his change was stored would leave in force what was taken away.
    /// </summary>
    public async Task LoadAsync()
    {
        await turn.WaitAsync().ConfigureAwait(false);
        try
        {
            await using var db = database.Open();
            Put(await ReadAsync(db, CancellationToken.None).ConfigureAwait(false));
        }
        finally
        {
            turn.Release();
        }
    }

    /// <summary>The grants of everybody as they stand in the caller's transaction.</summary>
    public static async Task<ILookup<Guid, HeldGrant>> ReadHeldAsync(UmbrekContext db, CancellationToken cancel)
    {
        var roles = (await ReadRolesAsync(db, cancel).ConfigureAwait(false)).ToDictionary(r => r.Id);
        var paths = await db.Groups.AsNoTracking().ToDictionaryAsync(g => g.Id, g => g.Path, cancel).ConfigureAwait(false);
        return await ReadHeldAsync(db, roles, paths, cancel).ConfigureAwait(false);
    }

    public void Dispose()
    {
        next?.Dispose();
        turn.Dispose();
    }

    private async Task<Snapshot> ReadAsync(UmbrekContext db, CancellationToken cancel)
    {
        var roles = await ReadRolesAsync(db, cancel).ConfigureAwait(false);
        var paths = await db.Groups.AsNoTracking().ToDictionaryAsync(g => g.Id, g => g.Path, cancel).ConfigureAwait(false);
        var held = await ReadHeldAsync(db, roles.ToDictionary(r => r.Id), paths, cancel).ConfigureAwait(false);
        var people = await db.Users.AsNoTracking().Select(t => new { t.Id, t.UserName, t.TwoFactorEnabled }).ToListAsync(cancel).ConfigureAwait(false);
        var required = await SecondFactorService.IsRequiredAsync(db, cancel).ConfigureAwait(false);
        var at = time.GetUtcNow();
        return new Snapshot(people.ToDictionary(p => p.Id, p => new Seat(p.Id, p.UserName ?? "", [.. held[p.Id]], required && !p.TwoFactorEnabled, at)), paths, roles);
    }

    private static async Task<List<Role>> ReadRolesAsync(UmbrekContext db, CancellationToken cancel) =>
        [.. Role.BuiltIn, .. (await db.OwnRoles.AsNoTracking().OrderBy(r => r.NameKey).ToListAsync(cancel).ConfigureAwait(false)).Select(RoleService.ToRole)];

    private static async Task<ILookup<Guid, HeldGrant>> ReadHeldAsync(UmbrekContext db, Dictionary<Guid, Role> roles, Dictionary<Guid, string> paths, CancellationToken cancel)
    {
        var grants = await db.Grants.AsNoTracking().OrderBy(g => g.Id).ToListAsync(cancel).ConfigureAwait(false);
        var teams = await db.Teams.AsNoTracking().ToDictionaryAsync(t => t.Id, t => t.Name, cancel).ConfigureAwait(false);
        var members = (await db.TeamMembers.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false)).ToLookup(m => m.TeamId, m => m.TechnicianId);
        HeldGrant Held(GrantRow g) => new(g.Id, roles[g.RoleId], g.GroupId is { } group ? paths[group] : null, g.EndsAt, g.TeamId is { } team ? teams[team] : null);
        return grants.SelectMany(g => (g.TechnicianId is { } one ? [one] : members[g.TeamId!.Value]).Select(t => (Technician: t, Grant: Held(g)))).ToLookup(g => g.Technician, g => g.Grant);
    }

    private void Put(Snapshot read)
    {
        var before = now;
        foreach (var (id, seat) in before.Seats)
        {
            // Whoever is not touched keeps what goes on.
            if (read.Seats.TryGetValue(id, out var after) && seat.IsAs(after) && !IsOver(seat))
            {
                read.Seats[id] = seat;
            }
        }
        now = read;
        foreach (var (id, seat) in before.Seats)
        {
            if (!ReferenceEquals(read.Seats.GetValueOrDefault(id), seat))
            {
                seat.Lapse();
            }
        }
        Arm();
    }

    private bool IsOver(Seat seat) => seat.Reach.ValidUntil is { } until && until <= time.GetUtcNow();

    /// <summary>Wakes when the next grant ends.</summary>
    private void Arm()
    {
        next?.Dispose();
        if (now.Seats.Values.Min(s => s.Reach.ValidUntil) is not { } until)
        {
            next = null;
            return;
        }
        var wait = until - time.GetUtcNow();
        next = time.CreateTimer(_ => Renew(), null, wait < TimeSpan.Zero ? TimeSpan.Zero : wait > LongestWait ? LongestWait : wait, Timeout.InfiniteTimeSpan);
    }

    private void Renew()
    {
        turn.Wait();
        try
        {
            var at = time.GetUtcNow();
            Put(now with { Seats = now.Seats.ToDictionary(s => s.Key, s => IsOver(s.Value) ? new Seat(s.Key, s.Value.Name, s.Value.Reach.Held, s.Value.FactorMissing, at) : s.Value) });
        }
        finally
        {
            turn.Release();
        }
    }
}
