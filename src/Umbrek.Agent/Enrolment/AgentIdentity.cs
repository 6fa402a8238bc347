using System.Security.Cryptography;
using System.Text.Json;
using System.Text.Json.Serialization;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Access;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Enrolment;

/// <summary>Who this host is to which service. The private key never leaves the host.</summary>
/// <param name="PrivateKey">P-256, PKCS #8 (RFC 5958).</param>
/// <param name="ServiceKeySha256">The one service key that is trusted.</param>
/// <param name="Policy">What was agreed when the host joined, if it did before there was a file for that (<see cref="StateDirectory.LimitFile"/>).</param>
/// <param name="ReleaseKey">The one key whose updates are taken: P-256, SubjectPublicKeyInfo.</param>
public sealed record AgentIdentity(
    Uri Service, byte[] ServiceKeySha256, Guid HostId, byte[] PrivateKey, string Label, string GroupPath, HostPolicy? Policy = null, byte[]? ReleaseKey = null)
{
    /// <summary>A host that joined before there were policies allows everything.</summary>
    [JsonIgnore]
    public HostPolicy Allowed => Policy ?? HostPolicy.Everything;

    public ServicePin NewPin() => new(ServiceKeySha256);

    public ECDsa OpenKey()
    {
        var key = ECDsa.Create();
        key.ImportPkcs8PrivateKey(PrivateKey, out _);
        return key;
    }

    /// <summary>The same key, to agree on secrets with.</summary>
    public ECDiffieHellman OpenAgreementKey()
    {
        var key = ECDiffieHellman.Create();
        key.ImportPkcs8PrivateKey(PrivateKey, out _);
        return key;
    }

    public void Save(StateDirectory state) => StateDirectory.WriteWhole(state.IdentityFile, this, AgentJson.Default.AgentIdentity);

    /// <returns>The identity, or null when this host is not enrolled.</returns>
    /// <exception cref="InvalidDataException">The file is there but damaged.</exception>
    public static AgentIdentity? Load(StateDirectory state)
    {
        if (!File.Exists(state.IdentityFile))
        {
            return null;
        }
        try
        {
            return JsonSerializer.Deserialize(File.ReadAllBytes(state.IdentityFile), AgentJson.Default.AgentIdentity)
                ?? throw new JsonException("empty");
        }
        catch (JsonException e)
        {
            throw new InvalidDataException($"{state.IdentityFile} is damaged ({e.Message}). Remove it and enrol this host again.", e);
        }
    }
}
