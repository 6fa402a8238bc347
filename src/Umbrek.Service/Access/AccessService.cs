using System.Buffers.Text;
using System.Security.Claims;
using System.Security.Cryptography;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Text;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>Technicians: the first one, the others, and how they sign in.</summary>
public sealed class AccessService(IDatabase database, UserManager<Technician> technicians, SignInManager<Technician> signIn, SetUpCode setUp, TimeProvider time)
{
    private static readonly TimeSpan TokenLife = TimeSpan.FromDays(30);

    public async Task<SetUpState> SetUpStateAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        return new SetUpState(!await db.Users.AnyAsync(cancel).ConfigureAwait(false));
    }

    /// <summary>Makes the first technician, for whoever knows the code on the service's terminal.</summary>
    public async Task<TechnicianInfo> SetUpAsync(SetUpRequest request, CancellationToken cancel)
    {
        if (!(await SetUpStateAsync(cancel).ConfigureAwait(false)).Needed)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "This service has its first technician already. Sign in.");
        }
        if (!setUp.Matches(request.Code))
        {
            throw new ProblemException(403, ProblemTypes.WrongCredentials, "The set-up code is wrong. It stands on the terminal on which umbrekd was started; each start makes a new one.");
        }
        return await CreateAsync(request.Name, request.Password).ConfigureAwait(false);
    }

    public async Task<TechnicianInfo> CreateAsync(string name, string password)
    {
        var clean = Names.Clean(name, "name", out var problem) ?? throw ProblemException.Invalid(problem);
        var technician = new Technician { Id = Guid.CreateVersion7(), UserName = clean, CreatedAt = time.GetUtcNow() };
        var result = await technicians.CreateAsync(technician, password).ConfigureAwait(false);
        return result.Succeeded
            ? ToInfo(technician)
            : throw (result.Errors.Any(e => e.Code == nameof(IdentityErrorDescriber.DuplicateUserName))
                ? new ProblemException(409, ProblemTypes.Conflict, $"There is a technician '{clean}' already. Choose another name.")
                : ProblemException.Invalid(string.Join(' ', result.Errors.Select(e => e.Description))));
    }

    public async Task<SignInAnswer> SignInAsync(SignInRequest request, CancellationToken cancel)
    {
        var technician = await technicians.FindByNameAsync(request.Name).ConfigureAwait(false);
        if (technician is null)
        {
            // The same work as for a name that exists, so that the time does not tell which names do.
            signIn.UserManager.PasswordHasher.VerifyHashedPassword(new Technician(), DummyHash.Value, request.Password);
            throw WrongCredentials();
        }
        var result = await signIn.CheckPasswordSignInAsync(technician, request.Password, lockoutOnFailure: true).ConfigureAwait(false);
        if (result.IsLockedOut)
        {
            throw new ProblemException(429, ProblemTypes.TooManyAttempts, "This account is locked for some minutes after too many wrong passwords. Wait, then try again.");
        }
        if (!result.Succeeded)
        {
            throw WrongCredentials();
        }
        if (request.Use == SignInUse.Cookie)
        {
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
        db.AccessTokens.Add(row);
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        return new SignInAnswer(ToInfo(technician), Base64Url.EncodeToString(secret), row.ExpiresAt);
    }

    /// <summary>Ends what the caller signed in with: its cookie, or its token.</summary>
    public async Task SignOutAsync(ClaimsPrincipal caller, CancellationToken cancel)
    {
        if (caller.FindFirstValue(AccessTokenScheme.TokenIdClaim) is { } token && Guid.TryParse(token, out var id))
        {
            await using var db = database.Open();
            await db.AccessTokens.Where(t => t.Id == id).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        }
        else
        {
            await signIn.SignOutAsync().ConfigureAwait(false);
        }
    }

    public async Task<List<TechnicianInfo>> ListAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        return [.. (await db.Users.AsNoTracking().OrderBy(t => t.NormalizedUserName).ToListAsync(cancel).ConfigureAwait(false)).Select(ToInfo)];
    }

    private static TechnicianInfo ToInfo(Technician t) => new(t.Id, t.UserName ?? "", t.Role);

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

public static class TechnicianClaims
{
    public static string TechnicianName(this ClaimsPrincipal caller) => caller.Identity?.Name ?? "";

    public static Guid TechnicianId(this ClaimsPrincipal caller) => Guid.Parse(caller.FindFirstValue(ClaimTypes.NameIdentifier)!);
}
