using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Files;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Jobs;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files;

/// <summary>
/// Takes files and folders in once, for many hosts to fetch. A parcel is its sender's: nobody gets at what another sent by knowing its hash.
/// </summary>
public sealed partial class ParcelService(IDatabase database, ParcelFiles files, RunBook book, AuditLog audit, TimeProvider time, ILogger<ParcelService> log) : BackgroundService
{
    /// <summary>So long a parcel is kept after it was of use.</summary>
    public static readonly TimeSpan Kept = TimeSpan.FromDays(7);

    private static readonly TimeSpan Tidying = TimeSpan.FromHours(1);
    private static readonly TimeSpan StandsOpen = TimeSpan.FromMinutes(2);

    /// <summary>More are not kept open at once: what is closed is read again when its next part comes.</summary>
    private const int MostOpen = 64;

    /// <summary>Those of which a part is being received, or was a moment ago.</summary>
    private readonly ConcurrentDictionary<Guid, Receiving> open = new();

    private sealed class Receiving : IDisposable
    {
        public SemaphoreSlim Turn { get; } = new(1);

        public ParcelIntake? Intake { get; set; }

        public long UsedAt { get; set; }

        public void Dispose() => Intake?.Dispose();
    }

    /// <param name="idempotencyKey">The same key by the same technician gives the parcel that was begun the first time, as far as it has come.</param>
    public async Task<ParcelInfo> CreateAsync(NewParcel wish, Asker by, string? idempotencyKey, CancellationToken cancel)
    {
        if (Parcel.Check(wish.Entries) is { } problem)
        {
            throw ProblemException.Invalid(problem);
        }
        if (idempotencyKey is { Length: > 100 })
        {
            throw ProblemException.Invalid("The Idempotency-Key has more than 100 characters; use a UUID.");
        }
        await using var db = database.Open();
        if (idempotencyKey is not null && await db.Parcels.AsNoTracking().FirstOrDefaultAsync(p => p.CreatedById == by.Id && p.IdempotencyKey == idempotencyKey, cancel).ConfigureAwait(false) is { } before)
        {
            return ToInfo(before);
        }
        var bytes = wish.Entries.Sum(e => e.Bytes);
        if (files.Room() is var room && bytes > room)
        {
            throw new ProblemException(413, ProblemTypes.Conflict, $"These are {Units.Bytes(bytes)}, and the service has room for {Units.Bytes(room)}. Send fewer at once, or make room in its data directory; 'umbrek parcel list' shows what is kept.");
        }
        var now = time.GetUtcNow();
        var row = new ParcelRow
        {
            Id = Guid.CreateVersion7(now),
            CreatedAt = now,
            CreatedById = by.Id,
            CreatedBy = by.Name,
            IdempotencyKey = idempotencyKey,
            Name = Parcel.Name(wish.Entries),
            Files = wish.Entries.Count(e => e.Kind == FileKind.File),
            Folders = wish.Entries.Count(e => e.Kind == FileKind.Folder),
            Links = wish.Entries.Count(e => e.Kind == FileKind.Link),
            Bytes = bytes,
            KeptUntil = now + Kept,
        };
        files.Begin(row.Id, wish.Entries);
        try
        {
            db.Parcels.Add(row);
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        }
        catch (DbUpdateException) when (idempotencyKey is not null)
        {
            // The same request twice at the same instant: the first made it.
            files.Drop(row.Id);
            db.Entry(row).State = EntityState.Detached;
            return ToInfo(await db.Parcels.AsNoTracking().FirstAsync(p => p.CreatedById == by.Id && p.IdempotencyKey == idempotencyKey, cancel).ConfigureAwait(false));
        }
        return bytes == 0 ? await TakeAsync(row.Id, 0, Stream.Null, by, cancel).ConfigureAwait(false) : ToInfo(row);
    }

    /// <summary>Newest first, one's own.</summary>
    public async Task<List<ParcelInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        return [.. (await db.Parcels.AsNoTracking().Where(p => p.CreatedById == by.Id).OrderByDescending(p => p.CreatedAt).Take(1000).ToListAsync(cancel).ConfigureAwait(false)).Select(ToInfo)];
    }

    public async Task<ParcelInfo> GetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        return ToInfo(await FindAsync(db, id, by, cancel).ConfigureAwait(false));
    }

    /// <summary>What is in a parcel that is whole, with the hash of each file: the text that its digest is of.</summary>
    public async Task<Stream> OpenListAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        return row.Digest is { } digest ? files.Open(digest) : throw new ProblemException(409, ProblemTypes.Conflict, $"Of this parcel {Units.Bytes(files.Received(id))} of {Units.Bytes(row.Bytes)} are here; send the rest first.");
    }

    /// <summary>Takes a part of the body.</summary>
    /// <param name="from">Where it begins: as much as is here.</param>
    public async Task<ParcelInfo> TakeAsync(Guid id, long from, Stream body, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        if (open.Count >= MostOpen)
        {
            await CloseIdleAsync(TimeSpan.FromSeconds(5), cancel).ConfigureAwait(false);
        }
        var receiving = open.GetOrAdd(id, _ => new Receiving());
        // A line that broke is noticed here later than there: whoever comes again waits for it.
        if (!await receiving.Turn.WaitAsync(TimeSpan.FromSeconds(10), cancel).ConfigureAwait(false))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "Another part of this parcel is being received; send one after the other.");
        }
        try
        {
            await db.Entry(row).ReloadAsync(cancel).ConfigureAwait(false);
            if (row.Digest is not null)
            {
                return ToInfo(row);
            }
            receiving.UsedAt = time.GetTimestamp();
            var intake = receiving.Intake ??= await Task.Run(() => new ParcelIntake(files.OpenPart(id), files.ReadEntries(id)), cancel).ConfigureAwait(false);
            if (from != intake.Received)
            {
                throw new ProblemException(409, ProblemTypes.Conflict, $"Of this parcel {intake.Received} bytes are here; go on there.");
            }
            await intake.TakeAsync(body, cancel).ConfigureAwait(false);
            if (intake.IsWhole)
            {
                await EndAsync(db, row, intake, by).ConfigureAwait(false);
                open.TryRemove(id, out _);
                receiving.Dispose();
            }
            return ToInfo(row);
        }
        catch (ParcelIntake.NotKeptException e)
        {
            receiving.Dispose();
            receiving.Intake = null;
            throw new ProblemException(507, ProblemTypes.Conflict, $"The service can't keep it: {e.Message.TrimEnd('.')}. What has come by now stays; make room in its data directory and go on.");
        }
        finally
        {
            receiving.UsedAt = time.GetTimestamp();
            receiving.Turn.Release();
        }
    }

    public async Task DeleteAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        if (row.Digest is { } digest && (await DigestsInUseAsync(db, cancel).ConfigureAwait(false)).Contains(digest))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "Hosts are to fetch it still; cancel the job first.");
        }
        db.Parcels.Remove(row);
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        if (open.TryRemove(id, out var receiving))
        {
            receiving.Dispose();
        }
        files.Drop(id);
        await SweepAsync(db, cancel).ConfigureAwait(false);
    }

    /// <summary>A job is made that has hosts fetch a parcel: what it says of it has to be so.</summary>
    /// <param name="own">It has to be the technician's own; a job that was made is done again by whoever may.</param>
    public async Task UseAsync(DeliverFiles deliver, bool own, Asker by, DateTimeOffset until, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Parcels.Where(p => p.Digest == deliver.Digest && (!own || p.CreatedById == by.Id)).OrderByDescending(p => p.KeptUntil).FirstOrDefaultAsync(cancel).ConfigureAwait(false);
        if (row is null || !files.Has(row.Digest!) || !files.Has(row.Body!))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"The service does not keep these files{(own ? " as yours" : " any more")}; send them to it first. Nothing was put anywhere.");
        }
        if ((row.Name, row.Files, row.Bytes) != (deliver.Name, deliver.Files, deliver.Bytes))
        {
            throw ProblemException.Invalid($"The parcel is called '{row.Name}' and holds {row.Files} files of {row.Bytes} bytes, which is not what the job says of it. Nothing was put anywhere.");
        }
        if (row.KeptUntil < until + Kept)
        {
            row.KeptUntil = until + Kept;
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
    }

    /// <summary>The body of a parcel that is whole.</summary>
    public async Task<string?> BodyOfAsync(string digest, CancellationToken cancel)
    {
        await using var db = database.Open();
        return await db.Parcels.Where(p => p.Digest == digest).Select(p => p.Body).FirstOrDefaultAsync(cancel).ConfigureAwait(false);
    }

    /// <summary>Removes what is kept no longer.</summary>
    public async Task TidyAsync(CancellationToken cancel)
    {
        await CloseIdleAsync(StandsOpen, cancel).ConfigureAwait(false);
        var now = time.GetUtcNow();
        await using var db = database.Open();
        var used = await DigestsInUseAsync(db, cancel).ConfigureAwait(false);
        var old = (await db.Parcels.Where(p => p.KeptUntil < now).ToListAsync(cancel).ConfigureAwait(false)).Where(p => p.Digest is null || !used.Contains(p.Digest)).ToList();
        if (old.Count > 0)
        {
            db.Parcels.RemoveRange(old);
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        }
        await SweepAsync(db, cancel).ConfigureAwait(false);
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(Tidying, time);
        do
        {
            try
            {
                await TidyAsync(stoppingToken).ConfigureAwait(false);
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException or DbUpdateException or System.Data.Common.DbException)
            {
                Log.NotTidied(log, e);
            }
        }
        while (await timer.WaitForNextTickAsync(stoppingToken).ConfigureAwait(false));
    }

    private async Task CloseIdleAsync(TimeSpan idle, CancellationToken cancel)
    {
        foreach (var (id, receiving) in open)
        {
            if (time.GetElapsedTime(receiving.UsedAt) > idle && await receiving.Turn.WaitAsync(0, cancel).ConfigureAwait(false))
            {
                receiving.Dispose();
                receiving.Intake = null;
                open.TryRemove(id, out _);
                receiving.Turn.Release();
            }
        }
    }

    private async Task EndAsync(UmbrekContext db, ParcelRow row, ParcelIntake intake, Asker by)
    {
        // Not bound to the request: all of it has come.
        var body = intake.Body();
        row.Digest = files.End(row.Id, intake.Entries, body, intake.Bytes);
        row.Body = Convert.ToHexStringLower(body);
        row.KeptUntil = time.GetUtcNow() + Kept;
        await using var transaction = await db.Database.BeginTransactionAsync().ConfigureAwait(false);
        await audit.AddAsync(db, by, "parcel.send", row.Name, CancellationToken.None,
            ("id", $"{row.Id}"), ("files", $"{row.Files}"), ("bytes", $"{row.Bytes}"), ("sha256", row.Digest)).ConfigureAwait(false);
        await transaction.CommitAsync().ConfigureAwait(false);
        files.Drop(row.Id);
    }

    private async Task SweepAsync(UmbrekContext db, CancellationToken cancel)
    {
        var rows = await db.Parcels.AsNoTracking().Select(p => new { p.Id, p.Digest, p.Body }).ToListAsync(cancel).ConfigureAwait(false);
        files.Sweep(rows.Where(r => r.Digest is null).Select(r => r.Id).ToHashSet(), rows.SelectMany(r => new[] { r.Digest, r.Body }).OfType<string>().ToHashSet(StringComparer.Ordinal), (time.GetUtcNow() - TimeSpan.FromMinutes(10)).UtcDateTime);
    }

    /// <summary>Parcels that hosts are to fetch still.</summary>
    private async Task<HashSet<string>> DigestsInUseAsync(UmbrekContext db, CancellationToken cancel)
    {
        var used = new HashSet<string>(StringComparer.Ordinal);
        foreach (var part in book.OpenJobs().Chunk(500))
        {
            foreach (var command in await db.Jobs.Where(j => part.Contains(j.Id)).Select(j => j.Command).ToListAsync(cancel).ConfigureAwait(false))
            {
                if (System.Text.Json.JsonSerializer.Deserialize(command, Wire.WireJson.Default.CommandSpec)?.Action?.Deliver is { } deliver)
                {
                    used.Add(deliver.Digest);
                }
            }
        }
        return used;
    }

    private static async Task<ParcelRow> FindAsync(UmbrekContext db, Guid id, Asker by, CancellationToken cancel) =>
        await db.Parcels.FirstOrDefaultAsync(p => p.Id == id && p.CreatedById == by.Id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("parcel");

    private ParcelInfo ToInfo(ParcelRow row) => new(
        row.Id, row.Name, row.CreatedAt, row.CreatedBy, row.Files, row.Folders, row.Links, row.Bytes, row.Digest is null ? files.Received(row.Id) : row.Bytes, row.Digest, row.KeptUntil);

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Warning, Message = "what is kept for hosts to fetch could not be tidied")]
        public static partial void NotTidied(ILogger logger, Exception problem);
    }
}
