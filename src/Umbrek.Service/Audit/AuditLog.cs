using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Audit;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Audit;

/// <summary>Who asks for something, and from where.</summary>
public sealed record Caller(string Name, string? Address)
{
    public static Caller Service { get; } = new("service", null);
}

/// <summary>The audit log: lines that are chained by their hashes, written in the transaction of what they tell.</summary>
public sealed class AuditLog(IDatabase database, TimeProvider time)
{
    /// <summary>Any number; everybody who appends takes the same lock, held to the end of the transaction.</summary>
    private const long AppendLock = 0x756D_6272_656B;

    /// <summary>Appends to the caller's transaction, which it must have begun.</summary>
    /// <param name="detail">Name and value pairs; never a secret.</param>
    public async Task AddAsync(UmbrekContext db, Caller by, string action, string target, CancellationToken cancel, params (string Name, string? Value)[] detail)
    {
        if (db is PostgresUmbrekContext)
        {
            // SQLite has one writer anyway: its transactions begin as writers.
            await db.Database.ExecuteSqlAsync($"SELECT pg_advisory_xact_lock({AppendLock})", cancel).ConfigureAwait(false);
        }
        var last = await db.Audit.AsNoTracking().OrderByDescending(a => a.Number).Select(a => new { a.Number, a.Hash }).FirstOrDefaultAsync(cancel).ConfigureAwait(false);
        var json = JsonSerializer.Serialize(detail.Where(d => d.Value is not null).ToDictionary(d => d.Name, d => d.Value), JsonSerializerOptions.Web);
        // Whole milliseconds: what the hash covers must be what both databases keep.
        var at = DateTimeOffset.FromUnixTimeMilliseconds(time.GetUtcNow().ToUnixTimeMilliseconds());
        var entry = new AuditEntry((last?.Number ?? 0) + 1, at, by.Name, by.Address, action, target, json);
        db.Audit.Add(new AuditRow
        {
            Number = entry.Number,
            At = entry.At,
            Actor = entry.Actor,
            Address = entry.Address,
            Action = entry.Action,
            Target = entry.Target,
            Detail = entry.Detail,
            Hash = AuditChain.Next(last?.Hash ?? AuditChain.Start, entry),
        });
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
    }

    /// <summary>Appends by itself, for what changes nothing else: a refusal.</summary>
    public async Task AddAsync(Caller by, string action, string target, CancellationToken cancel, params (string Name, string? Value)[] detail)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        await AddAsync(db, by, action, target, cancel, detail).ConfigureAwait(false);
        await transaction.CommitAsync(cancel).ConfigureAwait(false);
    }

    /// <summary>Newest first, below a number.</summary>
    public async Task<Page<AuditInfo>> ListAsync(string? action, long? before, int? limit, CancellationToken cancel)
    {
        var size = Paging.Size(limit);
        await using var db = database.Open();
        var all = db.Audit.AsNoTracking();
        if (action is not null)
        {
            all = all.Where(a => a.Action.StartsWith(action));
        }
        var total = await all.CountAsync(cancel).ConfigureAwait(false);
        var rows = await all.Where(a => before == null || a.Number < before).OrderByDescending(a => a.Number).Take(size).ToListAsync(cancel).ConfigureAwait(false);
        return new Page<AuditInfo>(
            [.. rows.Select(r => new AuditInfo(r.Number, r.At, r.Actor, r.Address, r.Action, r.Target, r.Detail, Convert.ToHexStringLower(r.Hash)))],
            rows.Count == size && rows[^1].Number > 1 ? $"{rows[^1].Number}" : null, total);
    }
}
