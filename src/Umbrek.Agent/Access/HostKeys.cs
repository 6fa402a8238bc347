using System.Text;
using System.Text.Json;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Access;
using Umbrek.Core.Text;

namespace Umbrek.Agent.Access;

/// <summary>What the host keeps of its access key: a verifier, and the mark that hosts with the same key share.</summary>
/// <param name="SessionsFrom">Proofs that were made before this count no longer.</param>
public sealed record KeptKey(byte[] Salt, int Iterations, byte[] StoredKey, byte[] ServerKey, string? Mark = null, DateTimeOffset? SessionsFrom = null)
{
    public ScramVerifier ToVerifier() => new(Salt, Iterations, StoredKey, ServerKey);

    public static KeptKey Of(ScramVerifier verifier, string? mark) => new(verifier.Salt, verifier.Iterations, verifier.StoredKey, verifier.ServerKey, mark);

    public static KeptKey Of(string key, ReadOnlySpan<byte> serviceKeySha256) => Of(ScramVerifier.Create(key), AccessKeyMark.Of(Encoding.UTF8.GetBytes(key), serviceKeySha256));
}

/// <summary>A temporary secret of the host.</summary>
/// <param name="Once">It opens one session and is used up.</param>
/// <param name="BootId">It ends with this boot of the system.</param>
public sealed record KeptPasscode(KeptKey Key, DateTimeOffset? ExpiresAt, bool Once, string? BootId);

/// <summary>The host's secrets, as files that its owner's commands change too; and how often somebody was wrong about them.</summary>
public sealed class HostKeys(StateDirectory state, string? bootId, TimeProvider time)
{
    private readonly Lock gate = new();
    private (DateTime WrittenAt, long Length, KeptKey? Key) read;

    /// <summary>This process has set another access key.</summary>
    public event Action? Changed;

    public bool HasAccessKey => File.Exists(state.AccessKeyFile);

    /// <returns>The verifier of the secret, or null when there is none (any more).</returns>
    public ScramVerifier? Find(string name) => name switch
    {
        ChannelBinding.AccessKey => Key()?.ToVerifier(),
        ChannelBinding.Passcode => Passcode()?.Key.ToVerifier(),
        _ => null,
    };

    /// <summary>What is kept of the access key; the file is read again when it looks changed.</summary>
    public KeptKey? Key()
    {
        var file = new FileInfo(state.AccessKeyFile);
        var (writtenAt, length) = file.Exists ? (file.LastWriteTimeUtc, file.Length) : (default, -1);
        lock (gate)
        {
            if (read.WrittenAt != writtenAt || read.Length != length)
            {
                read = (writtenAt, length, length < 0 ? null : Read(state.AccessKeyFile, AgentJson.Default.KeptKey));
            }
            return read.Key;
        }
    }

    /// <summary>The passcode, while it is good.</summary>
    public KeptPasscode? Passcode() =>
        Read(state.PasscodeFile, AgentJson.Default.KeptPasscode) is { } kept && (kept.ExpiresAt is not { } end || time.GetUtcNow() < end) && (kept.BootId is null || kept.BootId == bootId) ? kept : null;

    /// <param name="endSessions">Whether whoever has proven the key before has to prove this one.</param>
    public void Set(KeptKey key, bool endSessions = false)
    {
        StateDirectory.WriteWhole(state.AccessKeyFile, key with { SessionsFrom = endSessions ? time.GetUtcNow() : Key()?.SessionsFrom }, AgentJson.Default.KeptKey);
        Changed?.Invoke();
    }

    public void Set(KeptPasscode passcode) => StateDirectory.WriteWhole(state.PasscodeFile, passcode, AgentJson.Default.KeptPasscode);

    public void RemoveKey() => File.Delete(state.AccessKeyFile);

    public void RemovePasscode() => File.Delete(state.PasscodeFile);

    /// <returns>Null, or until when nobody may try, in a sentence.</returns>
    public string? Barred()
    {
        var lockout = Lockout();
        return lockout.Bars(time.GetUtcNow())
            ? $"This host takes no proof for {Units.Span(lockout.Until!.Value - time.GetUtcNow())} more: {lockout.Failures} wrong ones came in a row. Wait, or lift that on the host: umbrek-agent access-key unlock"
            : null;
    }

    /// <summary>Counts a wrong proof; the count outlives the agent.</summary>
    public void Failed()
    {
        lock (gate)
        {
            StateDirectory.WriteWhole(state.LockoutFile, Lockout().Fail(time.GetUtcNow()), AgentJson.Default.Lockout);
        }
    }

    /// <summary>Forgets wrong proofs; a passcode for once is used up.</summary>
    public void Succeeded(string name)
    {
        lock (gate)
        {
            File.Delete(state.LockoutFile);
            if (name == ChannelBinding.Passcode && Passcode() is { Once: true })
            {
                RemovePasscode();
            }
        }
    }

    public void Unlock() => File.Delete(state.LockoutFile);

    private Lockout Lockout() => Read(state.LockoutFile, AgentJson.Default.Lockout) ?? Core.Access.Lockout.None;

    private static T? Read<T>(string file, System.Text.Json.Serialization.Metadata.JsonTypeInfo<T> type) where T : class
    {
        try
        {
            return File.Exists(file) ? JsonSerializer.Deserialize(File.ReadAllBytes(file), type) : null;
        }
        catch (Exception e) when (e is JsonException or IOException)
        {
            // A damaged verifier verifies nothing.
            return null;
        }
    }
}
