using System.Collections.Concurrent;
using Microsoft.AspNetCore.SignalR;
using Umbrek.Core.Enrolment;

namespace Umbrek.Service.Links;

/// <summary>One agent's live connection.</summary>
public sealed record LinkEntry(Guid HostId, string ConnectionId, HubCallerContext Caller, MachineMark Machine);

/// <summary>Which host is linked over which connection of this node.</summary>
public sealed class LinkRegistry
{
    private readonly ConcurrentDictionary<Guid, LinkEntry> links = new();

    public int Count => links.Count;

    public IEnumerable<LinkEntry> All => links.Values;

    /// <summary>Notes a host's newest connection; the one before it is closed.</summary>
    public void Register(LinkEntry link)
    {
        LinkEntry? before = null;
        links.AddOrUpdate(link.HostId, link, (_, old) =>
        {
            before = old;
            return link;
        });
        if (before is not null && before.ConnectionId != link.ConnectionId)
        {
            before.Caller.Abort();
        }
    }

    /// <summary>
    /// Forgets a connection. A late end of an old connection leaves the newer one of the same host alone.
    /// </summary>
    /// <returns>True when the host has no link any more.</returns>
    public bool Unregister(LinkEntry link) => links.TryRemove(KeyValuePair.Create(link.HostId, link));

    public LinkEntry? Find(Guid hostId) => links.GetValueOrDefault(hostId);
}
