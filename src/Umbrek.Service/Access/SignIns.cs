using System.Collections.Concurrent;
using System.Security.Claims;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>What is signed in: found by its token or its cookie, listed for its owner, and ended.</summary>
public sealed class SignIns(IDatabase database, AuditLog audit, TimeProvider time)
{
    public const string IdClaim = "umbrek-sign-in";
    public const string MayClaim = "umbrek-may";
    public static readonly TimeSpan ConsoleLife = TimeSpan.FromHours(12);
    public static readonly TimeSpan ClientLife = TimeSpan.FromDays(30);

    /// <summary>When it was last used is kept to the minute: a line for each request would tell no more.</summary>
    private static readonly TimeSpan SeenEvery = TimeSpan.FromMinutes(1);

    private readonly ConcurrentDictionary<Guid, CancellationTokenSource> watched = new();

    public Task<SignInRow?> FindAsync(byte[] sha256, CancellationToken cancel) => FindAsync(db => db.SignIns.AsNoTracking().FirstOrDefaultAsync(s => s.Sha256 == sha256, cancel), cancel);

    public Task<SignInRow?> FindAsync(Guid id, CancellationToken cancel) => FindAsync(db => db.SignIns.AsNoTracking().FirstOrDefaultAsync(s => s.Id == id, cancel), cancel);

    /// <summary>Something that is to go on for no longer than a sign-in.</summary>
    /// <returns>Cancelled when the sign-in is ended or has run out.</returns>
    /// <exception cref="ProblemException">401: it has ended already.</exception>
    public async Task<CancellationToken> HoldAsync(Guid? id, CancellationToken cancel)
    {
        if (id is not { } known)
        {
            return CancellationToken.None;
        }
        // First the token, then the look: an end in between cancels it.
        var ended = watched.GetOrAdd(known, _ => new CancellationTokenSource()).Token;
        var now = time.GetUtcNow();
        await using var db = database.Open();
        if (await db.SignIns.AnyAsync(s => s.Id == known && s.ExpiresAt > now, cancel).ConfigureAwait(false))
        {
            return ended;
        }
        Cut([known]);
        throw new ProblemException(401, ProblemTypes.NotSignedIn, "You are not signed in, or your sign-in has ended. Sign in and try again.");
    }

    /// <summary>Ends what rests on sign-ins that have run out.</summary>
    public async Task CutExpiredAsync(CancellationToken cancel)
    {
        var (held, now) = (watched.Keys.ToList(), time.GetUtcNow());
        if (held.Count > 0)
        {
            await using var db = database.Open();
            var good = await db.SignIns.Where(s => held.Contains(s.Id) && s.ExpiresAt > now).Select(s => s.Id).ToListAsync(cancel).ConfigureAwait(false);
            Cut(held.Except(good));
        }
    }

    public static Guid? IdOf(ClaimsPrincipal user) => Guid.TryParse(user.FindFirstValue(IdClaim), out var id) ? id : null;

    /// <summary>The technician's own, last used first.</summary>
    public async Task<List<SignInInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        await using var db = database.Open();
        var rows = await db.SignIns.AsNoTracking().Where(s => s.TechnicianId == by.Id && s.ExpiresAt > now).ToListAsync(cancel).ConfigureAwait(false);
        return [.. rows.OrderByDescending(s => s.LastSeenAt).Select(s => ToInfo(s, by.SignInId))];
    }

    /// <summary>Ends one of the technician's own.</summary>
    public async Task EndAsync(Guid id, Asker by, CancellationToken cancel, string action = "sign-in.end")
    {
        if (by.IsScript && id != by.SignInId)
        {
            throw new ProblemException(403, ProblemTypes.NotAllowed, "A token ends itself and nothing else. Sign in yourself for that.");
        }
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await db.SignIns.FirstOrDefaultAsync(s => s.Id == id && s.TechnicianId == by.Id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("sign-in");
        db.SignIns.Remove(row);
        await audit.AddAsync(db, by, action, by.Name, cancel, ("device", row.Device), ("kind", Word(row.Kind)), ("id", $"{id}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        Cut([id]);
    }

    /// <summary>Ends all of a technician's but one, inside the caller's transaction.</summary>
    /// <returns>To be cut once the transaction is through.</returns>
    public static async Task<List<Guid>> EndOthersAsync(UmbrekContext db, Guid technicianId, Guid? but, CancellationToken cancel)
    {
        var ids = await db.SignIns.Where(s => s.TechnicianId == technicianId && s.Id != but).Select(s => s.Id).ToListAsync(cancel).ConfigureAwait(false);
        await db.SignIns.Where(s => ids.Contains(s.Id)).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        return ids;
    }

    /// <summary>Ends every one of the technician's own but the one that asks.</summary>
    public async Task<int> EndOthersAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var ended = await EndOthersAsync(db, by.Id, by.SignInId, cancel).ConfigureAwait(false);
        await audit.AddAsync(db, by, "sign-in.end-others", by.Name, cancel, ("ended", $"{ended.Count}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        Cut(ended);
        return ended.Count;
    }

    /// <summary>What goes on because of these ends now.</summary>
    public void Cut(IEnumerable<Guid> ids)
    {
        foreach (var id in ids)
        {
            if (watched.TryRemove(id, out var source))
            {
                _ = source.CancelAsync();
            }
        }
    }

    /// <summary>What a request that comes with it may claim.</summary>
    public static ClaimsIdentity Identify(SignInRow row, string name, string scheme)
    {
        var identity = new ClaimsIdentity([new Claim(ClaimTypes.NameIdentifier, $"{row.TechnicianId}"), new Claim(ClaimTypes.Name, name), new Claim(IdClaim, $"{row.Id}")], scheme);
        if (row.Permissions is { } may)
        {
            identity.AddClaim(new Claim(MayClaim, may));
        }
        return identity;
    }

    public static SignInInfo ToInfo(SignInRow s, Guid? here) =>
        new(s.Id, s.Kind, s.Device, s.Address, s.CreatedAt, s.LastSeenAt, s.ExpiresAt, s.Permissions is { } may ? RoleService.Read(may).List() : null, s.Id == here);

    public static string Word(SignInKind kind) => kind.ToString().ToLowerInvariant();

    private async Task<SignInRow?> FindAsync(Func<UmbrekContext, Task<SignInRow?>> find, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        await using var db = database.Open();
        if (await find(db).ConfigureAwait(false) is not { } row || row.ExpiresAt <= now)
        {
            return null;
        }
        if (now - row.LastSeenAt >= SeenEvery)
        {
            await db.SignIns.Where(s => s.Id == row.Id).ExecuteUpdateAsync(s => s.SetProperty(r => r.LastSeenAt, now), cancel).ConfigureAwait(false);
        }
        return row;
    }
}
