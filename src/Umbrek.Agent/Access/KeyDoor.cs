using System.Security.Cryptography;
using System.Text.Json;
using System.Threading.Channels;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Sessions;
using Umbrek.Core.Access;
using Umbrek.Wire;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;

namespace Umbrek.Agent.Access;

/// <summary>
/// The fourth lock: takes proofs of the host's access key or passcode (SCRAM, RFC 5802), and new keys from whoever has proven the old
/// one. One proof at a time, and after wrong ones none for a while.
/// </summary>
public sealed class KeyDoor(HostKeys keys, SessionTable sessions, AgentLog log)
{
    private const int MostReports = 200;
    private readonly Lock turn = new();
    private readonly Channel<KeyReport> reports = Channel.CreateBounded<KeyReport>(new BoundedChannelOptions(MostReports) { FullMode = BoundedChannelFullMode.DropOldest });

    /// <summary>What was tried, for the service's audit log.</summary>
    public ChannelReader<KeyReport> Reports => reports.Reader;

    public async Task ServeAsync(WordFrames<KeyFrame> channel, ChannelOrder order, AgentIdentity identity, CancellationToken cancel)
    {
        using var hostKey = identity.OpenAgreementKey();
        var binding = ChannelBinding.Of(identity.ServiceKeySha256, identity.HostId, hostKey.ExportSubjectPublicKeyInfo(), order.SessionId, order.ChannelId);
        string? tried = null;
        try
        {
            // The first key of a host is set without a proof: there is nothing to prove yet.
            byte[]? sessionKey = null;
            var asks = order.Kind == ChannelKinds.Key || keys.HasAccessKey;
            if (order.Kind == ChannelKinds.NewKey)
            {
                await channel.SendAsync(new KeyFrame(AsksProof: asks), cancel).ConfigureAwait(false);
            }
            if (asks)
            {
                sessionKey = await TakeProofAsync(channel, order, binding, name => tried = name, cancel).ConfigureAwait(false);
            }
            if (order.Kind == ChannelKinds.NewKey)
            {
                await TakeKeyAsync(channel, order, hostKey, binding, sessionKey, cancel).ConfigureAwait(false);
            }
            await channel.CloseAsync(cancel).ConfigureAwait(false);
        }
        catch (Exception e) when (e is ScramException or CryptographicException or JsonException)
        {
            log.Warning($"{order.Technician} was refused at the key: {e.Message}");
            reports.Writer.TryWrite(new KeyReport(order.SessionId, tried ?? ChannelBinding.AccessKey, e.Message));
            await channel.SendAsync(new KeyFrame(Scram: e is ScramException scram ? $"e={scram.Word}" : null, Problem: e is CryptographicException or JsonException ? "What came was not made for this host, or changed on its way. Nothing was set." : e.Message), cancel).ConfigureAwait(false);
            await channel.CloseAsync(cancel).ConfigureAwait(false);
        }
    }

    private async Task<byte[]> TakeProofAsync(WordFrames<KeyFrame> channel, ChannelOrder order, byte[] binding, Action<string> trying, CancellationToken cancel)
    {
        // Whoever holds a temporary secret does not make it a permanent one.
        ScramVerifier? FindSecret(string name)
        {
            trying(name == ChannelBinding.Passcode ? name : ChannelBinding.AccessKey);
            return order.Kind == ChannelKinds.NewKey && name != ChannelBinding.AccessKey ? null : keys.Find(name);
        }
        var keeper = new ScramKeeper(FindSecret, ChannelBinding.NewNonce(), binding);
        await channel.SendAsync(new KeyFrame(Scram: Answer(keeper, await ScramOfAsync(channel, cancel).ConfigureAwait(false))), cancel).ConfigureAwait(false);
        var proof = await ScramOfAsync(channel, cancel).ConfigureAwait(false);
        var (final, result) = Finish(keeper, proof, order.SessionId);
        log.Info($"{order.Technician} has proven the {keeper.Name}");
        reports.Writer.TryWrite(new KeyReport(order.SessionId, keeper.Name!, null));
        await channel.SendAsync(new KeyFrame(Scram: final), cancel).ConfigureAwait(false);
        return result.SessionKey;
    }

    /// <summary>One at a time: many at once would all be let try before the first is counted.</summary>
    private (string ServerFinal, ScramResult Result) Finish(ScramKeeper keeper, string proof, Guid sessionId)
    {
        lock (turn)
        {
            if (keys.Barred() is { } barred)
            {
                throw new ScramException("other-error", barred);
            }
            try
            {
                var finished = keeper.Finish(proof);
                if (keys.Find(keeper.Name!)?.StoredKey.AsSpan().SequenceEqual(keeper.Presented!.StoredKey) != true)
                {
                    throw new ScramException("unknown-user", "The secret was used up or changed meanwhile. Prove the one there is now.");
                }
                keys.Succeeded(keeper.Name!);
                sessions.Add(sessionId, finished.Result.SessionKey);
                return finished;
            }
            catch (ScramException e) when (e.Word == "invalid-proof")
            {
                keys.Failed();
                throw;
            }
        }
    }

    private string Answer(ScramKeeper keeper, string first)
    {
        if (keys.Barred() is { } barred)
        {
            throw new ScramException("other-error", barred);
        }
        try
        {
            return keeper.Answer(first);
        }
        catch (ScramException e) when (e.Word == "unknown-user")
        {
            throw new ScramException(e.Word, keeper.Name == ChannelBinding.Passcode
                ? "This host has no passcode, or it is used up or over. Make one on it: umbrek-agent passcode"
                : "This host has no access key. Set one: on it with 'umbrek-agent access-key set', or 'umbrek access-key set HOST'.");
        }
    }

    private async Task TakeKeyAsync(WordFrames<KeyFrame> channel, ChannelOrder order, ECDiffieHellman hostKey, byte[] binding, byte[]? sessionKey, CancellationToken cancel)
    {
        if (await channel.ReceiveAsync(cancel).ConfigureAwait(false) is not { } frame)
        {
            return;
        }
        if (frame.NewKey is not { } box)
        {
            throw new ScramException("other-error", "A new key was expected.");
        }
        var plain = box.Open(hostKey, binding, sessionKey);
        var wish = JsonSerializer.Deserialize(plain, LinkJson.Default.KeyWish);
        CryptographicOperations.ZeroMemory(plain);
        if (wish?.Verifier is not { } verifier || !verifier.IsUsable() || verifier.Iterations < ScramVerifier.DefaultIterations || wish.Mark is { Length: not 8 })
        {
            throw new JsonException("not a verifier");
        }
        keys.Set(KeptKey.Of(verifier, wish.Mark), wish.EndSessions);
        log.Info($"{order.Technician} has set another access key");
        reports.Writer.TryWrite(new KeyReport(order.SessionId, ChannelBinding.AccessKey, null, Changed: true));
        await channel.SendAsync(new KeyFrame(Done: true), cancel).ConfigureAwait(false);
    }

    private static async Task<string> ScramOfAsync(WordFrames<KeyFrame> channel, CancellationToken cancel) =>
        (await channel.ReceiveAsync(cancel).ConfigureAwait(false) ?? throw new InvalidDataException("the other side went away")).Scram
            ?? throw new ScramException("other-error", "A message of the proof was expected.");
}
