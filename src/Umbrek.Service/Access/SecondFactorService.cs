using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using QRCoder;
using Umbrek.Core.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>The second factor: an authenticator app (RFC 6238), and recovery codes for the day on which it is lost.</summary>
public sealed class SecondFactorService(IDatabase database, PasswordTries tries, AccessIndex access, SignIns signIns, AuditLog audit, IDataProtectionProvider protection, TimeProvider time)
{
    public const string RequiredSetting = "second-factor-required";
    private readonly IDataProtector protector = protection.CreateProtector("second-factor");

    /// <summary>A new secret, which counts once a code of it was typed.</summary>
    public async Task<SecondFactorOffer> BeginAsync(Asker by, PasswordProof proof, string service, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await ProvenAsync(db, by, proof.Password, cancel).ConfigureAwait(false);
        if (row.TwoFactorEnabled)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "You have a second factor already. Remove it first, then set up another.");
        }
        var secret = RandomNumberGenerator.GetBytes(Totp.SecretBytes);
        row.ProtectedFactor = protector.Protect(Convert.ToBase64String(secret));
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        var uri = Totp.Uri(secret, $"Umbrek at {service}", by.Name);
        var (path, size) = Draw(uri);
        return new SecondFactorOffer(Totp.ToBase32(secret), uri, path, size);
    }

    /// <summary>Puts the offered secret in force.</summary>
    public async Task<RecoveryCodes> ConfirmAsync(Asker by, SecondFactorProof proof, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await db.Users.FirstAsync(u => u.Id == by.Id, cancel).ConfigureAwait(false);
        if (row.TwoFactorEnabled || row.ProtectedFactor is null)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "No second factor is being set up. Begin again.");
        }
        if (Totp.Check(Secret(row), proof.Code ?? "", time.GetUtcNow(), -1) is not { } step)
        {
            throw Wrong(403);
        }
        row.TwoFactorEnabled = true;
        row.FactorStep = step;
        await Devices.AskAgainAsync(db, by.Id, cancel).ConfigureAwait(false);
        var codes = NewCodes(row);
        await audit.AddAsync(db, by, "second-factor.set-up", by.Name, cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
        return codes;
    }

    /// <summary>New recovery codes; the old ones open no more.</summary>
    public async Task<RecoveryCodes> RenewCodesAsync(Asker by, PasswordProof proof, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await ProvenAsync(db, by, proof.Password, cancel).ConfigureAwait(false);
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        if (!row.TwoFactorEnabled)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "You have no second factor, so there is nothing to recover. Set one up first.");
        }
        var codes = NewCodes(row);
        await audit.AddAsync(db, by, "second-factor.new-codes", by.Name, cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return codes;
    }

    /// <summary>Removes the caller's own.</summary>
    public async Task RemoveAsync(Asker by, PasswordProof proof, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await ProvenAsync(db, by, proof.Password, cancel).ConfigureAwait(false);
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        if (row.TwoFactorEnabled && await IsRequiredAsync(db, cancel).ConfigureAwait(false))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "Everybody here needs a second factor, so yours can't go. To change your phone, take a recovery code, have a lead reset it, and set up the new one.");
        }
        Clear(row);
        await audit.AddAsync(db, by, "second-factor.remove", by.Name, cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
    }

    /// <summary>Takes another's away, who has lost it; he is signed out everywhere, and sets up a new one with his password.</summary>
    public async Task ResetAsync(Guid technicianId, Asker by, CancellationToken cancel)
    {
        if (technicianId == by.Id)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "This is for others. Your own you remove with your password.");
        }
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await db.Users.FirstOrDefaultAsync(u => u.Id == technicianId, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("technician");
        Clear(row);
        var ended = await SignIns.EndOthersAsync(db, technicianId, null, cancel).ConfigureAwait(false);
        await Devices.AskAgainAsync(db, technicianId, cancel).ConfigureAwait(false);
        await audit.AddAsync(db, by, "second-factor.reset", row.UserName ?? "", cancel, ("id", $"{technicianId}"), ("ended", $"{ended.Count}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        await access.LoadAsync().ConfigureAwait(false);
        signIns.Cut(ended);
    }

    public async Task<SignInSettings> SettingsAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        return new SignInSettings(await IsRequiredAsync(db, cancel).ConfigureAwait(false));
    }

    /// <summary>Asks everybody for a second factor, or no more. Whoever asks for it has one himself: he must not shut himself out.</summary>
    public async Task<SignInSettings> SetAsync(SignInSettings wish, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        if (wish.SecondFactorRequired && !await db.Users.AnyAsync(u => u.Id == by.Id && u.TwoFactorEnabled, cancel).ConfigureAwait(false))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "Set up a second factor of your own first; otherwise this would shut you out.");
        }
        if (await IsRequiredAsync(db, cancel).ConfigureAwait(false) != wish.SecondFactorRequired)
        {
            await db.Settings.Where(s => s.Name == RequiredSetting).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
            if (wish.SecondFactorRequired)
            {
                db.Settings.Add(new SettingRow { Name = RequiredSetting, Value = "yes" });
            }
            await audit.AddAsync(db, by, "settings.change", "sign-in", cancel, ("second-factor-required", wish.SecondFactorRequired ? "yes" : "no")).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
            await access.LoadAsync().ConfigureAwait(false);
        }
        return wish;
    }

    public static Task<bool> IsRequiredAsync(UmbrekContext db, CancellationToken cancel) => db.Settings.AnyAsync(s => s.Name == RequiredSetting, cancel);

    /// <summary>Takes a code of the app, or a recovery code, and lets it open no second time.</summary>
    /// <returns>What it was, or null for one that does not open.</returns>
    public async Task<string?> TakeAsync(Guid technicianId, string typed, CancellationToken cancel)
    {
        await using var db = database.Open();
        // The row is read and written in one transaction: of two who come with one code at once, one gets in.
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var row = await db.Users.FirstAsync(u => u.Id == technicianId, cancel).ConfigureAwait(false);
        string? taken = null;
        if (Totp.Check(Secret(row), typed, time.GetUtcNow(), row.FactorStep) is { } step)
        {
            row.FactorStep = step;
            taken = "authenticator";
        }
        else
        {
            var hash = Convert.ToBase64String(RecoveryCode.Hash(typed));
            var left = row.RecoveryCodes.Split(' ', StringSplitOptions.RemoveEmptyEntries).ToList();
            if (left.Remove(hash))
            {
                row.RecoveryCodes = string.Join(' ', left);
                taken = $"recovery code, {left.Count} left";
            }
        }
        if (taken is not null)
        {
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        return taken;
    }

    public static int CodesLeft(Technician row) => row.RecoveryCodes.Split(' ', StringSplitOptions.RemoveEmptyEntries).Length;

    /// <summary>A code that does not open. The service's time is told: a phone whose clock is wrong makes codes of another time.</summary>
    public ProblemException Wrong(int status = 401) =>
        new(status, ProblemTypes.WrongCredentials, $"The code does not open. Take the six digits that the app shows now; each opens once. If they are, the clock of your device may be wrong: here it is {time.GetUtcNow().UtcDateTime.ToString("HH:mm:ss", CultureInfo.InvariantCulture)} UTC.");

    private async Task<Technician> ProvenAsync(UmbrekContext db, Asker by, string? password, CancellationToken cancel)
    {
        await tries.ProveAsync(by, password, cancel).ConfigureAwait(false);
        return await db.Users.FirstAsync(u => u.Id == by.Id, cancel).ConfigureAwait(false);
    }

    private byte[] Secret(Technician row) => row.ProtectedFactor is { } kept ? Convert.FromBase64String(protector.Unprotect(kept)) : [];

    private static void Clear(Technician row)
    {
        row.TwoFactorEnabled = false;
        row.ProtectedFactor = null;
        row.FactorStep = -1;
        row.RecoveryCodes = "";
    }

    private static RecoveryCodes NewCodes(Technician row)
    {
        var codes = Enumerable.Range(0, RecoveryCode.Count).Select(_ => RecoveryCode.Generate()).ToList();
        row.RecoveryCodes = string.Join(' ', codes.Select(c => Convert.ToBase64String(RecoveryCode.Hash(c))));
        return new RecoveryCodes(codes);
    }

    private static (string Path, int Size) Draw(string text)
    {
        using var code = QRCodeGenerator.GenerateQrCode(text, QRCodeGenerator.ECCLevel.M);
        var path = new StringBuilder();
        for (var y = 0; y < code.ModuleMatrix.Count; y++)
        {
            for (var x = 0; x < code.ModuleMatrix[y].Count; x++)
            {
                if (code.ModuleMatrix[y][x])
                {
                    path.Append(CultureInfo.InvariantCulture, $"M{x} {y}h1v1h-1z");
                }
            }
        }
        return (path.ToString(), code.ModuleMatrix.Count);
    }
}
