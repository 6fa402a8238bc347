using System.Net.WebSockets;
using System.Text.Json.Serialization;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Wire.Sessions;

namespace Umbrek.Wire.Jobs;

/// <summary>A look at a host's processes or services for as long as the channel is open.</summary>
/// <param name="EverySeconds">Between two readings. It must be there: a command that was sealed under the same act is no such wish.</param>
public sealed record ViewWish([property: JsonRequired] double EverySeconds = ViewWish.Usual)
{
    public const double Usual = 2;

    public string? Check() => EverySeconds is >= 0.5 and <= 60 ? null : "What goes on at a host is read every 0.5 to 60 seconds.";
}

/// <summary>The same, as the agent gets it.</summary>
public sealed record ViewOrder(ViewWish Wish, SealedOrder? Sealed = null);

/// <summary>What the host says on a channel of kind <c>processes</c> or <c>services</c>: text messages, each with one of these. The technician's side says nothing; it closes the channel.</summary>
/// <param name="Changes">Processes: what changed since the message before; the first has everything.</param>
/// <param name="Services">All services, at first and whenever one stands otherwise.</param>
/// <param name="Notice">A sentence for the technician, while it goes on.</param>
/// <param name="Problem">Why there is nothing to see, in a sentence; the last message.</param>
public sealed record ViewWord(ProcessChanges? Changes = null, IReadOnlyList<HostService>? Services = null, string? Notice = null, string? Problem = null)
{
    public const int MaxBytes = 32 << 20;

    public static WordFrames<ViewWord> Frames(WebSocket socket) => new(socket, LinkJson.Default.ViewWord, MaxBytes);
}
