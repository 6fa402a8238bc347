using System.Runtime.CompilerServices;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Audit;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Audit;

/// <summary>Who asks for something, and from where.</summary>
public record Caller(string Name, string? Address)
{
    public static Caller Service { get; } = new("service", null);
}

/// <summary>A line that is about to be written; its number and its hash come from the line before.</summary>
public sealed record NewAuditLine(DateTimeOffset At, Caller By, string Action, string Target, string Detail)
{
    /// <summary>The lines as rows, chained to the last line that is there.</summary>
    public static IEnumerable<AuditRow> Chain(IEnumerable<NewAuditLine> lines, long lastNumber, byte[] lastHash)
    {
        foreach (var line in lines)
        {
            var entry = new AuditEntry(++lastNumber, line.At, line.By.Name, line.By.Address, line.Action, line.Target, line.Detail);
            lastHash = AuditChain.Next(lastHash, entry);
            yield return new AuditRow
            {
                Number = entry.Number,
                At = entry.At,
                Actor = entry.Actor,
                Address = entry.Address,
                Action = entry.Action,
                Target = entry.Target,
                Detail = entry.Detail,
                Hash = lastHash,
            };
        }
    }
}

/// <summary>The audit log: lines that are chained by their hashes, written in the transaction of what they tell.</summary>
public sealed class AuditLog(IDatabase database, TimeProvider time)
{
    /// <summary>Any number; everybody who appends takes the same lock, held to the end of the transaction.</summary>
    public const long AppendLock = 0x756D_6272_656B;

    /// <summary>A line for a transaction that is written elsewhere.</summary>
    /// <param name="detail">Name and value pairs; never a secret.</param>
    public NewAuditLine Line(Caller by, string action, string target, params ReadOnlySpan<(string Name, string? Value)> detail)
    {
        var known = new Dictionary<string, string>();
        foreach (var (name, value) in detail)
        {
            if (value is not null)
            {
                known[name] = value;
            }
        }
        // Whole milliseconds: what the hash covers must be what both databases keep.
        var at = DateTimeOffset.FromUnixTimeMilliseconds(time.GetUtcNow().ToUnixTimeMilliseconds());
        return new NewAuditLine(at, by, action, target, JsonSerializer.Serialize(known, JsonSerializerOptions.Web));
    }

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
        db.Audit.AddRange(NewAuditLine.Chain([Line(by, action, target, detail)], last?.Number ?? 0, last?.Hash ?? AuditChain.Start));
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
    }

    /// <summary>Appends by itself, for what changes nothing else: a refusal.</summary>
    public async Task AddAsync(Caller by, string action, string target, CancellationToken cancel, params (string Name, string? Value)[] detail)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        await AddAsync(db, by, action, target, cancel, detail).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
    }

    /// <summary>Newest first, below a number.</summary>
    public async Task<Page<AuditInfo>> ListAsync(AuditFilter filter, long? before, int? limit, CancellationToken cancel)
    {
        var size = Paging.Size(limit);
        await using var db = database.Open();
        var all = Where(db, filter);
        var total = await all.CountAsync(cancel).ConfigureAwait(false);
        var rows = await all.Where(a => before == null || a.Number < before).OrderByDescending(a => a.Number).Take(size).ToListAsync(cancel).ConfigureAwait(false);
        return new Page<AuditInfo>([.. rows.Select(ToInfo)], rows.Count == size && rows[^1].Number > 1 ? $"{rows[^1].Number}" : null, total);
    }

    /// <summary>The last line's number; 0 when there is none.</summary>
    public async Task<long> LastNumberAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        return await db.Audit.MaxAsync(a => (long?)a.Number, cancel).ConfigureAwait(false) ?? 0;
    }

    /// <summary>Oldest first, as they are read; for exports, and for whoever checks the chain.</summary>
    /// <param name="after">Only lines behind this number.</param>
    public async IAsyncEnumerable<AuditInfo> ReadAsync(AuditFilter filter, [EnumeratorCancellation] CancellationToken cancel, long after = 0)
    {
        await using var db = database.Open();
        while (true)
        {
            // By parts: a reader that is slow must not hold the database.
            var rows = await Where(db, filter).Where(a => a.Number > after).OrderBy(a => a.Number).Take(PartRows).ToListAsync(cancel).ConfigureAwait(false);
            foreach (var row in rows)
            {
                yield return ToInfo(row);
            }
            if (rows.Count < PartRows)
            {
                yield break;
            }
            after = rows[^1].Number;
        }
    }

    private const int PartRows = 1000;

    private const string Escape = "\\";

    private static string Within(string text) => $"%{text.Replace("\\", "\\\\", StringComparison.Ordinal).Replace("%", "\\%", StringComparison.Ordinal).Replace("_", "\\_", StringComparison.Ordinal)}%";

    private static IQueryable<AuditRow> Where(UmbrekContext db, AuditFilter filter)
    {
        var rows = db.Audit.AsNoTracking();
        if (filter.Action is { Length: > 0 } action)
        {
            rows = rows.Where(a => a.Action.StartsWith(action));
        }
        if (filter.Actor is { Length: > 0 } actor)
        {
            var like = Within(actor);
            rows = db is PostgresUmbrekContext ? rows.Where(a => EF.Functions.ILike(a.Actor, like, Escape)) : rows.Where(a => EF.Functions.Like(a.Actor, like, Escape));
        }
        if (filter.Target is { Length: > 0 } target)
        {
            var like = Within(target);
            rows = db is PostgresUmbrekContext ? rows.Where(a => EF.Functions.ILike(a.Target, like, Escape)) : rows.Where(a => EF.Functions.Like(a.Target, like, Escape));
        }
        if (filter.Address is { Length: > 0 } address)
        {
            rows = rows.Where(a => a.Address == address);
        }
        if (filter.From is { } from)
        {
            rows = rows.Where(a => a.At >= from);
        }
        if (filter.To is { } to)
        {
            rows = rows.Where(a => a.At < to);
        }
        return rows;
    }

    private static AuditInfo ToInfo(AuditRow r) => new(r.Number, r.At, r.Actor, r.Address, r.Action, r.Target, r.Detail, Convert.ToHexStringLower(r.Hash));
}

/// <summary>Which lines are wanted; what is null narrows nothing.</summary>
/// <param name="Action">The action begins so: "installer", "enrolment.refuse".</param>
/// <param name="Actor">Part of the name of who did it.</param>
/// <param name="Target">Part of the name of what it was done to.</param>
/// <param name="Address">From exactly there.</param>
/// <param name="From">Not before.</param>
/// <param name="To">Before.</param>
public sealed record AuditFilter(string? Action = null, string? Actor = null, string? Target = null, string? Address = null, DateTimeOffset? From = null, DateTimeOffset? To = null);
