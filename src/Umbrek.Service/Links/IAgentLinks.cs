using Microsoft.AspNetCore.SignalR;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Links;

/// <summary>The host is away, or did not answer.</summary>
/// <param name="asked">Whether the question went out, so that the host may have heard it and act on it.</param>
public sealed class HostUnreachableException(string message, bool asked) : Exception(message)
{
    public bool Asked { get; } = asked;
}

/// <summary>Talks to agents; the transport behind it can change.</summary>
public interface IAgentLinks
{
    bool IsLinked(Guid hostId);

    /// <summary>Sends without an answer. Nothing happens when the host is away; whoever sends keeps what must not be lost.</summary>
    Task SendAsync(Guid hostId, string method, object message, CancellationToken cancel);

    /// <exception cref="HostUnreachableException">No link, no answer in time, or the link broke meanwhile.</exception>
    Task<HostAnswer> AskAsync(Guid hostId, HostRequest request, TimeSpan timeout, CancellationToken cancel);
}

/// <summary>Over the connections of this node.</summary>
public sealed class LocalAgentLinks(LinkRegistry registry, IHubContext<LinkHub> hub, TimeProvider time) : IAgentLinks
{
    public bool IsLinked(Guid hostId) => registry.Find(hostId) is not null;

    public Task SendAsync(Guid hostId, string method, object message, CancellationToken cancel) =>
        registry.Find(hostId) is { } link ? hub.Clients.Client(link.ConnectionId).SendAsync(method, message, cancel) : Task.CompletedTask;

    public async Task<HostAnswer> AskAsync(Guid hostId, HostRequest request, TimeSpan timeout, CancellationToken cancel)
    {
        var link = registry.Find(hostId) ?? throw new HostUnreachableException("The host is away; ask again when it is linked.", asked: false);
        using var limit = new CancellationTokenSource(timeout, time);
        using var either = CancellationTokenSource.CreateLinkedTokenSource(limit.Token, cancel, link.Caller.ConnectionAborted);
        try
        {
            return await hub.Clients.Client(link.ConnectionId).InvokeAsync<HostAnswer>(ToAgent.Ask, request, either.Token).ConfigureAwait(false);
        }
        catch (Exception e) when (e is HubException or OperationCanceledException or IOException && !cancel.IsCancellationRequested)
        {
            // Cancelling surfaces as HubException; what an agent threw arrives word for word and is not passed on.
            throw new HostUnreachableException(limit.IsCancellationRequested
                ? $"The host did not answer within {timeout.TotalSeconds:0} s. Try again; if it stays silent, look at its agent."
                : "The link broke before the host answered. Try again when it is back.", asked: true);
        }
    }
}
