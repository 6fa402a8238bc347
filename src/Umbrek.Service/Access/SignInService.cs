using System.Buffers.Text;
using System.Security.Claims;
using System.Security.Cryptography;
using Microsoft.AspNetCore.Authentication;
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

/// <summary>Signing in and out, tokens for scripts, and one's own password.</summary>
public sealed class SignInService(IDatabase database, UserManager<Technician> technicians, SecondFactorService factors, SignIns signIns, Devices devices, PasswordTries tries, DummyPassword dummy, AuditLog audit, TimeProvider time)
{
    private static readonly TimeSpan LongestToken = TimeSpan.FromDays(366);
    private const int MostTokens = 100;

    public async Task<SignInAnswer> SignInAsync(SignInRequest request, HttpContext http, CancellationToken cancel)
    {
        var address = http.Address();
        var technician = await technicians.FindByNameAsync(request.Name ?? "").ConfigureAwait(false);
        if (technician is null)
        {
            // The same work as for a name that exists, so that the time does not tell which names do.
            technicians.PasswordHasher.VerifyHashedPassword(new Technician(), dummy.Hash(technicians.PasswordHasher), request.Password ?? "");
            // What was typed is not kept: people type a password into the wrong field.
            await audit.AddAsync(Nobody(address), "sign-in.refuse", "unknown name", cancel, ("why", "no such technician")).ConfigureAwait(false);
            throw WrongCredentials();
        }
        // Also the code, where one is asked for: it is guessed at as passwords are.
        var (with, remember) = await tries.InTurnAsync(technician.Id, address, async now =>
        {
            if (!await technicians.CheckPasswordAsync(technician, request.Password ?? "").ConfigureAwait(false))
            {
                throw await tries.FailedAsync(now, address, "wrong password", WrongCredentials()).ConfigureAwait(false);
            }
            var proven = ("password", false);
            if (now.TwoFactorEnabled && await devices.IsRememberedAsync(now.Id, http, request.DeviceKey, cancel).ConfigureAwait(false))
            {
                proven = ("password, on a device that is remembered", false);
            }
            else if (now.TwoFactorEnabled)
            {
                if (string.IsNullOrWhiteSpace(request.Code))
                {
                    throw new ProblemException(401, ProblemTypes.SecondFactorAsked, "The password is right. Now the code: the six digits that your authenticator app shows, or a recovery code.");
                }
                proven = (await factors.TakeAsync(now.Id, request.Code, cancel).ConfigureAwait(false)
                    ?? throw await tries.FailedAsync(now, address, "wrong code", factors.Wrong()).ConfigureAwait(false), request.Remember);
            }
            await tries.ForgiveAsync(now).ConfigureAwait(false);
            return proven;
        }, cancel).ConfigureAwait(false);
        return await OpenAsync(technician, request with { Remember = remember }, http, with, cancel).ConfigureAwait(false);
    }

    /// <summary>Ends what the caller signed in with.</summary>
    public async Task SignOutAsync(HttpContext http, Asker by, CancellationToken cancel)
    {
        if (by.SignInId is { } id)
        {
            await signIns.EndAsync(id, by, cancel, "sign-out").ConfigureAwait(false);
        }
        if (http.User.Identity?.AuthenticationType != AccessTokenScheme.Name)
        {
            await http.SignOutAsync(IdentityConstants.ApplicationScheme).ConfigureAwait(false);
        }
    }

    /// <summary>A token for a script. It gives no more than its maker has, and less if he says so.</summary>
    public async Task<TokenAnswer> CreateTokenAsync(NewToken wish, Asker by, CancellationToken cancel)
    {
        var name = Names.Clean(wish.Name, "token's name", out var problem) ?? throw ProblemException.Invalid(problem);
        var now = time.GetUtcNow();
        if (wish.EndsAt <= now || wish.EndsAt > now + LongestToken)
        {
            throw ProblemException.Invalid("A token ends within a year, and not before it begins. Say when.");
        }
        if (wish.Permissions is not { Count: > 0 })
        {
            throw ProblemException.Invalid($"Say what the token is for: {string.Join(", ", PermissionSet.All.List().Select(PermissionWords.Word))}.");
        }
        await tries.ProveAsync(by, wish.Password, cancel).ConfigureAwait(false);
        var set = PermissionSet.Of([.. wish.Permissions]) | Role.Least;
        var secret = RandomNumberGenerator.GetBytes(32);
        var row = NewRow(by.Id, SignInKind.Script, name, by.Address, secret, wish.EndsAt);
        row.Permissions = string.Join(' ', set.List().Select(PermissionWords.Word));
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        if (db.SignIns.Count(s => s.TechnicianId == by.Id && s.Kind == SignInKind.Script && s.ExpiresAt > now) >= MostTokens)
        {
            throw ProblemException.Invalid($"You have {MostTokens} tokens already; end some that nothing uses.");
        }
        db.SignIns.Add(row);
        await audit.AddAsync(db, by, "token.create", name, cancel, ("id", $"{row.Id}"), ("permissions", row.Permissions), ("ends", $"{row.ExpiresAt:O}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return new TokenAnswer(SignIns.ToInfo(row, by.SignInId), Base64Url.EncodeToString(secret));
    }

    /// <summary>Changes the caller's own password; all his other sign-ins end.</summary>
    public async Task<int> ChangePasswordAsync(PasswordChange wish, Asker by, CancellationToken cancel)
    {
        await tries.ProveAsync(by, wish.Password, cancel).ConfigureAwait(false);
        var technician = await technicians.FindByIdAsync($"{by.Id}").ConfigureAwait(false) ?? throw ProblemException.NotFound("technician");
        var result = await technicians.ChangePasswordAsync(technician, wish.Password ?? "", wish.NewPassword ?? "").ConfigureAwait(false);
        if (!result.Succeeded)
        {
            throw ProblemException.Invalid(string.Join(' ', result.Errors.Select(e => e.Description)));
        }
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var ended = await SignIns.EndOthersAsync(db, by.Id, by.SignInId, cancel).ConfigureAwait(false);
        await Devices.AskAgainAsync(db, by.Id, cancel).ConfigureAwait(false);
        await audit.AddAsync(db, by, "password.change", by.Name, cancel, ("ended", $"{ended.Count}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        signIns.Cut(ended);
        return ended.Count;
    }

    /// <summary>Opens a sign-in for somebody who has proven who he is, by whatever way.</summary>
    /// <param name="with">That way, for the audit log.</param>
    public async Task<SignInAnswer> OpenAsync(Technician technician, SignInRequest request, HttpContext http, string with, CancellationToken cancel)
    {
        var cookie = request.Use == SignInUse.Cookie;
        var secret = RandomNumberGenerator.GetBytes(32);
        var device = Names.Clean(request.Device ?? (cookie ? DeviceWords.Of(http.Request.Headers.UserAgent) : "client"), "device", out _) ?? "client";
        var row = NewRow(technician.Id, cookie ? SignInKind.Console : SignInKind.Client, device, http.Address(), secret, time.GetUtcNow() + (cookie ? SignIns.ConsoleLife : SignIns.ClientLife));
        var by = new Caller(technician.UserName ?? "", http.Address());
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var met = await devices.MeetAsync(db, technician.Id, http, request.DeviceKey, cookie, device, request.Remember, cancel).ConfigureAwait(false);
        row.DeviceId = met.Id;
        db.SignIns.Add(row);
        var now = time.GetUtcNow();
        await db.SignIns.Where(s => s.TechnicianId == technician.Id && s.ExpiresAt <= now).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        await audit.AddAsync(db, by, "sign-in", by.Name, cancel, ("with", with), ("kind", SignIns.Word(row.Kind)), ("device", device), ("new-device", met.Confirmed ? null : "yes"), ("id", $"{row.Id}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        var info = new TechnicianInfo(technician.Id, by.Name, [], technician.TwoFactorEnabled);
        if (!cookie)
        {
            return new SignInAnswer(info, Base64Url.EncodeToString(secret), row.ExpiresAt);
        }
        // A new cookie at every sign-in: one that was planted before is worth nothing after.
        var principal = new ClaimsPrincipal(SignIns.Identify(row, by.Name, IdentityConstants.ApplicationScheme));
        await http.SignInAsync(IdentityConstants.ApplicationScheme, principal, new AuthenticationProperties { IsPersistent = false, ExpiresUtc = row.ExpiresAt }).ConfigureAwait(false);
        return new SignInAnswer(info, null, row.ExpiresAt);
    }

    private SignInRow NewRow(Guid technicianId, SignInKind kind, string device, string? address, byte[] secret, DateTimeOffset until) => new()
    {
        Id = Guid.CreateVersion7(),
        TechnicianId = technicianId,
        Kind = kind,
        Sha256 = SHA256.HashData(secret),
        Device = device,
        Address = address,
        CreatedAt = time.GetUtcNow(),
        LastSeenAt = time.GetUtcNow(),
        ExpiresAt = until,
    };

    /// <summary>Somebody who has not proven to be anybody.</summary>
    public static Caller Nobody(string? address) => new("nobody", address);

    private static ProblemException WrongCredentials() => new(401, ProblemTypes.WrongCredentials, "Name or password is wrong.");
}

/// <summary>A hash that no password fits, as costly to check as any other.</summary>
public sealed class DummyPassword
{
    private string? hash;

    public string Hash(IPasswordHasher<Technician> hasher) => hash ??= hasher.HashPassword(new Technician(), Guid.NewGuid().ToString());
}

/// <summary>A browser in two words, from what it says of itself: for a list in which its owner finds it again.</summary>
internal static class DeviceWords
{
    private static readonly (string Sign, string Word)[] Browsers = [("Edg/", "Edge"), ("Firefox/", "Firefox"), ("Chrome/", "Chromium"), ("Safari/", "Safari")];
    private static readonly (string Sign, string Word)[] Systems = [("Android", "Android"), ("iPhone", "iPhone"), ("iPad", "iPad"), ("Windows", "Windows"), ("Mac OS X", "macOS"), ("Linux", "Linux")];

    public static string Of(string? userAgent)
    {
        var said = userAgent ?? "";
        var browser = Browsers.FirstOrDefault(b => said.Contains(b.Sign, StringComparison.Ordinal)).Word ?? "browser";
        var system = Systems.FirstOrDefault(s => said.Contains(s.Sign, StringComparison.Ordinal)).Word;
        return system is null ? browser : $"{browser} on {system}";
    }
}
