using System.Linq.Expressions;
using System.Security.Cryptography;
using System.Text;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Text;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Access;

/// <summary>
/// Secrets of hosts and groups. To use one and to see it are two permissions; what it was used for, and why it was seen, stands in the
/// audit log before it leaves the vault.
/// </summary>
public sealed class VaultService(IDatabase database, Vault vault, Gate gate, AccessIndex access, EstateIndex estate, AuditLog audit, TimeProvider time)
{
    private const int MostText = 4096;
    private const int MostReason = 500;
    private const int FewestReason = 3;

    public async Task<VaultState> StateAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        return new VaultState(await db.Secrets.CountAsync(cancel).ConfigureAwait(false), await db.SecretTexts.CountAsync(cancel).ConfigureAwait(false), vault.KeyMadeAt);
    }

    /// <summary>Newest first: at places where one may use secrets or see them.</summary>
    public async Task<Page<SecretInfo>> ListAsync(Guid? hostId, Guid? groupId, string? cursor, int? limit, Asker by, CancellationToken cancel)
    {
        var size = Paging.Size(limit);
        var before = string.IsNullOrEmpty(cursor) ? (Guid?)null : Paging.ReadCursor(cursor);
        var (use, reveal) = (access.GroupsWith(by.Reach, Permission.UseSecrets), access.GroupsWith(by.Reach, Permission.RevealSecrets));
        var allowed = use is null || reveal is null ? null : use.Union(reveal).ToList();
        await using var db = database.Open();
        // What waits to be let in is no host yet, and its secrets are nobody's.
        var all = db.Secrets.AsNoTracking().Where(s => s.GroupId != null || db.Hosts.Any(h => h.Id == s.HostId)).Where(s => (hostId == null || s.HostId == hostId) && (groupId == null || s.GroupId == groupId));
        if (allowed is not null)
        {
            all = all.Where(s => (s.GroupId != null && allowed.Contains(s.GroupId.Value)) || db.Hosts.Any(h => h.Id == s.HostId && allowed.Contains(h.GroupId)));
        }
        var total = await all.CountAsync(cancel).ConfigureAwait(false);
        var rows = await all.Where(Before(before)).OrderByDescending(s => s.Id).Take(size).ToListAsync(cancel).ConfigureAwait(false);
        return new Page<SecretInfo>([.. rows.Select(ToInfo).OfType<SecretInfo>()], rows.Count == size ? $"{rows[^1].Id}" : null, total);
    }

    public async Task<SecretDetail> GetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var (row, info) = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        var texts = await db.SecretTexts.AsNoTracking().Where(t => t.SecretId == id).OrderByDescending(t => t.Number).Select(t => new { t.Number, t.CreatedAt, t.CreatedBy, t.IsProposed }).ToListAsync(cancel).ConfigureAwait(false);
        return new SecretDetail(info, [.. texts.Select(t => new SecretVersionInfo(t.Number, t.CreatedAt, t.CreatedBy, t.Number == row.Number, t.IsProposed))]);
    }

    public async Task<SecretInfo> AddAsync(NewSecret wish, Asker by, CancellationToken cancel)
    {
        var (path, place) = Place(wish.HostId, wish.GroupId, by);
        var name = wish.Kind == SecretKind.AccessKey && string.IsNullOrWhiteSpace(wish.Name) ? "" : Names.Clean(wish.Name, "name of the secret", out var problem) ?? throw ProblemException.Invalid(problem);
        if (wish.Kind == SecretKind.AccessKey && wish.HostId is null)
        {
            throw ProblemException.Invalid("An access key belongs to one host; say which.");
        }
        var text = Check(wish.Kind, wish.Secret);
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var word = Word(wish.Kind);
        if (wish.Kind == SecretKind.AccessKey && await db.Secrets.AnyAsync(s => s.HostId == wish.HostId && s.Kind == word, cancel).ConfigureAwait(false))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"The vault has an access key of {place} already. Change that one: what it was before is kept.");
        }
        var row = await AddAsync(db, wish with { Name = name }, text, by.Name, cancel).ConfigureAwait(false);
        await audit.AddAsync(db, by, "secret.add", place, cancel, ("id", $"{row.Id}"), ("kind", word), ("name", Said(name)), ("user", row.UserName)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return ToInfo(row)!;
    }

    public async Task<SecretInfo> ChangeAsync(Guid id, SecretChange change, long version, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var (row, info) = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        gate.Place(by, info.GroupPath, Permission.Configure);
        if (row.Version != version)
        {
            throw new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed this secret of {info.Place} meanwhile. Read it again and repeat the change if it is still right.");
        }
        if (change.Name is not null)
        {
            row.Name = Names.Clean(change.Name, "name of the secret", out var problem) ?? throw ProblemException.Invalid(problem);
        }
        row.UserName = change.UserName is null ? row.UserName : UserName(change.UserName);
        row.Note = change.Note is null ? row.Note : Note(change.Note);
        if (change.Secret is not null)
        {
            var text = Check(info.Kind, change.Secret);
            row.Number = await NextNumberAsync(db, id, cancel).ConfigureAwait(false);
            db.SecretTexts.Add(vault.Seal(id, row.Number, text, time.GetUtcNow(), by.Name));
            CryptographicOperations.ZeroMemory(text);
        }
        Touch(row, by.Name);
        await audit.AddAsync(db, by, "secret.change", info.Place, cancel, ("id", $"{id}"), ("kind", row.Kind), ("name", Said(row.Name)), ("user", row.UserName), ("number", change.Secret is null ? null : $"{row.Number}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return ToInfo(row)!;
    }

    public async Task RemoveAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var (row, info) = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        gate.Place(by, info.GroupPath, Permission.Administer);
        db.Secrets.Remove(row);
        await audit.AddAsync(db, by, "secret.remove", info.Place, cancel, ("id", $"{id}"), ("kind", row.Kind), ("name", Said(row.Name)), ("texts", $"{await db.SecretTexts.CountAsync(t => t.SecretId == id, cancel).ConfigureAwait(false)}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
    }

    /// <summary>Shows a text, once, to whoever says why; that stands in the audit log before he has it.</summary>
    public async Task<RevealedSecret> RevealAsync(Guid id, RevealRequest wish, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var (row, info) = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        gate.Place(by, info.GroupPath, Permission.RevealSecrets);
        var reason = wish.Reason?.Trim() ?? "";
        if (reason.Length is < FewestReason or > MostReason)
        {
            throw ProblemException.Invalid($"Say why it has to be seen, in {FewestReason} to {MostReason} characters; the reason stands in the audit log.");
        }
        var number = wish.Number ?? row.Number;
        var text = await db.SecretTexts.AsNoTracking().FirstOrDefaultAsync(t => t.SecretId == id && t.Number == number, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("version of the secret");
        await audit.AddAsync(db, by, "secret.reveal", info.Place, cancel, ("id", $"{id}"), ("kind", row.Kind), ("name", Said(row.Name)), ("number", $"{number}"), ("why", reason)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        var plain = vault.Open(text);
        var revealed = new RevealedSecret(Encoding.UTF8.GetString(plain), row.UserName, number);
        CryptographicOperations.ZeroMemory(plain);
        return revealed;
    }

    public async Task<VaultState> RotateKeyAsync(Asker by, CancellationToken cancel)
    {
        var count = await vault.RotateAsync(cancel).ConfigureAwait(false);
        await audit.AddAsync(by, "vault.rotate-key", "the vault", cancel, ("texts", $"{count}")).ConfigureAwait(false);
        return await StateAsync(cancel).ConfigureAwait(false);
    }

    /// <summary>Everything, encrypted under a passphrase.</summary>
    public async Task<VaultBackup> BackUpAsync(VaultBackupRequest wish, Asker by, CancellationToken cancel)
    {
        gate.Everywhere(by, Permission.RevealSecrets);
        var saved = new List<SavedSecret>();
        await using var db = database.Open();
        var texts = (await db.SecretTexts.AsNoTracking().Where(t => !t.IsProposed).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(t => t.SecretId);
        foreach (var row in await db.Secrets.AsNoTracking().OrderBy(s => s.Id).ToListAsync(cancel).ConfigureAwait(false))
        {
            if (ToInfo(row) is { } info)
            {
                // Last stands the one that counts.
                saved.Add(new SavedSecret(info.Kind, info.Name, info.UserName, info.Note, info.HostId, info.HostId is null ? null : info.Place, info.GroupPath,
                    [.. texts[row.Id].OrderBy(t => t.Number == row.Number).ThenBy(t => t.Number).Select(t => new SavedText(Encoding.UTF8.GetString(vault.Open(t)), t.CreatedAt, t.CreatedBy))]));
            }
        }
        var backup = VaultBackups.Make(saved, wish.Passphrase ?? "");
        await audit.AddAsync(by, "vault.backup", "the vault", cancel, ("secrets", $"{saved.Count}")).ConfigureAwait(false);
        return backup;
    }

    /// <summary>Puts back what is missing; what is there stays as it is.</summary>
    public async Task<VaultRestored> RestoreAsync(VaultRestore wish, Asker by, CancellationToken cancel)
    {
        gate.Everywhere(by, Permission.RevealSecrets);
        var saved = VaultBackups.Read(wish.Backup, wish.Passphrase ?? "");
        var (restored, kept, left) = (0, 0, new List<string>());
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var groups = await db.Groups.AsNoTracking().ToDictionaryAsync(g => g.PathKey, g => g.Id, cancel).ConfigureAwait(false);
        foreach (var secret in saved)
        {
            var group = groups.TryGetValue(Core.Estate.Wildcard.Fold(secret.GroupPath), out var found) ? found : (Guid?)null;
            var host = secret.HostId is null ? null : estate.Find(secret.HostId.Value) ?? estate.All.FirstOrDefault(h => h.Label == secret.HostLabel && h.GroupPath == secret.GroupPath);
            if (secret.HostId is not null ? host is null : group is null)
            {
                left.Add($"{secret.HostLabel ?? secret.GroupPath} in {secret.GroupPath}");
                continue;
            }
            var (hostId, groupId, kind) = (host?.Id, host is null ? group : null, Word(secret.Kind));
            if (await db.Secrets.AnyAsync(s => s.HostId == hostId && s.GroupId == groupId && s.Kind == kind && s.Name == secret.Name, cancel).ConfigureAwait(false))
            {
                kept++;
                continue;
            }
            var now = time.GetUtcNow();
            var row = new SecretRow { Id = Guid.CreateVersion7(now), HostId = hostId, GroupId = groupId, Kind = kind, Name = secret.Name, UserName = secret.UserName, Note = secret.Note, Number = secret.Texts.Count, CreatedAt = now, CreatedBy = by.Name };
            Touch(row, by.Name);
            db.Secrets.Add(row);
            foreach (var (number, text) in secret.Texts.Index())
            {
                db.SecretTexts.Add(vault.Seal(row.Id, number + 1, Encoding.UTF8.GetBytes(text.Secret), text.CreatedAt, text.CreatedBy));
            }
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
            restored++;
        }
        await audit.AddAsync(db, by, "vault.restore", "the vault", cancel, ("restored", $"{restored}"), ("kept", $"{kept}"), ("left-out", $"{left.Count}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return new VaultRestored(restored, kept, left);
    }

    /// <summary>A secret that a host has made, inside the transaction of its enrolment.</summary>
    public Task AddOfHostAsync(UmbrekContext db, Guid hostId, string key, string systemName, CancellationToken cancel) =>
        AddAsync(db, new NewSecret(SecretKind.AccessKey, key, HostId: hostId, Name: ""), Check(SecretKind.AccessKey, key), $"host {systemName}", cancel);

    /// <summary>The texts with which a host's access key can be proven, likeliest first; empty when the vault has none.</summary>
    /// <returns>Texts in UTF-8; whoever has them wipes them.</returns>
    public async Task<(SecretRow? Row, List<(int Number, byte[] Text)> Texts)> KeyOfAsync(UmbrekContext db, Guid hostId, CancellationToken cancel)
    {
        var word = Word(SecretKind.AccessKey);
        // Two entries that were merged may have brought one each: the later counts.
        if (await db.Secrets.Where(s => s.HostId == hostId && s.Kind == word).OrderByDescending(s => s.ChangedAt).FirstOrDefaultAsync(cancel).ConfigureAwait(false) is not { } row)
        {
            return (null, []);
        }
        var texts = await db.SecretTexts.AsNoTracking().Where(t => t.SecretId == row.Id && (t.Number == row.Number || t.IsProposed)).OrderByDescending(t => t.Number).ToListAsync(cancel).ConfigureAwait(false);
        return (row, texts.ConvertAll(t => (t.Number, vault.Open(t))));
    }

    /// <summary>Whether the vault has the host's access key.</summary>
    public async Task<bool> HasKeyAsync(Guid hostId, CancellationToken cancel)
    {
        var word = Word(SecretKind.AccessKey);
        await using var db = database.Open();
        return await db.Secrets.AnyAsync(s => s.HostId == hostId && s.Kind == word, cancel).ConfigureAwait(false);
    }

    /// <summary>Keeps a key before its host has it: whatever breaks on the way, it is not lost.</summary>
    /// <returns>Its number.</returns>
    public async Task<(Guid SecretId, int Number)> ProposeAsync(UmbrekContext db, SecretRow? row, Guid hostId, ReadOnlyMemory<byte> key, string by, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        if (row is null)
        {
            row = new SecretRow { Id = Guid.CreateVersion7(now), HostId = hostId, Kind = Word(SecretKind.AccessKey), CreatedAt = now, CreatedBy = by };
            Touch(row, by);
            db.Secrets.Add(row);
        }
        var number = await NextNumberAsync(db, row.Id, cancel).ConfigureAwait(false);
        var text = vault.Seal(row.Id, number, key.Span, now, by);
        text.IsProposed = true;
        db.SecretTexts.Add(text);
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        return (row.Id, number);
    }

    /// <summary>The host has it: from now on it counts, and what was proposed before is out of the question.</summary>
    public async Task CountAsync(UmbrekContext db, Guid secretId, int number, string by, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        await db.SecretTexts.Where(t => t.SecretId == secretId && t.IsProposed && t.Number < number).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        await db.SecretTexts.Where(t => t.SecretId == secretId && t.Number == number).ExecuteUpdateAsync(t => t.SetProperty(r => r.IsProposed, false), cancel).ConfigureAwait(false);
        await db.Secrets.Where(s => s.Id == secretId).ExecuteUpdateAsync(s => s.SetProperty(r => r.Number, number).SetProperty(r => r.ChangedAt, now).SetProperty(r => r.ChangedBy, by).SetProperty(r => r.Version, r => r.Version + 1), cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
    }

    /// <summary>The host was never told: the proposal is as if it had not been made.</summary>
    public static async Task WithdrawAsync(UmbrekContext db, Guid secretId, int number, CancellationToken cancel)
    {
        await db.SecretTexts.Where(t => t.SecretId == secretId && t.Number == number && t.IsProposed).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
        await db.Secrets.Where(s => s.Id == secretId && s.Number == 0 && !db.SecretTexts.Any(t => t.SecretId == secretId)).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
    }

    public static string Word(SecretKind kind) => kind == SecretKind.AccessKey ? "access-key" : "logon";

    private async Task<SecretRow> AddAsync(UmbrekContext db, NewSecret wish, byte[] text, string by, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        var row = new SecretRow
        {
            Id = Guid.CreateVersion7(now),
            HostId = wish.HostId,
            GroupId = wish.GroupId,
            Kind = Word(wish.Kind),
            Name = wish.Name ?? "",
            UserName = UserName(wish.UserName),
            Note = Note(wish.Note),
            Number = 1,
            CreatedAt = now,
            CreatedBy = by,
        };
        Touch(row, by);
        db.Secrets.Add(row);
        db.SecretTexts.Add(vault.Seal(row.Id, 1, text, now, by));
        CryptographicOperations.ZeroMemory(text);
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        return row;
    }

    /// <summary>Logons of a host, and of the groups that it is in, which the caller may use.</summary>
    public async Task<List<SecretInfo>> LogonsAsync(HostSummary host, Asker by, CancellationToken cancel)
    {
        var word = Word(SecretKind.Logon);
        await using var db = database.Open();
        var rows = await db.Secrets.AsNoTracking().Where(s => s.Kind == word && (s.HostId == host.Id || s.GroupId != null)).ToListAsync(cancel).ConfigureAwait(false);
        return [.. rows.Select(ToInfo).OfType<SecretInfo>()
            .Where(s => (s.HostId is not null || host.GroupPath == s.GroupPath || host.GroupPath.StartsWith(s.GroupPath + "/", StringComparison.Ordinal)) && by.Reach.May(Permission.UseSecrets, s.GroupPath))
            .OrderBy(s => s.HostId is null).ThenByDescending(s => s.GroupPath.Length).ThenBy(s => s.Name, StringComparer.OrdinalIgnoreCase)];
    }

    /// <summary>The text of a logon that the caller may use at a host; that he does stands in the audit log before it leaves the vault.</summary>
    /// <returns>Its text in UTF-8; whoever has it wipes it.</returns>
    public async Task<(SecretInfo Info, byte[] Text)> UseLogonAsync(Guid id, HostSummary host, string what, Asker by, CancellationToken cancel)
    {
        var info = (await LogonsAsync(host, by, cancel).ConfigureAwait(false)).Find(s => s.Id == id) ?? throw ProblemException.NotFound("logon");
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var text = await db.SecretTexts.AsNoTracking().FirstAsync(t => t.SecretId == id && t.Number == info.Number, cancel).ConfigureAwait(false);
        await audit.AddAsync(db, by, "secret.use", $"{host.Label} in {host.GroupPath}", cancel, ("id", $"{id}"), ("name", Said(info.Name)), ("of", info.Place), ("for", what)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return (info, vault.Open(text));
    }

    private static string? Said(string name) => name.Length == 0 ? null : name;

    private void Touch(SecretRow row, string by) => (row.ChangedAt, row.ChangedBy, row.Version) = (time.GetUtcNow(), by, row.Version + 1);

    private static async Task<int> NextNumberAsync(UmbrekContext db, Guid id, CancellationToken cancel) =>
        (await db.SecretTexts.Where(t => t.SecretId == id).MaxAsync(t => (int?)t.Number, cancel).ConfigureAwait(false) ?? 0) + 1;

    private static Expression<Func<SecretRow, bool>> Before(Guid? id) => id is { } before ? s => s.Id.CompareTo(before) < 0 : s => true;

    /// <summary>Where a secret is to stand: at one host or one group.</summary>
    private (string Path, string Place) Place(Guid? hostId, Guid? groupId, Asker by)
    {
        if (hostId is null == groupId is null)
        {
            throw ProblemException.Invalid("A secret stands at a host or at a group; name one of them.");
        }
        if (hostId is { } host)
        {
            var found = gate.Host(by, host, Permission.Configure);
            return (found.GroupPath, found.Label);
        }
        var path = gate.Group(by, groupId!.Value, Permission.Configure);
        return (path, path);
    }

    /// <exception cref="ProblemException">404 where one may neither use secrets nor see them.</exception>
    private async Task<(SecretRow Row, SecretInfo Info)> FindAsync(UmbrekContext db, Guid id, Asker by, CancellationToken cancel)
    {
        var row = await db.Secrets.FirstOrDefaultAsync(s => s.Id == id, cancel).ConfigureAwait(false);
        return row is not null && ToInfo(row) is { } info && (by.Reach.At(info.GroupPath) & PermissionSet.Of(Permission.UseSecrets, Permission.RevealSecrets)) != PermissionSet.None
            ? (row, info)
            : throw ProblemException.NotFound("secret");
    }

    private SecretInfo? ToInfo(SecretRow row)
    {
        var host = row.HostId is { } hostId ? estate.Find(hostId) : null;
        var path = host?.GroupPath ?? (row.GroupId is { } groupId ? access.PathOf(groupId) : null);
        return path is null ? null : new SecretInfo(
            row.Id, row.Kind == Word(SecretKind.AccessKey) ? SecretKind.AccessKey : SecretKind.Logon, row.Name, row.UserName, row.HostId, row.GroupId, host?.Label ?? path, path, row.Note,
            row.Number, row.CreatedAt, row.CreatedBy, row.ChangedAt, row.ChangedBy, row.Version);
    }

    private static byte[] Check(SecretKind kind, string? secret)
    {
        if (string.IsNullOrEmpty(secret))
        {
            throw ProblemException.Invalid("The secret is empty.");
        }
        if (secret.Length > MostText)
        {
            throw ProblemException.Invalid($"The secret has {secret.Length} characters; {MostText} is the most.");
        }
        return kind == SecretKind.AccessKey && AccessKey.Check(secret) is { } weak ? throw ProblemException.Invalid(weak) : Encoding.UTF8.GetBytes(secret);
    }

    private static string? UserName(string? typed) => Optional(typed, "user name");

    private static string? Note(string? typed) => Optional(typed, "note");

    private static string? Optional(string? typed, string what) =>
        string.IsNullOrWhiteSpace(typed) ? null : Names.Clean(typed, what, out var problem) ?? throw ProblemException.Invalid(problem);
}
