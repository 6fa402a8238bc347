using System.Collections.Concurrent;
using System.Globalization;
using System.Security.Claims;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Relay;
using Umbrek.Service.Sessions;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files.Twins;

/// <summary>Keeps folders of hosts and of shelves in step, turn by turn, whoever has gone meanwhile: it is the service that goes between them.</summary>
public sealed partial class TwinService(
    IDatabase database, TwinFiles files, TwinGrounds on, SignIns signIns, Gate gate, EstateIndex estate, AuditLog audit, TimeProvider time, ILogger<TwinService> log)
    : BackgroundService
{
    private const int MostOfOne = 200;
    private const int MostTurns = 8;

    /// <summary>So long a turn waits for a host, counted from when something was done last.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromMinutes(10);
    private static readonly TimeSpan LongestWait = TimeSpan.FromSeconds(30);

    private readonly ConcurrentDictionary<Guid, Running> running = new();
    private readonly CancellationTokenSource stopping = new();

    private sealed class Running(TurnProgress progress, CancellationTokenSource over)
    {
        public TurnProgress Progress => progress;
        public CancellationTokenSource Over => over;
        public Task Task { get; set; } = Task.CompletedTask;

        /// <summary>Whoever cancelled it; null where it was not a person.</summary>
        public string? CancelledBy { get; set; }
    }

    public async Task<TwinInfo> CreateAsync(NewTwin wish, Asker by, CancellationToken cancel)
    {
        var name = Names.Clean(wish.Name, "name", out var problem) ?? throw ProblemException.Invalid(problem);
        if (Check(wish) is { } wrong)
        {
            throw ProblemException.Invalid(wrong);
        }
        var (first, second) = await CheckMayAsync(wish, by, cancel).ConfigureAwait(false);
        await using var db = database.Open();
        if (await db.Twins.CountAsync(t => t.CreatedById == by.Id, cancel).ConfigureAwait(false) >= MostOfOne)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"You have {MostOfOne} twins, the most there may be. Remove some.");
        }
        wish = wish with { Name = name };
        var now = time.GetUtcNow();
        var row = new TwinRow { Id = Guid.CreateVersion7(now), Name = name, CreatedAt = now, CreatedById = by.Id, CreatedBy = by.Name, Wish = JsonSerializer.Serialize(wish, WireJson.Default.NewTwin) };
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        db.Twins.Add(row);
        try
        {
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        }
        catch (DbUpdateException)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"You have a twin '{name}' already; give this one another name, or remove that.");
        }
        await audit.AddAsync(db, by, "twin.create", name, cancel, ("id", $"{row.Id}"), ("first", first), ("second", second), ("way", Words(wish.Rules))).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        return await ToInfoAsync(row, by, cancel).ConfigureAwait(false);
    }

    /// <summary>One's own, by their names.</summary>
    public async Task<List<TwinInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var rows = await db.Twins.AsNoTracking().Where(t => t.CreatedById == by.Id).ToListAsync(cancel).ConfigureAwait(false);
        var shelves = await on.Shelves.NamesAsync(by, cancel).ConfigureAwait(false);
        return [.. rows.OrderBy(r => r.Name, StringComparer.OrdinalIgnoreCase).Select(r => ToInfo(r, by, shelves))];
    }

    public async Task<TwinInfo> GetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        return await ToInfoAsync(await FindAsync(db, id, by, cancel).ConfigureAwait(false), by, cancel).ConfigureAwait(false);
    }

    /// <summary>The folders stay as they are.</summary>
    public async Task DeleteAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        if (running.ContainsKey(id))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"A turn of '{row.Name}' goes on; cancel it first.");
        }
        await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
        db.Twins.Remove(row);
        await audit.AddAsync(db, by, "twin.remove", row.Name, cancel, ("id", $"{id}")).ConfigureAwait(false);
        await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        files.Drop(id);
    }

    /// <summary>Begins a turn; it goes on by itself.</summary>
    public async Task<TwinInfo> TurnAsync(Guid id, NewTurn wish, Asker by, ClaimsPrincipal user, CancellationToken cancel)
    {
        if (wish.Settling is { } settling && (!Enum.IsDefined(settling.Choice) || settling.Paths?.Contains(null!) == true))
        {
            throw ProblemException.Invalid("Say whose version goes on: first, second or newer.");
        }
        await using var db = database.Open();
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        var twin = WishOf(row);
        await CheckMayAsync(twin, by, cancel).ConfigureAwait(false);
        if (running.Count >= MostTurns)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"{MostTurns} turns go on, the most at a time. Wait for one to end.");
        }
        var ended = await signIns.HoldAsync(SignIns.IdOf(user), cancel).ConfigureAwait(false);
        var turn = new Running(new TurnProgress(by.Name, wish, time.GetUtcNow()), CancellationTokenSource.CreateLinkedTokenSource(stopping.Token, ended));
        if (!running.TryAdd(id, turn))
        {
            turn.Over.Dispose();
            throw new ProblemException(409, ProblemTypes.Conflict, $"A turn of '{row.Name}' goes on already.");
        }
        try
        {
            row.Turn = JsonSerializer.Serialize(turn.Progress.ToInfo(), WireJson.Default.TurnInfo);
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            await audit.AddAsync(db, by, "twin.turn", row.Name, cancel, ("id", $"{id}"), ("dryRun", wish.DryRun ? "yes" : null), ("settles", wish.Settling is { } s ? s.Choice.ToString().ToLowerInvariant() : null), ("thoughEmpty", wish.ThoughEmpty ? "yes" : null)).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        catch
        {
            running.TryRemove(id, out _);
            turn.Over.Dispose();
            throw;
        }
        var caller = new Caller(by.Name, by.Address);
        turn.Task = Task.Run(() => RunAsync(id, row.Name, twin, wish, turn, new TurnAsker(user, by.Address), caller, ended), CancellationToken.None);
        return await ToInfoAsync(row, by, cancel).ConfigureAwait(false);
    }

    public async Task<TwinInfo> CancelAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        if (!running.TryGetValue(id, out var turn))
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"No turn of '{row.Name}' goes on.");
        }
        turn.CancelledBy = by.Name;
        try
        {
            await turn.Over.CancelAsync().ConfigureAwait(false);
        }
        catch (ObjectDisposedException)
        {
            // It has just ended.
        }
        await turn.Task.WaitAsync(cancel).ConfigureAwait(false);
        await db.Entry(row).ReloadAsync(cancel).ConfigureAwait(false);
        return await ToInfoAsync(row, by, cancel).ConfigureAwait(false);
    }

    /// <summary>What the last turn did, or would have done.</summary>
    public async Task<Page<TurnAct>> ActsAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        await FindAsync(db, id, by, cancel).ConfigureAwait(false);
        var acts = files.ReadActs(id, TwinTurn.MostActs);
        return new Page<TurnAct>(acts, null, acts.Count);
    }

    public override async Task StopAsync(CancellationToken cancellationToken)
    {
        await stopping.CancelAsync().ConfigureAwait(false);
        await Task.WhenAll(running.Values.Select(r => r.Task)).WaitAsync(cancellationToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        await base.StopAsync(cancellationToken).ConfigureAwait(false);
    }

    public override void Dispose()
    {
        stopping.Dispose();
        base.Dispose();
    }

    /// <summary>Turns that an earlier life of the service left.</summary>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await using var db = database.Open();
        foreach (var row in await db.Twins.Where(t => t.Turn != null).ToListAsync(stoppingToken).ConfigureAwait(false))
        {
            var turn = TurnOf(row)!;
            if (turn.EndedAt is null && !running.ContainsKey(row.Id))
            {
                row.Turn = JsonSerializer.Serialize(turn with { State = TurnState.Interrupted, EndedAt = time.GetUtcNow(), Reason = "The service went down meanwhile. What was done stays done; take another turn." }, WireJson.Default.TurnInfo);
            }
        }
        await db.SaveChangesAsync(stoppingToken).ConfigureAwait(false);
    }

    private async Task RunAsync(Guid id, string name, NewTwin twin, NewTurn wish, Running turn, TurnAsker asker, Caller caller, CancellationToken signedOut)
    {
        var (state, reason) = (TurnState.Failed, (string?)null);
        var done = new List<TurnAct>();
        try
        {
            (state, reason) = await TryAsync(id, twin, wish, turn, asker, done).ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            (state, reason) = turn.CancelledBy is { } who ? (TurnState.Cancelled, $"cancelled by {who}")
                : signedOut.IsCancellationRequested ? (TurnState.Cancelled, "its technician's sign-in ended")
                : (TurnState.Interrupted, "The service went down meanwhile. What was done stays done; take another turn.");
        }
        catch (TurnFailedException e)
        {
            reason = e.Message;
        }
        catch (Exception e)
        {
            Log.Broke(log, name, e);
            reason = $"The service could not go on: {e.Message}";
        }
        try
        {
            files.WriteActs(id, done.Take(TwinTurn.MostActs));
            // Said only when another may begin.
            await EndAsync(id, name, turn.Progress.ToInfo() with { State = state, EndedAt = time.GetUtcNow(), Reason = reason }, caller).ConfigureAwait(false);
        }
        catch (Exception e)
        {
            Log.Broke(log, name, e);
        }
        finally
        {
            running.TryRemove(id, out _);
            turn.Over.Dispose();
        }
    }

    private async Task EndAsync(Guid id, string name, TurnInfo info, Caller caller)
    {
        await using var db = database.Open();
        await using var transaction = await db.Database.BeginTransactionAsync().ConfigureAwait(false);
        if (await db.Twins.FirstOrDefaultAsync(t => t.Id == id).ConfigureAwait(false) is { } row)
        {
            row.Turn = JsonSerializer.Serialize(info, WireJson.Default.TurnInfo);
        }
        await audit.AddAsync(
            db, caller, "twin.turn-end", name, CancellationToken.None, ("id", $"{id}"), ("state", info.State.ToString().ToLowerInvariant()), ("dryRun", info.DryRun ? "yes" : null), ("done", Number(info.ActsDone)), ("bytes", Number(info.BytesDone)), ("moved", Number(info.BytesMoved)),
            ("conflicts", info.Conflicts > 0 ? Number(info.Conflicts) : null), ("problems", info.Problems > 0 ? Number(info.Problems) : null), ("why", info.Reason)).ConfigureAwait(false);
        await transaction.CommitAsync().ConfigureAwait(false);
    }

    /// <summary>Goes on over as many lines as it takes.</summary>
    private async Task<(TurnState, string?)> TryAsync(Guid id, NewTwin twin, NewTurn wish, Running running, TurnAsker asker, List<TurnAct> done)
    {
        var cancel = running.Over.Token;
        await using var door = new TwinDoor(on, asker, twin, wish.UsesVault, time);
        var before = files.ReadBase(id);
        var (movedAt, moved, wait) = (time.GetTimestamp(), running.Progress.ToInfo(), TimeSpan.FromSeconds(1));
        while (true)
        {
            var turn = new TwinTurn(twin.First, twin.Second, twin.Rules, twin.Rate, wish, before, running.Progress, time);
            try
            {
                await turn.RunAsync(door, cancel).ConfigureAwait(false);
                done.AddRange(turn.Acts);
                return (TurnState.Done, null);
            }
            catch (TalkBrokenException e)
            {
                var now = running.Progress.ToInfo();
                if (now.ActsDone > moved.ActsDone || now.BytesDone > moved.BytesDone)
                {
                    (movedAt, wait) = (time.GetTimestamp(), TimeSpan.FromSeconds(1));
                }
                moved = now;
                done.AddRange(turn.Acts.Where(a => a.IsDone));
                if (time.GetElapsedTime(movedAt) > Patience)
                {
                    return (TurnState.Failed, $"{e.Message} It was waited for {Units.Span(Patience)}. What was done stays done; take another turn.");
                }
                running.Progress.Is(TurnState.Waiting, e.Message);
                await Task.Delay(wait, time, cancel).ConfigureAwait(false);
                wait = wait * 2 > LongestWait ? LongestWait : wait * 2;
            }
            catch (Exception e) when (e is OperationCanceledException or TurnFailedException)
            {
                done.AddRange(turn.Acts);
                throw;
            }
            finally
            {
                if (!wish.DryRun && turn.Known is { } known)
                {
                    files.WriteBase(id, known);
                    before = known.ToDictionary(k => k.Path);
                }
            }
        }
    }

    private static string? Check(NewTwin wish) =>
        wish.First is not { Path: not null } || wish.Second is not { Path: not null } ? "A twin has two folders: each says on which host or shelf, and its path."
        : (wish.First.HostId is null) == (wish.First.ShelfId is null) || (wish.Second.HostId is null) == (wish.Second.ShelfId is null) ? "A folder lies on a host or on a shelf: name one of them."
        : wish.First.HostId is null && wish.Second.HostId is null ? "Both folders lie on shelves; one of them has to be a host's."
        : HasDots(wish.First.Path) || HasDots(wish.Second.Path) ? "A folder has dots for folders in it; write where it lies."
        : wish.Rules is null ? "Say which way changes go: one-way or both-ways."
        : wish.Rate is < RateLimit.Least ? $"The rate is at least {Units.Bytes(RateLimit.Least)} a second."
        : wish.First.Path.CheckPath() ?? wish.Second.Path.CheckPath() ?? wish.Rules.Check()
            ?? (wish.First.HostId == wish.Second.HostId && (IsIn(wish.First.Path, wish.Second.Path) || IsIn(wish.Second.Path, wish.First.Path)) ? "One of the folders lies in the other; take two that lie beside each other." : null);

    private static bool HasDots(FileName path) => path.Text.Split('/').Any(p => p is "." or "..");

    private static bool IsIn(FileName folder, FileName path) => FileRoots.Find([folder.Text], path) is not null;

    /// <summary>What is read on one side and written on the other has to be allowed there.</summary>
    /// <returns>Both places in words.</returns>
    private async Task<(string First, string Second)> CheckMayAsync(NewTwin wish, Asker by, CancellationToken cancel)
    {
        var both = wish.Rules.Way == TwinWay.BothWays;
        return (await CheckMayAsync(wish.First, both, by, cancel).ConfigureAwait(false), await CheckMayAsync(wish.Second, true, by, cancel).ConfigureAwait(false));
    }

    private async Task<string> CheckMayAsync(TwinPlace place, bool changes, Asker by, CancellationToken cancel)
    {
        var path = TerminalText.Line(place.Path.Text);
        if (place.HostId is { } id)
        {
            var host = gate.Host(by, id, Permission.ReadFiles);
            return $"{(changes ? gate.Host(by, id, Permission.WriteFiles) : host).Label} in {host.GroupPath}: {path}";
        }
        var shelf = await on.Shelves.CheckMayAsync(place.ShelfId!.Value, changes ? Permission.WriteFiles : Permission.ReadFiles, by, cancel).ConfigureAwait(false);
        return $"the shelf {shelf.Name} of {shelf.GroupPath}: {path}";
    }

    private static async Task<TwinRow> FindAsync(UmbrekContext db, Guid id, Asker by, CancellationToken cancel) =>
        await db.Twins.FirstOrDefaultAsync(t => t.Id == id && t.CreatedById == by.Id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("twin");

    private async Task<TwinInfo> ToInfoAsync(TwinRow row, Asker by, CancellationToken cancel) => ToInfo(row, by, await on.Shelves.NamesAsync(by, cancel).ConfigureAwait(false));

    private TwinInfo ToInfo(TwinRow row, Asker by, Dictionary<Guid, (string Name, string GroupPath)> shelves)
    {
        var wish = WishOf(row);
        return new TwinInfo(row.Id, row.Name, Folder(wish.First, by, shelves), Folder(wish.Second, by, shelves), wish.Rules, wish.Rate, row.CreatedAt, running.TryGetValue(row.Id, out var turn) ? turn.Progress.ToInfo() : TurnOf(row));
    }

    private TwinFolder Folder(TwinPlace place, Asker by, Dictionary<Guid, (string Name, string GroupPath)> shelves) =>
        place.HostId is { } id && estate.Find(id, by.Reach) is { } host ? new TwinFolder(id, host.Label, host.GroupPath, place.Path)
        : place.ShelfId is { } shelfId && shelves.TryGetValue(shelfId, out var shelf) ? new TwinFolder(null, shelf.Name, shelf.GroupPath, place.Path, shelfId)
        : new TwinFolder(place.HostId, null, null, place.Path, place.ShelfId);

    private static NewTwin WishOf(TwinRow row) => JsonSerializer.Deserialize(row.Wish, WireJson.Default.NewTwin)!;

    private static TurnInfo? TurnOf(TwinRow row) => row.Turn is { } text ? JsonSerializer.Deserialize(text, WireJson.Default.TurnInfo) : null;

    private static string Words(TwinRules rules) => rules.Way == TwinWay.BothWays ? "both ways" : rules.Deletes ? "one way, with what is taken away" : "one way";

    private static string Number(long number) => number.ToString(CultureInfo.InvariantCulture);

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Error, Message = "a turn of the twin {Name} broke")]
        public static partial void Broke(ILogger logger, string name, Exception problem);
    }
}
