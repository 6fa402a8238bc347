using System.Collections.Concurrent;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Desktop;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Api;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Sessions;

/// <summary>Has films made of recorded desktops, one at a time, for whoever may see the recording. They lie beside it, and go with it.</summary>
public sealed partial class FilmService(RecordingService recordings, RecordingFiles files, AuditLog audit, ILogger<FilmService> log) : IAsyncDisposable
{
    private const double LeastPause = 0.1;
    private const double MostPause = 3600;

    private readonly ConcurrentDictionary<Guid, Making> making = new();
    private readonly SemaphoreSlim turn = new(1);

    /// <summary>A film that is being made, or came to nothing.</summary>
    private sealed class Making
    {
        public CancellationTokenSource Given { get; } = new();
        public Task Task { get; set; } = Task.CompletedTask;
        public double Done { get; set; }
        public string? Problem { get; set; }
    }

    /// <summary>Begins to make one; where that goes on already, says how far it has come.</summary>
    public async Task<FilmInfo> BeginAsync(Guid id, NewFilm wish, Asker by, CancellationToken cancel)
    {
        var info = await recordings.GetAsync(id, by, cancel).ConfigureAwait(false);
        if (info.Kind != RecordingKind.Desktop)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "A film is made of a desktop; a shell is looked at as it is.");
        }
        if (info.EndedAt is null)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "It is still being written. End the session first, or wait for its end.");
        }
        if (wish.LongestPause is not (null or >= LeastPause and <= MostPause))
        {
            throw ProblemException.Invalid($"The longest pause is {LeastPause.ToString(System.Globalization.CultureInfo.InvariantCulture)} to {MostPause:0} seconds; leave it out to keep pauses as they were.");
        }
        if (FilmMaker.Missing() is { } missing)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, missing);
        }
        var one = new Making();
        var known = making.AddOrUpdate(id, one, (_, before) => before.Task.IsCompleted && before.Problem is not null ? one : before);
        if (known == one)
        {
            await audit.AddAsync(by, "recording.film", $"{info.HostLabel} in {info.GroupPath}", cancel, ("recording", $"{id}"), ("of", info.Technician)).ConfigureAwait(false);
            one.Task = MakeAsync(id, one, wish.LongestPause is { } seconds ? TimeSpan.FromSeconds(seconds) : null);
        }
        return new FilmInfo(id, FilmState.Making, known.Done);
    }

    public async Task<FilmInfo> GetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await recordings.GetAsync(id, by, cancel).ConfigureAwait(false);
        if (making.TryGetValue(id, out var one))
        {
            return new FilmInfo(id, one.Problem is null ? FilmState.Making : FilmState.Failed, one.Done, Problem: one.Problem);
        }
        await using var film = files.OpenFilm(id);
        return film is null ? new FilmInfo(id, FilmState.None, 0) : new FilmInfo(id, FilmState.Ready, 1, film.Length);
    }

    /// <summary>The film, once it is ready; whoever takes it is in the audit log.</summary>
    public async Task<Stream> OpenAsync(Guid id, Asker by, CancellationToken cancel)
    {
        var info = await recordings.GetAsync(id, by, cancel).ConfigureAwait(false);
        var film = (making.ContainsKey(id) ? null : files.OpenFilm(id)) ?? throw new ProblemException(409, ProblemTypes.Conflict, "There is no film of this recording, or it is not ready yet. Have one made first.");
        await audit.AddAsync(by, "recording.watch", $"{info.HostLabel} in {info.GroupPath}", cancel, ("recording", $"{id}"), ("of", info.Technician), ("as", "film")).ConfigureAwait(false);
        return film;
    }

    /// <summary>Gives one up that is being made, or removes one that is ready.</summary>
    public async Task StopAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await recordings.GetAsync(id, by, cancel).ConfigureAwait(false);
        if (making.TryGetValue(id, out var one))
        {
            await one.Given.CancelAsync().ConfigureAwait(false);
            await one.Task.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            making.TryRemove(id, out _);
        }
        files.DeleteFilm(id);
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var one in making.Values)
        {
            await one.Given.CancelAsync().ConfigureAwait(false);
            await one.Task.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            one.Given.Dispose();
        }
        turn.Dispose();
    }

    private async Task MakeAsync(Guid id, Making one, TimeSpan? longestPause)
    {
        await Task.Yield();
        var cancel = one.Given.Token;
        try
        {
            await turn.WaitAsync(cancel).ConfigureAwait(false);
            try
            {
                files.DeleteFilm(id);
                await files.CreateFilm(id).DisposeAsync().ConfigureAwait(false);
                await FilmMaker.MakeAsync(() => files.Open(id) ?? throw new FilmException("The file of this recording is gone from the service's data directory."), files.FilmToBe(id), longestPause, done => one.Done = done, cancel).ConfigureAwait(false);
                files.KeepFilm(id);
                making.TryRemove(id, out _);
            }
            finally
            {
                turn.Release();
            }
        }
        catch (OperationCanceledException)
        {
            files.DeleteFilm(id);
        }
        catch (Exception e) when (e is FilmException or IOException or UnauthorizedAccessException)
        {
            files.DeleteFilm(id);
            one.Problem = e.Message;
            Log.NotMade(log, e);
        }
    }

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Warning, Message = "A film of a recording was not made")]
        public static partial void NotMade(ILogger logger, Exception e);
    }
}
