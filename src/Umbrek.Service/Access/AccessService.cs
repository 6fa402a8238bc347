using System.Buffers.Text;
using System.Security.Claims;
using System.Security.Cryptography;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Text;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>Technicians: the first one, the others, and how they sign in.</summary>
public sealed class AccessService(IDatabase database, UmbrekContext accounts, UserManager<Technician> technicians, SignInManager<Technician> signIn, SetUpCode setUp, AccessIndex access, AuditLog audit, TimeProvider time)
{
    private static readonly TimeSpan TokenLife = TimeSpan.FromDays(30);

    public async Task<SetUpState> SetUpStateAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        return new SetUpState(!await db.Users.AnyAsync(cancel).ConfigureAwait(false));
    }

    /// <summary>Makes the first technician, for whoever knows the code on the service's terminal.</summary>
    public async Task<TechnicianInfo> SetUpAsync(SetUpRequest request, string? address, CancellationToken cancel)
    {
        if (!(await SetUpStateAsync(cancel).ConfigureAwait(false)).Needed)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "This service has its first technician already. Sign in.");
        }
        if (!setUp.Matches(request.Code))
        {
            await audit.AddAsync(Nobody(address), "set-up.refuse", "first technician", cancel, ("why", "wrong code")).ConfigureAwait(false);
            throw new ProblemException(403, ProblemTypes.WrongCredentials, "The set-up code is wrong. It stands on the terminal on which umbrekd was started; each start makes a new one.");
        }
        return await CreateAsync(request.Name, request.Password, Role.Lead, new Caller("set-up code", address), cancel).ConfigureAwait(false);
    }

    /// <summary>Adds a technician, who may do nothing yet.</summary>
    public Task<TechnicianInfo> CreateAsync(NewTechnician wish, Asker by, CancellationToken cancel) => CreateAsync(wish.Name, wish.Password, null, by, cancel);

    /// <summary>Removes a technician with his grants and whatever he is signed in with. What he did stays in every record.</summary>
    public async Task RemoveAsync(Guid id, Asker by, CancellationToken cancel)
    {
        var seat = access.Find(id) ?? throw ProblemException.NotFound("technician");
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            await db.Users.Where(u => u.Id == id).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
            await audit.AddAsync(db, by, "technician.remove", seat.Name, cancel, ("id", $"{id}"), ("grants", $"{seat.Reach.Held.Count}")).ConfigureAwait(false);
            await LastLead.KeepAsync(db, cancel).ConfigureAwait(false);
            await transaction.CommitAsync(cancel).ConfigureAwait(false);
        }
        await access.LoadAsync(cancel).ConfigureAwait(false);
    }

    private async Task<TechnicianInfo> CreateAsync(string name, string password, Role? everywhere, Caller by, CancellationToken cancel)
    {
        var clean = Names.Clean(name, "name", out var problem) ?? throw ProblemException.Invalid(problem);
        var technician = new Technician { Id = Guid.CreateVersion7(), UserName = clean, CreatedAt = time.GetUtcNow() };
        // The accounts' own context, so that the account and its line in the audit log are stored together.
        await using var transaction = await accounts.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var result = await technicians.CreateAsync(technician, password).ConfigureAwait(false);
        if (!result.Succeeded)
        {
            throw result.Errors.Any(e => e.Code == nameof(IdentityErrorDescriber.DuplicateUserName))
                ? new ProblemException(409, ProblemTypes.Conflict, $"There is a technician '{clean}' already. Choose another name.")
                : ProblemException.Invalid(string.Join(' ', result.Errors.Select(e => e.Description)));
        }
        await audit.AddAsync(accounts, by, "technician.create", clean, cancel, ("id", $"{technician.Id}")).ConfigureAwait(false);
        if (everywhere is not null)
        {
            var grant = new GrantRow { Id = Guid.CreateVersion7(), TechnicianId = technician.Id, RoleId = everywhere.Id, CreatedAt = technician.CreatedAt, CreatedBy = by.Name };
            accounts.Grants.Add(grant);
            await audit.AddAsync(accounts, by, "grant.create", clean, cancel, ("id", $"{grant.Id}"), ("role", everywhere.Name), ("on", "everything")).ConfigureAwait(false);
        }
        await transaction.CommitAsync(cancel).ConfigureAwait(false);
        await access.LoadAsync(cancel).ConfigureAwait(false);
        return ToInfo(technician);
    }

    public async Task<SignInAnswer> SignInAsync(SignInRequest request, string? address, CancellationToken cancel)
    {
        var technician = await technicians.FindByNameAsync(request.Name).ConfigureAwait(false);
        if (technician is null)
        {
            // The same work as for a name that exists, so that the time does not tell which names do.
            signIn.UserManager.PasswordHasher.VerifyHashedPassword(new Technician(), DummyHash.Value, request.Password);
            // What was typed is not kept: people type a password into the wrong field.
            await audit.AddAsync(Nobody(address), "sign-in.refuse", "unknown name", cancel, ("why", "no such technician")).ConfigureAwait(false);
            throw WrongCredentials();
        }
        var result = await signIn.CheckPasswordSignInAsync(technician, request.Password, lockoutOnFailure: true).ConfigureAwait(false);
        if (!result.Succeeded)
        {
            await audit.AddAsync(Nobody(address), "sign-in.refuse", technician.UserName ?? "", cancel, ("why", result.IsLockedOut ? "locked" : "wrong password")).ConfigureAwait(false);
        }
        if (result.IsLockedOut)
        {
            throw new ProblemException(429, ProblemTypes.TooManyAttempts, "This account is locked for some minutes after too many wrong passwords. Wait, then try again.");
        }
        if (!result.Succeeded)
        {
            throw WrongCredentials();
        }
        var by = new Caller(technician.UserName ?? "", address);
        if (request.Use == SignInUse.Cookie)
        {
            await audit.AddAsync(by, "sign-in", technician.UserName ?? "", cancel, ("with", "console")).ConfigureAwait(false);
            await signIn.SignInAsync(technician, isPersistent: false).ConfigureAwait(false);
            return new SignInAnswer(ToInfo(technician), null, null);
        }
        var secret = RandomNumberGenerator.GetBytes(32);
        var now = time.GetUtcNow();
        var row = new AccessTokenRow
        {
            Id = Guid.CreateVersion7(),
            TechnicianId = technician.Id,
            Sha256 = SHA256.HashData(secret),
            Device = Names.Clean(request.Device ?? "client", "device", out _) ?? "client",
            CreatedAt = now,
            ExpiresAt = now + TokenLife,
        };
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        db.AccessTokens.Add(row);
        await audit.AddAsync(db, by, "sign-in", technician.UserName ?? "", cancel, ("with", "token"), ("device", row.Device), ("token", $"{row.Id}")).ConfigureAwait(false);
        await transaction.CommitAsync(cancel).ConfigureAwait(false);
        return new SignInAnswer(ToInfo(technician), Base64Url.EncodeToString(secret), row.ExpiresAt);
    }

    /// <summary>Ends what the caller signed in with: its cookie, or its token.</summary>
    public async Task SignOutAsync(ClaimsPrincipal caller, Caller by, CancellationToken cancel)
    {
        if (caller.FindFirstValue(AccessTokenScheme.TokenIdClaim) is { } token && Guid.TryParse(token, out var id))
        {
            await using var db = database.Open();
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            await db.AccessTokens.Where(t => t.Id == id).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
            await audit.AddAsync(db, by, "sign-out", by.Name, cancel, ("with", "token"), ("token", token)).ConfigureAwait(false);
            await transaction.CommitAsync(cancel).ConfigureAwait(false);
        }
        else
        {
            await audit.AddAsync(by, "sign-out", by.Name, cancel, ("with", "console")).ConfigureAwait(false);
            await signIn.SignOutAsync().ConfigureAwait(false);
        }
    }

    public async Task<List<TechnicianInfo>> ListAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        var people = await db.Users.AsNoTracking().OrderBy(t => t.NormalizedUserName).ToListAsync(cancel).ConfigureAwait(false);
        var teams = (await db.TeamMembers.AsNoTracking().Join(db.Teams, m => m.TeamId, t => t.Id, (m, t) => new { m.TechnicianId, t.Name }).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(m => m.TechnicianId, m => m.Name);
        return [.. people.Select(t => new TechnicianInfo(t.Id, t.UserName ?? "", [.. teams[t.Id].Order(StringComparer.OrdinalIgnoreCase)]))];
    }

    private static TechnicianInfo ToInfo(Technician t) => new(t.Id, t.UserName ?? "", []);

    /// <summary>Somebody who has not proven to be anybody.</summary>
    private static Caller Nobody(string? address) => new("nobody", address);

    private static ProblemException WrongCredentials() => new(401, ProblemTypes.WrongCredentials, "Name or password is wrong.");

    private static readonly Lazy<string> DummyHash = new(() => new PasswordHasher<Technician>().HashPassword(new Technician(), Guid.NewGuid().ToString()));
}

/// <summary>The one-time code for the first technician; it lives as long as this start of the service.</summary>
public sealed class SetUpCode
{
    // Without 0/O, 1/I/L: it is read from one screen and typed at another.
    private const string Letters = "ABCDEFGHJKMNPQRSTUVWXYZ23456789";

    public string Text { get; } = $"{RandomNumberGenerator.GetString(Letters, 4)}-{RandomNumberGenerator.GetString(Letters, 4)}-{RandomNumberGenerator.GetString(Letters, 4)}";

    public bool Matches(string typed) => CryptographicOperations.FixedTimeEquals(Bytes(typed), Bytes(Text));

    private static byte[] Bytes(string text) => System.Text.Encoding.UTF8.GetBytes(new string([.. text.Where(char.IsLetterOrDigit)]).ToUpperInvariant());
}

