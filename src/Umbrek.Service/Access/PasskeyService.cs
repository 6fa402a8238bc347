using System.Buffers.Text;
using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text.Json;
using Microsoft.AspNetCore.Identity;
using Umbrek.Core.Text;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>What a ceremony began with, until it ends: each is good once, for five minutes.</summary>
public sealed class PasskeyCeremonies(TimeProvider time)
{
    private const int Most = 10_000;
    private static readonly TimeSpan Life = TimeSpan.FromMinutes(5);
    private readonly ConcurrentDictionary<string, (string? State, DateTimeOffset Until)> begun = new();

    public string Keep(string? state)
    {
        var now = time.GetUtcNow();
        if (begun.Count >= Most)
        {
            foreach (var old in begun.Where(b => b.Value.Until < now))
            {
                begun.TryRemove(old);
            }
        }
        if (begun.Count >= Most)
        {
            throw new ProblemException(429, ProblemTypes.TooManyAttempts, "Too many sign-ins are begun at once. Wait some minutes, or sign in with a password.");
        }
        var id = Base64Url.EncodeToString(RandomNumberGenerator.GetBytes(24));
        begun[id] = (state, now + Life);
        return id;
    }

    /// <exception cref="ProblemException">It was never begun, has ended, or took too long.</exception>
    public string? Take(string? id) => id is not null && begun.TryRemove(id, out var kept) && kept.Until > time.GetUtcNow() ? kept.State
        : throw new ProblemException(409, ProblemTypes.Conflict, "This took too long, or was done already. Begin again.");
}

/// <summary>Passkeys (WebAuthn Level 3) as ASP.NET Core Identity checks them: a device proves itself and who holds it, with nothing to type or to steal.</summary>
public sealed class PasskeyService(UserManager<Technician> technicians, IPasskeyHandler<Technician> handler, PasskeyCeremonies ceremonies, SignInService signIn, PasswordTries tries, AuditLog audit)
{
    private const int Most = 20;

    public async Task<PasskeyCeremony> BeginAddAsync(Asker by, PasswordProof proof, HttpContext http, CancellationToken cancel)
    {
        await tries.ProveAsync(by, proof.Password, cancel).ConfigureAwait(false);
        var begun = await handler.MakeCreationOptionsAsync(new PasskeyUserEntity { Id = $"{by.Id}", Name = by.Name, DisplayName = by.Name }, http).ConfigureAwait(false);
        return new PasskeyCeremony(ceremonies.Keep(begun.AttestationState), Read(begun.CreationOptionsJson));
    }

    public async Task<PasskeyInfo> AddAsync(Asker by, NewPasskey wish, HttpContext http, CancellationToken cancel)
    {
        var name = Names.Clean(wish.Name, "passkey's name", out var problem) ?? throw ProblemException.Invalid(problem);
        var technician = await FindAsync(by).ConfigureAwait(false);
        var made = await handler.PerformAttestationAsync(new PasskeyAttestationContext { HttpContext = http, CredentialJson = wish.Credential.GetRawText(), AttestationState = ceremonies.Take(wish.Ceremony) }).ConfigureAwait(false);
        if (!made.Succeeded || made.UserEntity.Id != $"{by.Id}")
        {
            throw ProblemException.Invalid($"The device's passkey can't be taken: {made.Failure?.Message ?? "it is another's"}");
        }
        if ((await technicians.GetPasskeysAsync(technician).ConfigureAwait(false)).Count >= Most)
        {
            throw ProblemException.Invalid($"You have {Most} passkeys already; remove some that you don't use.");
        }
        made.Passkey.Name = name;
        var kept = await technicians.AddOrUpdatePasskeyAsync(technician, made.Passkey).ConfigureAwait(false);
        if (!kept.Succeeded)
        {
            throw ProblemException.Invalid(string.Join(' ', kept.Errors.Select(e => e.Description)));
        }
        await audit.AddAsync(by, "passkey.add", by.Name, cancel, ("name", name)).ConfigureAwait(false);
        return ToInfo(made.Passkey);
    }

    public async Task<List<PasskeyInfo>> ListAsync(Asker by) =>
        [.. (await technicians.GetPasskeysAsync(await FindAsync(by).ConfigureAwait(false)).ConfigureAwait(false)).OrderBy(p => p.CreatedAt).Select(ToInfo)];

    public async Task RemoveAsync(Asker by, string id, CancellationToken cancel)
    {
        var technician = await FindAsync(by).ConfigureAwait(false);
        var all = await technicians.GetPasskeysAsync(technician).ConfigureAwait(false);
        var found = all.FirstOrDefault(p => Base64Url.EncodeToString(p.CredentialId) == id) ?? throw ProblemException.NotFound("passkey");
        await technicians.RemovePasskeyAsync(technician, found.CredentialId).ConfigureAwait(false);
        await audit.AddAsync(by, "passkey.remove", by.Name, cancel, ("name", found.Name)).ConfigureAwait(false);
    }

    /// <summary>For whoever holds a passkey of anybody's; which one he has, his device knows.</summary>
    public async Task<PasskeyCeremony> BeginSignInAsync(HttpContext http)
    {
        var begun = await handler.MakeRequestOptionsAsync(null, http).ConfigureAwait(false);
        return new PasskeyCeremony(ceremonies.Keep(begun.AssertionState), Read(begun.RequestOptionsJson));
    }

    public async Task<SignInAnswer> SignInAsync(PasskeyProof proof, HttpContext http, CancellationToken cancel)
    {
        var result = await handler.PerformAssertionAsync(new PasskeyAssertionContext { HttpContext = http, CredentialJson = proof.Credential.GetRawText(), AssertionState = ceremonies.Take(proof.Ceremony) }).ConfigureAwait(false);
        // A passkey that was used without its holder being verified is one factor, and no password comes with it.
        if (!result.Succeeded || !result.Passkey.IsUserVerified)
        {
            await audit.AddAsync(SignInService.Nobody(http.Address()), "sign-in.refuse", result.User?.UserName ?? "unknown passkey", cancel, ("why", "passkey")).ConfigureAwait(false);
            throw new ProblemException(401, ProblemTypes.WrongCredentials, "This passkey opens nothing here, or was not unlocked. Sign in with your password.");
        }
        await technicians.AddOrUpdatePasskeyAsync(result.User, result.Passkey).ConfigureAwait(false);
        return await signIn.OpenAsync(result.User, new SignInRequest(result.User.UserName ?? "", "", SignInUse.Cookie), http, $"passkey {result.Passkey.Name}", cancel).ConfigureAwait(false);
    }

    private async Task<Technician> FindAsync(Asker by)
    {
        if (by.IsScript)
        {
            throw new ProblemException(403, ProblemTypes.NotAllowed, "A token has no passkeys. Sign in yourself for that.");
        }
        return await technicians.FindByIdAsync($"{by.Id}").ConfigureAwait(false) ?? throw ProblemException.NotFound("technician");
    }

    private static PasskeyInfo ToInfo(UserPasskeyInfo p) => new(Base64Url.EncodeToString(p.CredentialId), p.Name ?? "passkey", p.CreatedAt, p.IsBackedUp);

    private static JsonElement Read(string json)
    {
        using var document = JsonDocument.Parse(json);
        return document.RootElement.Clone();
    }
}
