using System.Net.WebSockets;
using System.Security.Cryptography;
using System.Text.Json;
using Umbrek.Core.Access;

namespace Umbrek.Wire.Sessions;

/// <summary>The host, or whoever answers for it, did not let the technician in; the message is for him.</summary>
public sealed class DoorException(string message) : Exception(message);

/// <summary>The technician's end of a key channel: proves a host's secret, and sets another.</summary>
/// <param name="socket">The channel's; it is closed with this.</param>
/// <param name="binding">What the channel is bound to (<see cref="ChannelBinding"/>).</param>
/// <param name="letGo">Called in the end: the socket is somebody else's.</param>
public sealed class KeyExchange(WebSocket socket, byte[] binding, Action? letGo = null) : IAsyncDisposable
{
    private readonly WordFrames<KeyFrame> frames = KeyFrame.Frames(socket);

    /// <param name="secret">In UTF-8; its owner wipes it.</param>
    /// <returns>The session's key.</returns>
    /// <exception cref="DoorException">The secret is wrong, or the host takes none now.</exception>
    public async Task<byte[]> ProveAsync(string name, byte[] secret, CancellationToken cancel)
    {
        try
        {
            var prover = new ScramProver(name, secret, ChannelBinding.NewNonce(), binding);
            await frames.SendAsync(new KeyFrame(Scram: prover.First), cancel).ConfigureAwait(false);
            var first = await ReceiveAsync(cancel).ConfigureAwait(false);
            await frames.SendAsync(new KeyFrame(Scram: prover.Prove(first.Scram ?? "")), cancel).ConfigureAwait(false);
            return prover.Check((await ReceiveAsync(cancel).ConfigureAwait(false)).Scram ?? "").SessionKey;
        }
        catch (ScramException e)
        {
            throw new DoorException(e.Message);
        }
    }

    /// <summary>On a channel for a new key, before anything else.</summary>
    /// <returns>Whether the host has a key, which is to be proven first.</returns>
    public async Task<bool> AsksProofAsync(CancellationToken cancel) => (await ReceiveAsync(cancel).ConfigureAwait(false)).AsksProof == true;

    /// <summary>Sets another access key, or the first one.</summary>
    /// <param name="fresh">In UTF-8; its owner wipes it.</param>
    /// <param name="serviceKeySha256">The service's public key, as its hosts know it.</param>
    /// <param name="hostKey">The host's public key.</param>
    /// <param name="sessionKey">What proving the key there is has left; null where there is none.</param>
    /// <exception cref="DoorException">The host did not take it.</exception>
    public async Task SetKeyAsync(byte[] fresh, byte[] serviceKeySha256, byte[] hostKey, byte[]? sessionKey, bool endSessions, CancellationToken cancel)
    {
        var wish = JsonSerializer.SerializeToUtf8Bytes(new KeyWish(ScramVerifier.Create(fresh), AccessKeyMark.Of(fresh, serviceKeySha256), endSessions), LinkJson.Default.KeyWish);
        await frames.SendAsync(new KeyFrame(NewKey: KeyBox.Seal(wish, hostKey, binding, sessionKey)), cancel).ConfigureAwait(false);
        CryptographicOperations.ZeroMemory(wish);
        if ((await ReceiveAsync(cancel).ConfigureAwait(false)).Done != true)
        {
            throw new DoorException("The host did not say that it has the new key. Look whether the old one is still good.");
        }
    }

    public async ValueTask DisposeAsync()
    {
        try
        {
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(5));
            await frames.CloseAsync(limit.Token).ConfigureAwait(false);
        }
        catch (Exception e) when (e is WebSocketException or OperationCanceledException)
        {
            // It is gone already.
        }
        if (letGo is null)
        {
            socket.Dispose();
        }
        else
        {
            letGo();
        }
    }

    private async Task<KeyFrame> ReceiveAsync(CancellationToken cancel)
    {
        try
        {
            return await frames.ReceiveAsync(cancel).ConfigureAwait(false) switch
            {
                null => throw new DoorException(frames.ClosedBecause ?? "The host closed the channel."),
                { Problem: { } problem } => throw new DoorException(problem),
                var frame => frame,
            };
        }
        catch (Exception e) when (e is WebSocketException or InvalidDataException)
        {
            throw new DoorException($"The channel to the host broke: {e.Message}");
        }
    }
}
