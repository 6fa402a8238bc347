using System.CommandLine;
using System.Net.WebSockets;
using System.Runtime.CompilerServices;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Estate;
using Umbrek.Core.Files;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Files;
using Umbrek.Wire.Sessions;

namespace Umbrek.Cli.Files;

/// <summary>The line to the host is gone; asking again may find it back.</summary>
internal sealed class LineBrokenException(string message) : Exception(message);

/// <summary>Lets the client to a host's files, again where the line breaks: in one session, with the host's secret asked for once.</summary>
internal sealed class HostFilesDoor(ClientContext client, ApiClient api, ParseResult parsed, HostSecretOptions secrets, HostSummary host) : IAsyncDisposable
{
    private static readonly TimeSpan Parting = TimeSpan.FromSeconds(5);

    private readonly (string Name, string Text)? secret = secrets.AreGiven(parsed) ? secrets.Read(parsed, $"{host.Label} of {GroupPath.Customer(host.GroupPath)}") : null;
    private HostDoor? door;
    private Guid? sessionId;

    public HostSummary Host => host;

    /// <exception cref="LineBrokenException">The service or the host is away.</exception>
    /// <exception cref="ClientException">Somebody has ended the session.</exception>
    /// <param name="changes">To change files and to put some there; without, to look at them and read them.</param>
    public async Task<HostFiles> OpenAsync(bool changes, CancellationToken cancel)
    {
        try
        {
            return await ComeAsync(changes, cancel).ConfigureAwait(false);
        }
        catch (ApiException e) when (sessionId is not null && e.Problem.Word is ProblemTypes.Conflict or ProblemTypes.NotFound)
        {
            try
            {
                sessionId = await EndedSession.IsByNobodyAsync(api, sessionId.Value, e, cancel).ConfigureAwait(false) ? null : sessionId;
            }
            catch (UnreachableException away)
            {
                throw new LineBrokenException(away.Message);
            }
            throw new LineBrokenException(e.Message);
        }
        catch (Exception e) when (e is UnreachableException or WebSocketException or IOException or ApiException { Problem.Word: ProblemTypes.HostAway })
        {
            throw new LineBrokenException(e.Message);
        }
    }

    public async ValueTask DisposeAsync()
    {
        if (sessionId is null)
        {
            return;
        }
        using var limit = new CancellationTokenSource(Parting);
        try
        {
            await api.ActAsync(HttpMethod.Post, $"sessions/{sessionId}/end", limit.Token).ConfigureAwait(false);
        }
        catch (Exception e) when (e is ApiException or UnreachableException or OperationCanceledException)
        {
            // It ends by itself later.
        }
    }

    private async Task<HostFiles> ComeAsync(bool changes, CancellationToken cancel)
    {
        var pin = client.State.Require().NewPin();
        if (sessionId is null)
        {
            door = secret is var (name, text) ? await HostDoor.OpenAsync(api, pin, host.Id, name, text, cancel).ConfigureAwait(false) : null;
            sessionId = (door?.Session ?? await api.PostAsync($"hosts/{host.Id}/sessions", new NewSession("files"), WireJson.Default.NewSession, WireJson.Default.SessionInfo, cancel).ConfigureAwait(false)).Id;
        }
        var wish = new FilesWish(changes, Packs: true);
        var (socket, _) = await ChannelSocket.OpenAsync(api, pin, sessionId.Value, new NewChannel(ChannelKinds.Files, Seal: door?.Seal(wish), UsesVault: secrets.UsesVault(parsed), Files: wish), cancel).ConfigureAwait(false);
        return new HostFiles(host, socket);
    }
}

/// <summary>A channel to a host's files.</summary>
internal sealed class HostFiles(HostSummary host, WebSocket socket) : IDisposable
{
    private readonly FileFrames<FileAsk, FileWord> frames = FileFrames.OfTechnician(socket, TimeProvider.System);

    /// <summary>Sends a question, and all that was filled in before it.</summary>
    public Task AskAsync(FileAsk ask, CancellationToken cancel) => TryAsync(frames.SayAsync(ask, cancel), cancel);

    /// <summary>Fills in a question behind others; it is sent with the next that is full.</summary>
    public Task FillAsync(FileAsk ask, CancellationToken cancel) => TryAsync(frames.WriteAsync(ask, cancel).AsTask(), cancel);

    /// <summary>The same for bytes of a file.</summary>
    public Task FillAsync(ReadOnlyMemory<byte> data, CancellationToken cancel) => TryAsync(frames.WriteAsync(data, cancel).AsTask(), cancel);

    /// <summary>Sends what was filled in.</summary>
    public Task FlushAsync(CancellationToken cancel) => TryAsync(frames.FlushAsync(cancel).AsTask(), cancel);

    /// <summary>The next part of an answer. What the host says for the technician to read is printed.</summary>
    /// <exception cref="ClientException">The host refuses.</exception>
    /// <exception cref="LineBrokenException">The channel has ended.</exception>
    public async ValueTask<FileMessage<FileWord>> NextAsync(CancellationToken cancel)
    {
        while (true)
        {
            FileMessage<FileWord> message;
            try
            {
                message = await frames.ReceiveAsync(cancel).ConfigureAwait(false) ?? throw new LineBrokenException(frames.ClosedBecause ?? $"{host.Label} has closed the channel.");
            }
            catch (Exception e) when (e is WebSocketException or IOException)
            {
                cancel.ThrowIfCancellationRequested();
                throw new LineBrokenException(e.Message);
            }
            catch (InvalidDataException e)
            {
                throw new ClientException($"{host.Label} sent no answer about files: {e.Message}.");
            }
            if (message.Word?.Refusal is { } refusal)
            {
                throw new ClientException(refusal);
            }
            if (message.Word?.Notice is not { } notice)
            {
                return message;
            }
            await Console.Error.WriteLineAsync(notice).ConfigureAwait(false);
        }
    }

    /// <summary>Asks for what is answered in words alone.</summary>
    /// <param name="some">Told of words before the last: problems on the way, how far it is.</param>
    /// <returns>The last word, whatever it says.</returns>
    public async Task<FileWord> AskAnyAsync(FileAsk ask, Action<FileWord>? some, CancellationToken cancel)
    {
        await AskAsync(ask, cancel).ConfigureAwait(false);
        while ((await NextAsync(cancel).ConfigureAwait(false)).Word is { } word)
        {
            if (word.Done)
            {
                return word;
            }
            some?.Invoke(word);
        }
        throw new ClientException($"{host.Label} sent something else than was asked for.");
    }

    /// <inheritdoc cref="AskAnyAsync"/>
    /// <exception cref="ClientException">Nothing came of it, and why.</exception>
    public async Task<FileWord> AskOneAsync(FileAsk ask, Action<FileWord>? some, CancellationToken cancel) =>
        await AskAnyAsync(ask, some, cancel).ConfigureAwait(false) is var word && word is { Problem: { } problem, Count: null } ? throw new ClientException(problem) : word;

    public async Task<FileEntry> LookAsync(FileName path, CancellationToken cancel)
    {
        var word = await AskOneAsync(new FileAsk(Look: path), null, cancel).ConfigureAwait(false);
        return word.Entry ?? throw new ClientException($"{host.Label} says nothing of {path}.");
    }

    public IAsyncEnumerable<FileEntry> ListAsync(FileName path, CancellationToken cancel) => EntriesAsync(new FileAsk(List: path), null, cancel);

    /// <param name="problem">Told of what can't be looked at.</param>
    public IAsyncEnumerable<FileEntry> WalkAsync(FileName path, Action<string> problem, CancellationToken cancel) => EntriesAsync(new FileAsk(Walk: path), problem, cancel);

    public void Dispose() => socket.Dispose();

    private static async Task TryAsync(Task sending, CancellationToken cancel)
    {
        try
        {
            await sending.ConfigureAwait(false);
        }
        catch (Exception e) when (e is WebSocketException or IOException)
        {
            cancel.ThrowIfCancellationRequested();
            throw new LineBrokenException(e.Message);
        }
    }

    private async IAsyncEnumerable<FileEntry> EntriesAsync(FileAsk ask, Action<string>? problem, [EnumeratorCancellation] CancellationToken cancel)
    {
        await AskAsync(ask, cancel).ConfigureAwait(false);
        while ((await NextAsync(cancel).ConfigureAwait(false)).Word is { } word)
        {
            if (word.Problem is { } untold)
            {
                if (word.Done)
                {
                    throw new ClientException(untold);
                }
                problem?.Invoke(untold);
            }
            foreach (var entry in word.Entries ?? [])
            {
                yield return entry;
            }
            if (word.Done)
            {
                yield break;
            }
        }
        throw new ClientException($"{host.Label} sent something else than was asked for.");
    }
}
