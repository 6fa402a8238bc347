using System.Text.Json;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Access;

namespace Umbrek.Agent.Access;

/// <summary>
/// What this host allows: what the service wants, within what was agreed when the host joined and what the file on it leaves. The
/// service can narrow it and never widen it beyond those two.
/// </summary>
public sealed class HostRules
{
    private readonly StateDirectory state;
    private readonly HostPolicy agreed;
    private readonly HostKeys keys;
    private readonly AgentLog log;
    private readonly Lock gate = new();
    private HostPolicy wanted;
    private (DateTime WrittenAt, long Length, HostPolicyPart? Limit, string? Problem) read;
    private string? complained;

    /// <param name="agreed">What was agreed when the host joined.</param>
    public HostRules(StateDirectory state, HostPolicy agreed, HostKeys keys, AgentLog log)
    {
        this.state = state;
        this.keys = keys;
        this.agreed = agreed;
        this.log = log;
        wanted = LoadWanted();
        keys.Changed += () => Changed.Release();
    }

    /// <summary>Released when this side may be another than before.</summary>
    public SemaphoreSlim Changed { get; } = new(0);

    /// <summary>What counts right now. A file that can't be relied on leaves nothing.</summary>
    public HostPolicy InForce => Side().InForce;

    /// <summary>Keeps what the service wants from now on, over restarts too.</summary>
    public void Want(HostPolicy policy)
    {
        if (policy.Normalise() is not { } usable)
        {
            log.Warning("the service sent a host policy that can't be used; the one before stays");
            return;
        }
        lock (gate)
        {
            wanted = usable;
        }
        try
        {
            StateDirectory.WriteWhole(state.WantedPolicyFile, usable, AgentJson.Default.HostPolicy);
        }
        catch (IOException e)
        {
            log.Warning($"the host policy can't be kept over a restart: {e.Message}");
        }
        Changed.Release();
    }

    /// <summary>All that the service is told of this side.</summary>
    public HostSide Side()
    {
        lock (gate)
        {
            var (limit, problem) = ReadLimit();
            if (problem is not null && problem != complained)
            {
                log.Warning(problem);
            }
            complained = problem;
            var inForce = problem is not null ? HostPolicy.Nothing : wanted.NarrowedBy(agreed.ToPart()).NarrowedBy(limit ?? HostPolicyPart.Inherit);
            var key = keys.Key();
            return new HostSide(inForce, limit, problem, keys.HasAccessKey, key?.Mark, key?.SessionsFrom);
        }
    }

    /// <summary>The file is read again when it looks changed, or could not be relied on: its owner's rights may have been put right.</summary>
    private (HostPolicyPart? Limit, string? Problem) ReadLimit()
    {
        var file = new FileInfo(state.LimitFile);
        var (writtenAt, length) = file.Exists ? (file.LastWriteTimeUtc, file.Length) : (default, -1);
        if (read.WrittenAt != writtenAt || read.Length != length || read.Problem is not null)
        {
            try
            {
                read = (writtenAt, length, HostLimit.Read(state.LimitFile), null);
            }
            catch (InvalidDataException e)
            {
                read = (writtenAt, length, null, e.Message);
            }
        }
        return (read.Limit, read.Problem);
    }

    private HostPolicy LoadWanted()
    {
        try
        {
            return File.Exists(state.WantedPolicyFile)
                ? JsonSerializer.Deserialize(File.ReadAllBytes(state.WantedPolicyFile), AgentJson.Default.HostPolicy)?.Normalise() ?? HostPolicy.Nothing
                : HostPolicy.Everything;
        }
        catch (Exception e) when (e is JsonException or IOException)
        {
            // The service sends it anew at the next link; until then nothing is better than too much.
            log.Warning($"{state.WantedPolicyFile} is damaged ({e.Message}); nothing is allowed until the service is linked");
            return HostPolicy.Nothing;
        }
    }
}
