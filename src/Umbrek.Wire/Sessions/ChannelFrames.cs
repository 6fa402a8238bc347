using System.Net.WebSockets;
using Umbrek.Core.Access;

namespace Umbrek.Wire.Sessions;

/// <summary>The first message on either side's WebSocket.</summary>
public sealed record ChannelJoin(string Ticket)
{
    public const string Path = "/channels";
    public static readonly TimeSpan Within = TimeSpan.FromSeconds(30);
}

/// <summary>What the channel of kind <c>key</c> or <c>new-key</c> carries, as text messages; each has one of these.</summary>
/// <param name="Scram">A message of the exchange (RFC 5802 §7).</param>
/// <param name="Problem">From the host: why it ends here, in a sentence.</param>
/// <param name="NewKey">To the host: a <see cref="KeyWish"/> as JSON, for the host alone.</param>
/// <param name="AsksProof">From the host, first on <c>new-key</c>: whether there is a key, which is to be proven before another is set.</param>
/// <param name="Done">From the host: the new key is set.</param>
public sealed record KeyFrame(string? Scram = null, string? Problem = null, KeyBox? NewKey = null, bool? Done = null, bool? AsksProof = null)
{
    public const int MaxBytes = 16 * 1024;

    public static WordFrames<KeyFrame> Frames(WebSocket socket) => new(socket, LinkJson.Default.KeyFrame, MaxBytes);
}

/// <summary>The verifier of a new access key.</summary>
/// <param name="Mark">See <see cref="AccessKeyMark"/>.</param>
/// <param name="EndSessions">Whether whoever has proven the old key has to prove the new one.</param>
public sealed record KeyWish(ScramVerifier Verifier, string? Mark, bool EndSessions);
