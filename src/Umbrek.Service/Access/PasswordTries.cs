using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>
/// Tries at what only the holder of an account knows, wherever they are made: after five wrong ones in a row the account is locked, and
/// each lock-out in a row is twice as long as the one before. Tries at one account are made one after the other, so that none
/// that come at the same time overrun the count.
/// </summary>
public sealed class PasswordTries(IDatabase database, IPasswordHasher<Technician> hasher, AuditLog audit, TimeProvider time) : IDisposable
{
    public const int BeforeLockout = 5;
    private static readonly TimeSpan FirstLockout = TimeSpan.FromMinutes(1);
    private static readonly TimeSpan LongestLockout = TimeSpan.FromHours(1);

    /// <summary>An account has one of these; some share one, and wait for each other a little.</summary>
    private readonly SemaphoreSlim[] turns = [.. Enumerable.Range(0, 64).Select(_ => new SemaphoreSlim(1))];

    /// <summary>One try at a time: what is tried, and how it came out, while nobody else tries.</summary>
    /// <exception cref="ProblemException">429: the account is locked.</exception>
    public async Task<T> InTurnAsync<T>(Guid technicianId, string? address, Func<Technician, Task<T>> attempt, CancellationToken cancel)
    {
        var turn = turns[(uint)technicianId.GetHashCode() % turns.Length];
        await turn.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            await using var db = database.Open();
            var technician = await db.Users.AsNoTracking().FirstOrDefaultAsync(u => u.Id == technicianId, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("technician");
            if (technician.LockoutEnd > time.GetUtcNow())
            {
                await RefusedAsync(technician, address, "locked").ConfigureAwait(false);
                throw Locked(technician.LockoutEnd);
            }
            return await attempt(technician).ConfigureAwait(false);
        }
        finally
        {
            turn.Release();
        }
    }

    public bool Fits(Technician technician, string? password) =>
        hasher.VerifyHashedPassword(technician, technician.PasswordHash ?? "", password ?? "") != PasswordVerificationResult.Failed;

    /// <summary>Somebody who is signed in proves that it is they who sit there.</summary>
    /// <exception cref="ProblemException">403: the password is wrong; 429: the account is locked.</exception>
    public Task ProveAsync(Asker by, string? password, CancellationToken cancel) => InTurnAsync(by.Id, by.Address, async technician =>
    {
        if (string.IsNullOrEmpty(password))
        {
            throw ProblemException.Invalid("Give your own password too: this takes it again.");
        }
        if (!Fits(technician, password))
        {
            await audit.AddAsync(by, "password.refuse", by.Name, CancellationToken.None).ConfigureAwait(false);
            throw await CountAsync(technician, new ProblemException(403, ProblemTypes.WrongCredentials, "The password is wrong. This takes your own password again.")).ConfigureAwait(false);
        }
        await ForgiveAsync(technician).ConfigureAwait(false);
        return true;
    }, cancel);

    /// <summary>A sign-in failed: it is written down and counted.</summary>
    /// <returns>What to answer.</returns>
    public async Task<ProblemException> FailedAsync(Technician technician, string? address, string why, ProblemException problem)
    {
        await RefusedAsync(technician, address, why).ConfigureAwait(false);
        return await CountAsync(technician, problem).ConfigureAwait(false);
    }

    /// <summary>What was wrong before counts no more.</summary>
    public async Task ForgiveAsync(Technician technician)
    {
        if (technician.AccessFailedCount > 0 || technician.Lockouts > 0)
        {
            await using var db = database.Open();
            await db.Users.Where(u => u.Id == technician.Id).ExecuteUpdateAsync(u => u.SetProperty(t => t.AccessFailedCount, 0).SetProperty(t => t.Lockouts, 0)).ConfigureAwait(false);
        }
    }

    public void Dispose() => Array.ForEach(turns, t => t.Dispose());

    /// <summary>Whoever hangs up before the answer has tried all the same.</summary>
    private async Task<ProblemException> CountAsync(Technician technician, ProblemException problem)
    {
        await using var db = database.Open();
        var mine = db.Users.Where(u => u.Id == technician.Id);
        // Counted by the database: nothing else of the account is written.
        await mine.ExecuteUpdateAsync(u => u.SetProperty(t => t.AccessFailedCount, t => t.AccessFailedCount + 1)).ConfigureAwait(false);
        if (await mine.Select(u => u.AccessFailedCount).FirstOrDefaultAsync().ConfigureAwait(false) < BeforeLockout)
        {
            return problem;
        }
        var wait = FirstLockout * Math.Pow(2, Math.Min(technician.Lockouts, 10));
        DateTimeOffset? until = time.GetUtcNow() + (wait < LongestLockout ? wait : LongestLockout);
        await mine.ExecuteUpdateAsync(u => u.SetProperty(t => t.LockoutEnd, until).SetProperty(t => t.Lockouts, t => t.Lockouts + 1).SetProperty(t => t.AccessFailedCount, 0)).ConfigureAwait(false);
        return Locked(until);
    }

    private Task RefusedAsync(Technician technician, string? address, string why) =>
        audit.AddAsync(SignInService.Nobody(address), "sign-in.refuse", technician.UserName ?? "", CancellationToken.None, ("why", why));

    private static ProblemException Locked(DateTimeOffset? until) =>
        new(429, ProblemTypes.TooManyAttempts, $"This account is locked after too many wrong tries, until {until:HH:mm 'UTC'}. Wait, then try again; each time it is longer.");
}
