using System.Net.WebSockets;

namespace Umbrek.Service.Relay;

/// <summary>The technician's end of a channel that the service itself has come to, for a technician.</summary>
/// <param name="Host">What the host says comes out of it.</param>
/// <param name="Use">Called whenever something went over it, so that its session is not taken for idle.</param>
/// <param name="LetGo">Lets the host go.</param>
/// <param name="Ended">The session has ended.</param>
public sealed record OwnEnd(WebSocket Host, Action Use, Action LetGo, CancellationToken Ended);
