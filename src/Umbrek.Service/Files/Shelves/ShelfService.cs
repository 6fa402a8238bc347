using System.Collections.Concurrent;
using System.Globalization;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Files.Twins;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files.Shelves;

/// <summary>Folders that the service keeps, of groups: who may read or write the files of hosts in a group may do so on its shelves.</summary>
public sealed partial class ShelfService(IDatabase database, ShelfFiles files, ShelfKeeper keeper, AccessIndex access, Gate gate, AuditLog audit, TimeProvider time, ILogger<ShelfService> log) : BackgroundService
{
    private const int Most = 500;

    /// <summary>More of a folder is not listed at once.</summary>
    private const int MostListed = 10_000;

    /// <summary>So often it is counted anew what a shelf holds that is looked at.</summary>
    private static readonly TimeSpan Counted = TimeSpan.FromSeconds(10);

    private readonly ConcurrentDictionary<Guid, (long At, long Files, long Bytes)> counts = new();

    /// <summary>Those that somebody may see, by their names.</summary>
    public async Task<List<ShelfInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var rows = await db.Shelves.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false);
        return [.. rows.Where(r => MaySee(r, by)).OrderBy(r => r.Name, StringComparer.OrdinalIgnoreCase).Select(ToInfo)];
    }

    public async Task<ShelfInfo> GetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        return ToInfo(await FindAsync(db, id, by, Permission.ReadFiles, cancel).ConfigureAwait(false));
    }

    public async Task<ShelfInfo> CreateAsync(NewShelf wish, Asker by, CancellationToken cancel)
    {
        var name = Names.Clean(wish.Name, "name", out var problem) ?? throw ProblemException.Invalid(problem);
        if (name.AsSpan().ContainsAny(':', '/'))
        {
            throw ProblemException.Invalid("A shelf's name has no colon and no slash: a path follows it.");
        }
        var group = gate.Group(by, wish.GroupId, Permission.WriteFiles);
        await using var db = database.Open();
        if (await db.Shelves.CountAsync(cancel).ConfigureAwait(false) >= Most)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"The service has {Most} shelves, the most there may be. Remove some.");
        }
        var now = time.GetUtcNow();
        var row = new ShelfRow { Id = Guid.CreateVersion7(now), Name = name, GroupId = wish.GroupId, CreatedAt = now, CreatedBy = by.Name };
        files.Begin(row.Id);
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        db.Shelves.Add(row);
        try
        {
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        }
        catch (DbUpdateException)
        {
            files.Drop(row.Id);
            throw new ProblemException(409, ProblemTypes.Conflict, $"{group} has a shelf '{name}' already; give this one another name.");
        }
        await audit.AddAsync(db, by, "shelf.create", name, cancel, ("id", $"{row.Id}"), ("group", group)).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return ToInfo(row);
    }

    /// <summary>What lies on it is gone for good.</summary>
    public async Task DeleteAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await FindAsync(db, id, by, Permission.WriteFiles, cancel).ConfigureAwait(false);
        var (count, bytes) = files.Count(id);
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        db.Shelves.Remove(row);
        await audit.AddAsync(db, by, "shelf.remove", row.Name, cancel, ("id", $"{id}"), ("group", access.PathOf(row.GroupId)), ("files", count.ToString(CultureInfo.InvariantCulture)), ("bytes", bytes.ToString(CultureInfo.InvariantCulture))).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        counts.TryRemove(id, out _);
        await Task.Run(() => Remove(() => files.Drop(id)), CancellationToken.None).ConfigureAwait(false);
    }

    /// <summary>What lies in a folder of it.</summary>
    /// <param name="path">Whole, from the shelf on.</param>
    public async Task<Page<FileEntry>> LookAsync(Guid id, string path, Asker by, CancellationToken cancel)
    {
        await using var talk = await OpenAsync(id, path, by, cancel).ConfigureAwait(false);
        var found = new List<FileEntry>();
        var all = 0;
        var last = await AskAsync(() => talk.AskAsync(new FileAsk(List: talk.Root), word =>
        {
            all += word.Entries?.Count ?? 0;
            found.AddRange((word.Entries ?? []).Take(MostListed - found.Count).Select(e => e with { Owner = "", Group = "" }));
        }, cancel)).ConfigureAwait(false);
        return last.Problem is { } problem ? throw ProblemException.Invalid(problem) : new Page<FileEntry>([.. found.OrderBy(e => e.Kind != FileKind.Folder).ThenBy(e => e.Name.Text, StringComparer.OrdinalIgnoreCase)], null, all);
    }

    /// <summary>Begins to read a file of it; what is written then comes to its end, or breaks off.</summary>
    public async Task<ShelfReading> ReadAsync(Guid id, string path, Asker by, CancellationToken cancel)
    {
        var talk = await OpenAsync(id, path, by, cancel).ConfigureAwait(false);
        try
        {
            var entry = await AskAsync(() => BeginAsync(talk, cancel)).ConfigureAwait(false);
            await using var db = database.Open();
            var row = await FindAsync(db, id, by, Permission.ReadFiles, cancel).ConfigureAwait(false);
            await audit.AddAsync(db, by, "shelf.read", row.Name, cancel, ("id", $"{id}"), ("path", TerminalText.Line(path)), ("bytes", entry.Bytes.ToString(CultureInfo.InvariantCulture))).ConfigureAwait(false);
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
            return new ShelfReading(talk, entry);
        }
        catch
        {
            await talk.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }

    /// <summary>A channel to a shelf for a side of a twin.</summary>
    /// <exception cref="TurnFailedException">It may not be opened.</exception>
    public async Task<FileTalk> OpenAsync(TwinPlace place, TwinSide side, bool changes, Asker by, CancellationToken ended, CancellationToken cancel)
    {
        var id = place.ShelfId!.Value;
        await using var db = database.Open();
        var row = await FindAsync(db, id, by, changes ? Permission.WriteFiles : Permission.ReadFiles, cancel).ConfigureAwait(false);
        return Talk(row, side, place.Path.Text, changes, ended);
    }

    /// <summary>Its name and its group's path; null where the caller may not see it.</summary>
    public async Task<Dictionary<Guid, (string Name, string GroupPath)>> NamesAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        return (await db.Shelves.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false)).Where(r => MaySee(r, by)).ToDictionary(r => r.Id, r => (r.Name, access.PathOf(r.GroupId)!));
    }

    /// <exception cref="ProblemException">There is none, or it may not be done with it.</exception>
    public async Task<(string Name, string GroupPath)> CheckMayAsync(Guid id, Permission permission, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await FindAsync(db, id, by, permission, cancel).ConfigureAwait(false);
        return (row.Name, access.PathOf(row.GroupId)!);
    }

    protected override Task ExecuteAsync(CancellationToken stoppingToken) => Task.Run(() => Remove(files.Tidy), stoppingToken);

    /// <summary>What can't be removed now is out of the way, and is tried again at the next start.</summary>
    private void Remove(Action remove)
    {
        try
        {
            remove();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            Log.Left(log, e);
        }
    }

    private async Task<FileTalk> OpenAsync(Guid id, string path, Asker by, CancellationToken cancel)
    {
        if (!path.StartsWith('/') || path.Split('/').Any(p => p is "." or "..") || new FileName(path).CheckPath() is not null)
        {
            throw ProblemException.Invalid($"'{TerminalText.Line(path)}' is no whole path on a shelf; write it from '/' on, without dots for folders.");
        }
        await using var db = database.Open();
        return Talk(await FindAsync(db, id, by, Permission.ReadFiles, cancel).ConfigureAwait(false), TwinSide.First, path, changes: false, cancel);
    }

    private FileTalk Talk(ShelfRow row, TwinSide side, string path, bool changes, CancellationToken ended)
    {
        var end = keeper.Open(row.Id, changes, ended);
        var letGo = end.LetGo;
        void CountAnew()
        {
            letGo();
            counts.TryRemove(row.Id, out _);
        }
        return new FileTalk($"the shelf {row.Name}", side, new FileName(files.PathIn(row.Id, path)), changes ? end with { LetGo = CountAnew } : end, null, words => files.Hide(row.Id, words));
    }

    private static async Task<FileEntry> BeginAsync(FileTalk talk, CancellationToken cancel)
    {
        await talk.FillAsync(new FileAsk(Read: new FileRead(talk.Root)), cancel).ConfigureAwait(false);
        await talk.FlushAsync(cancel).ConfigureAwait(false);
        var word = (await talk.NextAsync(cancel).ConfigureAwait(false)).Word;
        return word?.Entry ?? throw new TurnFailedException(word?.Problem ?? "The shelf's keeper said something else than was asked for.");
    }

    private static async Task<T> AskAsync<T>(Func<Task<T>> ask)
    {
        try
        {
            return await ask().ConfigureAwait(false);
        }
        catch (TurnFailedException e)
        {
            throw ProblemException.Invalid(e.Message);
        }
        catch (TalkBrokenException e)
        {
            throw new ProblemException(503, ProblemTypes.Failed, e.Message);
        }
    }

    private bool MaySee(ShelfRow row, Asker by) => access.PathOf(row.GroupId) is { } path && by.Reach.May(Permission.ReadFiles, path);

    private async Task<ShelfRow> FindAsync(UmbrekContext db, Guid id, Asker by, Permission permission, CancellationToken cancel)
    {
        var row = await db.Shelves.FirstOrDefaultAsync(s => s.Id == id, cancel).ConfigureAwait(false);
        if (row is null || !MaySee(row, by))
        {
            throw ProblemException.NotFound("shelf");
        }
        gate.Group(by, row.GroupId, permission, "shelf");
        return row;
    }

    private ShelfInfo ToInfo(ShelfRow row)
    {
        var now = time.GetTimestamp();
        if (!counts.TryGetValue(row.Id, out var count) || time.GetElapsedTime(count.At, now) > Counted)
        {
            var (number, bytes) = files.Count(row.Id);
            counts[row.Id] = count = (now, number, bytes);
        }
        return new ShelfInfo(row.Id, row.Name, row.GroupId, access.PathOf(row.GroupId) ?? "", row.CreatedAt, row.CreatedBy, count.Files, count.Bytes);
    }

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Warning, Message = "what was removed of a shelf is still on the disk")]
        public static partial void Left(ILogger logger, Exception problem);
    }
}

/// <summary>A file of a shelf that is being read.</summary>
public sealed class ShelfReading(FileTalk talk, FileEntry entry) : IAsyncDisposable
{
    private static readonly byte[] Zeros = new byte[64 * 1024];

    public FileEntry Entry => entry;

    /// <summary>Writes all of it.</summary>
    /// <exception cref="IOException">It can't be read to its end.</exception>
    public async Task CopyAsync(Stream to, CancellationToken cancel)
    {
        while (true)
        {
            var message = await talk.NextAsync(cancel).ConfigureAwait(false);
            if (message.Word is not { } word)
            {
                await to.WriteAsync(message.Data, cancel).ConfigureAwait(false);
                continue;
            }
            for (var left = word.Zeros ?? 0; left > 0; left -= Math.Min(left, Zeros.Length))
            {
                await to.WriteAsync(Zeros.AsMemory(0, (int)Math.Min(left, Zeros.Length)), cancel).ConfigureAwait(false);
            }
            if (word.Done)
            {
                if (word.Problem is { } problem || word.Changed)
                {
                    throw new IOException(word.Problem ?? "It changed while it was read.");
                }
                return;
            }
        }
    }

    public ValueTask DisposeAsync() => talk.DisposeAsync();
}
