using System.Text.Json;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.EntityFrameworkCore;
using MimeKit;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>Through which server mail goes out.</summary>
public sealed class MailSetup(IDatabase database, IDataProtectionProvider protection, AuditLog audit)
{
    private const string Setting = "mail";
    private const string PasswordSetting = "mail-password";
    private const int MostText = 200;
    private static readonly MailSettings Nothing = new(null, 587, MailSecurity.StartTls, null, false, null, null, 0);

    private readonly IDataProtector protector = protection.CreateProtector("mail password");

    public async Task<MailSettings> GetAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        return await ReadAsync(db, cancel).ConfigureAwait(false);
    }

    /// <returns>Null when none is kept.</returns>
    public async Task<string?> PasswordAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        return await db.Settings.AsNoTracking().Where(s => s.Name == PasswordSetting).Select(s => s.Value).FirstOrDefaultAsync(cancel).ConfigureAwait(false) is { } kept ? protector.Unprotect(kept) : null;
    }

    public async Task<MailSettings> SetAsync(MailSettingsWish wish, long version, Asker by, CancellationToken cancel)
    {
        var server = Text(wish.Server, "server");
        var from = Text(wish.From, "sender's address");
        var user = Text(wish.User, "user");
        var console = Text(wish.Console, "console's address");
        if (server is not null && (Uri.CheckHostName(server) == UriHostNameType.Unknown || wish.Port is < 1 or > 65535))
        {
            throw ProblemException.Invalid($"'{TerminalText.Line(server)}:{wish.Port}' is no mail server; give a name such as mail.halyard.example, and a port: 587 with STARTTLS, 465 with TLS.");
        }
        if (server is not null && from is null)
        {
            throw ProblemException.Invalid("Say which address the mails come from, for example umbrek@halyard.example.");
        }
        if (from is not null && !IsAddress(from))
        {
            throw ProblemException.Invalid($"'{TerminalText.Line(from)}' is no mail address.");
        }
        if (console is not null && !(Uri.TryCreate(console, UriKind.Absolute, out var address) && address.Scheme is "https" or "http" && address is { Query: "", Fragment: "" }))
        {
            throw ProblemException.Invalid($"'{TerminalText.Line(console)}' is no address of a console; write it like https://umbrek.halyard.example");
        }
        if (!Enum.IsDefined(wish.Security))
        {
            throw ProblemException.Invalid("Mail goes out with start-tls, tls or none.");
        }
        if (user is not null && wish.Security == MailSecurity.None && !IsHere(server))
        {
            throw ProblemException.Invalid("A password would go to the server in clear for everybody to read. Use STARTTLS or TLS, or send without signing in.");
        }
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var before = await ReadAsync(db, cancel).ConfigureAwait(false);
        if (before.Version != version)
        {
            throw new ProblemException(412, ProblemTypes.Changed, "Somebody else changed how mail goes out meanwhile. Read it again and repeat the change if it is still right.");
        }
        // A password that was given for one server is not shown to another.
        if (before.HasPassword && wish.Password is null && user is not null && (before.Server, before.Port) != (server, wish.Port))
        {
            throw ProblemException.Invalid("The kept password belongs to the server before. Give the password for this one.");
        }
        if (wish.Password is not null || user is null)
        {
            await db.Settings.Where(s => s.Name == PasswordSetting).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
            if (wish.Password is { Length: > 0 } password && user is not null)
            {
                db.Settings.Add(new SettingRow { Name = PasswordSetting, Value = protector.Protect(password) });
            }
        }
        var after = new MailSettings(server, wish.Port, wish.Security, user, false, from, console, version + 1);
        await db.Settings.Where(s => s.Name == Setting).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        db.Settings.Add(new SettingRow { Name = Setting, Value = JsonSerializer.Serialize(after, WireJson.Default.MailSettings) });
        await audit.AddAsync(db, by, "settings.change", "mail", cancel, ("server", server is null ? null : $"{server}:{wish.Port}"), ("from", from), ("console", console), ("password", wish.Password is null ? null : "changed")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return await ReadAsync(db, cancel).ConfigureAwait(false);
    }

    /// <summary>A bare address, as it stands between the brackets of a mail's header.</summary>
    public static bool IsAddress(string text) =>
        text.Length <= MostText && !text.Any(c => char.IsWhiteSpace(c) || char.IsControl(c) || c is '<' or '>' or ',' or ';' or '"') && MailboxAddress.TryParse(text, out var parsed) && parsed.Domain.Length > 0 && parsed.LocalPart.Length > 0;

    private static bool IsHere(string? server) => server is "localhost" || (System.Net.IPAddress.TryParse(server, out var address) && System.Net.IPAddress.IsLoopback(address));

    private static async Task<MailSettings> ReadAsync(UmbrekContext db, CancellationToken cancel)
    {
        var kept = await db.Settings.AsNoTracking().Where(s => s.Name == Setting || s.Name == PasswordSetting).ToDictionaryAsync(s => s.Name, s => s.Value, cancel).ConfigureAwait(false);
        return (kept.GetValueOrDefault(Setting) is { } text ? JsonSerializer.Deserialize(text, WireJson.Default.MailSettings)! : Nothing) with { HasPassword = kept.ContainsKey(PasswordSetting) };
    }

    private static string? Text(string? text, string what) =>
        string.IsNullOrWhiteSpace(text) ? null : text.Trim() is { Length: <= MostText } said ? said : throw ProblemException.Invalid($"The {what} has more than {MostText} characters.");
}
