using System.CommandLine;
using System.Net.WebSockets;
using System.Runtime.CompilerServices;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Sessions;

namespace Umbrek.Cli.Jobs;

/// <summary>A look at what runs on a host, over a session of its own.</summary>
internal static class HostLook
{
    /// <summary>Processes as they come, until the caller has seen enough.</summary>
    /// <exception cref="ClientException">The host shows nothing; it says why.</exception>
    public static async IAsyncEnumerable<ProcessReading> ProcessesAsync(ClientContext client, ApiClient api, ParseResult parsed, HostSecretOptions secrets, HostSummary host, ViewWish wish, [EnumeratorCancellation] CancellationToken cancel)
    {
        ProcessReading? reading = null;
        await foreach (var word in LookAsync(client, api, parsed, secrets, host, ChannelKinds.Processes, wish, cancel).ConfigureAwait(false))
        {
            if (word.Changes is { } changes)
            {
                yield return reading = changes.Apply(reading);
            }
        }
    }

    /// <summary>The services of a host now.</summary>
    /// <exception cref="ClientException">The host shows nothing; it says why.</exception>
    public static async Task<IReadOnlyList<HostService>> ServicesAsync(ClientContext client, ApiClient api, ParseResult parsed, HostSecretOptions secrets, HostSummary host, CancellationToken cancel)
    {
        await foreach (var word in LookAsync(client, api, parsed, secrets, host, ChannelKinds.Services, new ViewWish(60), cancel).ConfigureAwait(false))
        {
            if (word.Services is { } services)
            {
                return services;
            }
        }
        throw new ClientException($"{host.Label} shows no services.");
    }

    /// <summary>A log as it is read, until the caller has heard enough or the host has said all of it.</summary>
    /// <exception cref="ClientException">The host shows nothing; it says why.</exception>
    public static IAsyncEnumerable<LogWord> LogAsync(ClientContext client, ApiClient api, ParseResult parsed, HostSecretOptions secrets, HostSummary host, LogWish wish, CancellationToken cancel) =>
        ReadAsync(client, api, parsed, secrets, host, door => new NewChannel(ChannelKinds.Logs, Seal: door?.Seal(wish), UsesVault: secrets.UsesVault(parsed), Log: wish), LogWord.Frames, w => w.Problem, w => w.Notice, cancel);

    private static IAsyncEnumerable<ViewWord> LookAsync(ClientContext client, ApiClient api, ParseResult parsed, HostSecretOptions secrets, HostSummary host, string kind, ViewWish wish, CancellationToken cancel) =>
        ReadAsync(client, api, parsed, secrets, host, door => new NewChannel(kind, Seal: door?.Seal(wish), UsesVault: secrets.UsesVault(parsed), View: wish), ViewWord.Frames, w => w.Problem, w => w.Notice, cancel);

    /// <summary>What the host says, until the caller has heard enough; then the session ends.</summary>
    private static async IAsyncEnumerable<T> ReadAsync<T>(
        ClientContext client, ApiClient api, ParseResult parsed, HostSecretOptions secrets, HostSummary host, Func<HostDoor?, NewChannel> channel, Func<WebSocket, WordFrames<T>> framesOf, Func<T, string?> problemOf, Func<T, string?> noticeOf,
        [EnumeratorCancellation] CancellationToken cancel) where T : class
    {
        var door = secrets.AreGiven(parsed) ? await secrets.OpenAsync(client, api, parsed, host.Id, $"{host.Label} of {GroupPath.Customer(host.GroupPath)}", cancel).ConfigureAwait(false) : null;
        var wish = channel(door);
        var session = door?.Session ?? await api.PostAsync($"hosts/{host.Id}/sessions", new NewSession(wish.Kind), WireJson.Default.NewSession, WireJson.Default.SessionInfo, cancel).ConfigureAwait(false);
        try
        {
            var (socket, _) = await ChannelSocket.OpenAsync(api, client.State.Require().NewPin(), session.Id, wish, cancel).ConfigureAwait(false);
            using (socket)
            {
                var frames = framesOf(socket);
                while (await NextAsync(frames, cancel).ConfigureAwait(false) is { } word)
                {
                    if (problemOf(word) is { } problem)
                    {
                        throw new ClientException(problem);
                    }
                    if (noticeOf(word) is { } notice)
                    {
                        await Console.Error.WriteLineAsync(notice).ConfigureAwait(false);
                    }
                    yield return word;
                }
                throw new ClientException(frames.ClosedBecause ?? $"{host.Label} has closed the channel.");
            }
        }
        finally
        {
            await EndAsync(api, session.Id).ConfigureAwait(false);
        }
    }

    /// <summary>A session that can't be ended now ends by itself; whoever has seen enough is not told of trouble on his way out.</summary>
    private static async Task EndAsync(ApiClient api, Guid sessionId)
    {
        try
        {
            await api.ActAsync(HttpMethod.Post, $"sessions/{sessionId}/end", CancellationToken.None).ConfigureAwait(false);
        }
        catch (Exception e) when (e is ApiException or UnreachableException)
        {
            await Console.Error.WriteLineAsync($"The session ends by itself later: {e.Message}").ConfigureAwait(false);
        }
    }

    private static async Task<T?> NextAsync<T>(WordFrames<T> frames, CancellationToken cancel) where T : class
    {
        try
        {
            return await frames.ReceiveAsync(cancel).ConfigureAwait(false);
        }
        catch (Exception e) when (e is WebSocketException or IOException)
        {
            cancel.ThrowIfCancellationRequested();
            throw new ClientException($"The line to the host broke: {e.Message}");
        }
    }
}
