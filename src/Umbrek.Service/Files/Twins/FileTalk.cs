using System.Net.WebSockets;
using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;
using Umbrek.Core.Text;
using Umbrek.Service.Relay;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files.Twins;

/// <summary>A line to a host is gone; asking again later may find it back.</summary>
public sealed class TalkBrokenException(string message) : Exception(message);

/// <summary>Nothing comes of a turn, and why.</summary>
public sealed class TurnFailedException(string message) : Exception(message);

/// <summary>The service's end of a channel to the files of one side of a twin.</summary>
/// <param name="host">What a person calls the host.</param>
/// <param name="root">The folder there.</param>
/// <param name="packs">Bytes are packed where that is faster, by this time; null where they do not leave the machine.</param>
/// <param name="tidy">Makes words for people of those of the other end; null where they are that already.</param>
public sealed class FileTalk(string host, TwinSide side, FileName root, OwnEnd end, TimeProvider? packs, Func<string, string>? tidy = null) : IAsyncDisposable
{
    private static readonly TimeSpan Parting = TimeSpan.FromSeconds(5);

    private readonly FileFrames<FileAsk, FileWord> frames = FileFrames.OfTechnician(end.Host, packs);

    /// <summary>With the session the line ends at once, whatever is waited for on it.</summary>
    private readonly CancellationTokenRegistration ended = end.Ended.Register(end.Host.Abort);
    public string Host => host;
    public TwinSide Side => side;
    public FileName Root => root;

    /// <summary>So many bytes of files and of what is said about them went over it.</summary>
    public long Moved => frames.Moved;

    /// <summary>Fills in a question behind others; it is sent with the next that is full.</summary>
    public Task FillAsync(FileAsk ask, CancellationToken cancel) => TryAsync(frames.WriteAsync(ask, cancel), cancel);

    /// <summary>The same for bytes.</summary>
    public Task FillAsync(ReadOnlyMemory<byte> data, CancellationToken cancel)
    {
        // A long file is answered at its end alone.
        end.Use();
        return TryAsync(frames.WriteAsync(data, cancel), cancel);
    }

    public Task FlushAsync(CancellationToken cancel) => TryAsync(frames.FlushAsync(cancel), cancel);

    /// <summary>The next part of an answer.</summary>
    /// <exception cref="TurnFailedException">The host refuses, or says what is no answer.</exception>
    public async ValueTask<FileMessage<FileWord>> NextAsync(CancellationToken cancel)
    {
        while (true)
        {
            FileMessage<FileWord> message;
            try
            {
                message = await frames.ReceiveAsync(cancel).ConfigureAwait(false) ?? throw new TalkBrokenException(frames.ClosedBecause ?? $"{host} has closed the channel.");
            }
            catch (Exception e) when (e is WebSocketException or IOException or ObjectDisposedException or OperationCanceledException)
            {
                throw Broken(e, cancel);
            }
            catch (InvalidDataException e)
            {
                throw new TurnFailedException($"{host} sent no answer about files: {e.Message}.");
            }
            end.Use();
            if (message.Word is not { } word)
            {
                return message;
            }
            if (word.Refusal is { } refusal)
            {
                throw new TurnFailedException($"{host}: {refusal}");
            }
            if (word.Notice is null)
            {
                return tidy is not null && word.Problem is { } problem ? message with { Word = word with { Problem = tidy(problem) } } : message;
            }
        }
    }

    /// <summary>Asks for what is answered in words alone.</summary>
    /// <param name="some">Told of each word.</param>
    /// <returns>The last word, whatever it says.</returns>
    public async Task<FileWord> AskAsync(FileAsk ask, Action<FileWord>? some, CancellationToken cancel)
    {
        await FillAsync(ask, cancel).ConfigureAwait(false);
        await FlushAsync(cancel).ConfigureAwait(false);
        return await AnswerAsync(some, cancel).ConfigureAwait(false);
    }

    /// <summary>Hears what is answered in words alone.</summary>
    public async Task<FileWord> AnswerAsync(Action<FileWord>? some, CancellationToken cancel)
    {
        while ((await NextAsync(cancel).ConfigureAwait(false)).Word is { } word)
        {
            some?.Invoke(word);
            if (word.Done)
            {
                return word;
            }
        }
        throw new TurnFailedException($"{host} sent something else than was asked for.");
    }

    public async ValueTask DisposeAsync()
    {
        await ended.DisposeAsync().ConfigureAwait(false);
        try
        {
            using var limit = new CancellationTokenSource(Parting);
            await frames.CloseAsync(limit.Token).ConfigureAwait(false);
        }
        catch (Exception e) when (e is WebSocketException or IOException or OperationCanceledException or ObjectDisposedException)
        {
            // It is gone already.
        }
        end.LetGo();
    }

    private async Task TryAsync(ValueTask sending, CancellationToken cancel)
    {
        try
        {
            await sending.ConfigureAwait(false);
        }
        catch (Exception e) when (e is WebSocketException or IOException or ObjectDisposedException or OperationCanceledException)
        {
            throw Broken(e, cancel);
        }
    }

    private TalkBrokenException Broken(Exception e, CancellationToken cancel)
    {
        cancel.ThrowIfCancellationRequested();
        return new TalkBrokenException(end.Ended.IsCancellationRequested ? $"The session with {host} has ended." : $"The line to {host} broke: {e.Message}");
    }
}

/// <summary>What there is below a folder.</summary>
/// <param name="Entries">By paths from there.</param>
/// <param name="Unseen">What could not be looked into, and why.</param>
public sealed record FileTree(Dictionary<FileName, FileEntry> Entries, Dictionary<FileName, string> Unseen)
{
    /// <summary>More are not kept in mind.</summary>
    public const int Most = 200_000;

    /// <param name="folder">What a person calls the folder of the talk.</param>
    /// <returns>Null where there is no such folder.</returns>
    public static async Task<FileTree?> LookAsync(FileTalk talk, FileName folder, Func<FileName, bool> isLeft, CancellationToken cancel)
    {
        var look = await talk.AskAsync(new FileAsk(Look: talk.Root), null, cancel).ConfigureAwait(false);
        if (look.Entry is null)
        {
            return null;
        }
        if (look.Entry.Kind != FileKind.Folder)
        {
            throw new TurnFailedException($"{folder} on {talk.Host} is no folder.");
        }
        var tree = new FileTree([], []);
        var last = await talk.AskAsync(new FileAsk(Walk: talk.Root), word =>
        {
            foreach (var entry in word.Entries ?? [])
            {
                // What one host says is done on another: there it leads out of nothing.
                if (entry.Name?.Text is null || !entry.Name.IsPlainPath())
                {
                    throw new TurnFailedException($"{talk.Host} names '{TerminalText.Line(entry.Name?.Text ?? "")}' as lying in {folder}, which can't be. Look at its agent.");
                }
                // Whose it is plays no part here, and would be kept so many times.
                tree.Entries[entry.Name] = entry with { Owner = "", Group = "" };
            }
            if (word is { Problem: { } problem, At: { } at } && !isLeft(at))
            {
                tree.Unseen[at] = problem;
            }
            if (tree.Entries.Count > Most)
            {
                throw new TurnFailedException($"{folder} on {talk.Host} holds more than {Most:N0} things, the most that are kept in step. Take folders below it.");
            }
        }, cancel).ConfigureAwait(false);
        return last.Problem is { } problem ? throw new TurnFailedException($"{talk.Host}: {problem}") : tree;
    }
}
