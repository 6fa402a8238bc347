using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Access;

/// <summary>
/// Encrypts what the vault keeps, with keys of its own that lie in the database encrypted under the service's data protection. Texts
/// leave it as bytes, so that whoever has one can wipe it.
/// </summary>
public sealed class Vault(IDatabase database, IDataProtectionProvider protection, TimeProvider time) : IDisposable
{
    private const int PartRows = 500;

    private readonly IDataProtector protector = protection.CreateProtector("vault key");
    private readonly SemaphoreSlim turn = new(1);
    private volatile Ring ring = new(Guid.Empty, default, []);

    private sealed record Ring(Guid Current, DateTimeOffset MadeAt, Dictionary<Guid, byte[]> Keys);

    /// <summary>When the key was made that new texts are encrypted with.</summary>
    public DateTimeOffset KeyMadeAt => ring.MadeAt;

    /// <summary>Reads the keys, makes the first one, and takes over what an older version kept.</summary>
    /// <exception cref="InvalidDataException">The keys can't be read.</exception>
    public async Task LoadAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        var rows = await db.VaultKeys.AsNoTracking().OrderBy(k => k.Id).ToListAsync(cancel).ConfigureAwait(false);
        if (rows.Count == 0)
        {
            rows.Add(NewKey());
            db.VaultKeys.Add(rows[0]);
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        }
        try
        {
            ring = new Ring(rows[^1].Id, rows[^1].CreatedAt, rows.ToDictionary(k => k.Id, k => protector.Unprotect(Convert.FromBase64String(k.Protected))));
        }
        catch (CryptographicException e)
        {
            throw new InvalidDataException("The vault's key can't be read with the files in keys/ of the data directory: they belong to another database, or are missing. Put back the ones that were saved with this database.", e);
        }
        var older = protection.CreateProtector("vault");
        foreach (var row in await db.Secrets.Where(s => s.Protected != null).ToListAsync(cancel).ConfigureAwait(false))
        {
            var text = Encoding.UTF8.GetBytes(older.Unprotect(row.Protected!));
            db.SecretTexts.Add(Seal(row.Id, 1, text, row.CreatedAt, row.CreatedBy));
            CryptographicOperations.ZeroMemory(text);
            (row.Number, row.Protected, row.ChangedAt, row.ChangedBy) = (1, null, row.CreatedAt, row.CreatedBy);
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
    }

    public SecretTextRow Seal(Guid secretId, int number, ReadOnlySpan<byte> text, DateTimeOffset at, string by)
    {
        var now = ring;
        return new SecretTextRow { SecretId = secretId, Number = number, KeyId = now.Current, Cipher = VaultSeal.Seal(now.Keys[now.Current], text, Owner(secretId, number)), CreatedAt = at, CreatedBy = by };
    }

    /// <returns>The text in UTF-8; whoever has it wipes it.</returns>
    /// <exception cref="CryptographicException">The row was changed, or stood elsewhere.</exception>
    public byte[] Open(SecretTextRow row) => VaultSeal.Open(ring.Keys[row.KeyId], row.Cipher, Owner(row.SecretId, row.Number));

    /// <summary>Makes another key and encrypts everything with it; the keys before are removed when nothing needs them any more.</summary>
    /// <returns>How many texts were encrypted anew.</returns>
    public async Task<int> RotateAsync(CancellationToken cancel)
    {
        await turn.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            var row = NewKey();
            await using (var db = database.Open())
            {
                db.VaultKeys.Add(row);
                await db.SaveChangesAsync(cancel).ConfigureAwait(false);
            }
            // From here on, what is written is encrypted with the new one.
            ring = new Ring(row.Id, row.CreatedAt, new(ring.Keys) { [row.Id] = protector.Unprotect(Convert.FromBase64String(row.Protected)) });
            var count = 0;
            for (int part; (part = await RewriteAsync(cancel).ConfigureAwait(false)) > 0;)
            {
                count += part;
            }
            await ForgetAsync(cancel).ConfigureAwait(false);
            return count;
        }
        finally
        {
            turn.Release();
        }
    }

    public void Dispose()
    {
        turn.Dispose();
        foreach (var key in ring.Keys.Values)
        {
            CryptographicOperations.ZeroMemory(key);
        }
    }

    private async Task<int> RewriteAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        var current = ring.Current;
        var rows = await db.SecretTexts.Where(t => t.KeyId != current).Take(PartRows).ToListAsync(cancel).ConfigureAwait(false);
        foreach (var row in rows)
        {
            var text = Open(row);
            row.Cipher = VaultSeal.Seal(ring.Keys[current], text, Owner(row.SecretId, row.Number));
            row.KeyId = current;
            CryptographicOperations.ZeroMemory(text);
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return rows.Count;
    }

    /// <summary>A key that a text still needs, written by somebody who began before, stays until the next time.</summary>
    private async Task ForgetAsync(CancellationToken cancel)
    {
        var before = ring;
        foreach (var id in before.Keys.Keys.Where(id => id != before.Current))
        {
            try
            {
                await using var db = database.Open();
                await db.VaultKeys.Where(k => k.Id == id && !db.SecretTexts.Any(t => t.KeyId == id)).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
            }
            catch (System.Data.Common.DbException)
            {
                // A text came with it in this very moment.
            }
        }
        await using var after = database.Open();
        var left = (await after.VaultKeys.Select(k => k.Id).ToListAsync(cancel).ConfigureAwait(false)).ToHashSet();
        ring = before with { Keys = before.Keys.Where(k => left.Contains(k.Key)).ToDictionary() };
        foreach (var (_, key) in before.Keys.Where(k => !left.Contains(k.Key)))
        {
            CryptographicOperations.ZeroMemory(key);
        }
    }

    private VaultKeyRow NewKey()
    {
        var key = RandomNumberGenerator.GetBytes(VaultSeal.KeyBytes);
        var row = new VaultKeyRow { Id = Guid.CreateVersion7(), Protected = Convert.ToBase64String(protector.Protect(key)), CreatedAt = time.GetUtcNow() };
        CryptographicOperations.ZeroMemory(key);
        return row;
    }

    private static byte[] Owner(Guid secretId, int number) => Encoding.ASCII.GetBytes($"umbrek vault 1 {secretId:D} {number}");
}
