using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Umbrek.Core.Access;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Relay;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Sessions;

/// <summary>Opens channels by which technicians act at hosts: what one opens is in the audit log first, and where the host asks for its key, it is proven from the vault if that is wished.</summary>
public sealed class ActingChannels(SessionService sessions, VaultedKeys keys, IAgentLinks links, EstateIndex estate, AuditLog audit)
{
    /// <param name="host">At which the caller may do it.</param>
    /// <param name="asked">What is wanted of the channel.</param>
    /// <param name="what">What it is for, as the audit log names it: "shell".</param>
    /// <param name="action">What the audit log calls it.</param>
    /// <param name="tap">Sees what goes over it; null where nobody looks.</param>
    public async Task<ChannelTicket> OpenAsync<T>(Guid sessionId, HostSummary host, NewChannel wish, Asker by, HostAct act, T asked, JsonTypeInfo<T> type, string what, string action, (string, string?)[] detail, IChannelTap? tap, CancellationToken cancel)
    {
        // The host does what was sealed, so that has to be what is asked for here: what is checked and written down.
        if (wish.Seal is { } seal && !IsOf(seal, asked, type))
        {
            throw ProblemException.Invalid($"What was sealed is not what is asked for; seal the same {what}.");
        }
        if (!links.IsLinked(host.Id))
        {
            throw new ProblemException(409, ProblemTypes.HostAway, $"{host.Label} is away; this takes a host that is linked. Try again when it is back.");
        }
        // Written first: nobody comes to one without a line of it.
        await audit.AddAsync(by, action, $"{host.Label} in {host.GroupPath}", cancel, [("session", $"{sessionId}"), .. detail]).ConfigureAwait(false);
        if (!wish.UsesVault || wish.Seal is not null || !estate.AsksKey(host.Id, act))
        {
            return await sessions.OpenChannelAsync(sessionId, wish, by, tap, cancel).ConfigureAwait(false);
        }
        try
        {
            ChannelTicket? ticket = null;
            await keys.SealAsync(
                host, by, act, JsonSerializer.Serialize(asked, type), (what, sessionId),
                async sealedOrder => ticket = await sessions.OpenChannelAsync(sessionId, wish with { Seal = sealedOrder }, by, tap, cancel).ConfigureAwait(false), cancel).ConfigureAwait(false);
            return ticket!;
        }
        catch (DoorException e)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, e.Message);
        }
    }

    private static bool IsOf<T>(SealedOrder seal, T asked, JsonTypeInfo<T> type)
    {
        try
        {
            return JsonSerializer.Deserialize(seal.Text ?? "", type) is { } inside && JsonSerializer.Serialize(inside, type) == JsonSerializer.Serialize(asked, type);
        }
        catch (JsonException)
        {
            return false;
        }
    }
}
