using System.Buffers.Text;
using System.Collections.Concurrent;
using System.Security.Cryptography;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>
/// Clients that wait to be let in by a browser in which their technician is signed in, by whatever way he does that (after RFC 8628).
/// They are known for ten minutes and to this start of the service alone.
/// </summary>
public sealed class Pairings(TimeProvider time)
{
    public const int PollSeconds = 2;
    public static readonly TimeSpan Life = TimeSpan.FromMinutes(10);

    // RFC 8628, 6.1: letters that make no words and are not taken for one another.
    private const string Letters = "BCDFGHJKLMNPQRSTVWXZ";
    private const int MostOfOneAddress = 20;
    private const int Most = 5000;

    private readonly ConcurrentDictionary<string, Pairing> byCode = new(StringComparer.Ordinal);
    private readonly Lock gate = new();

    /// <summary>A client that waits.</summary>
    public sealed class Pairing(PairingInfo info, byte[] secretHash, string? deviceKey)
    {
        public PairingInfo Info { get; } = info;
        public byte[] SecretHash { get; } = secretHash;
        public string? DeviceKey { get; } = deviceKey;
        public PairingState State { get; set; }

        /// <summary>Who has let it in.</summary>
        public Guid TechnicianId { get; set; }
    }

    /// <exception cref="ProblemException">429: too many wait already.</exception>
    public PairingBegun Begin(string device, string? deviceKey, string? address)
    {
        lock (gate)
        {
            var now = time.GetUtcNow();
            foreach (var old in byCode.Where(p => p.Value.Info.ExpiresAt <= now))
            {
                byCode.TryRemove(old);
            }
            if (byCode.Count >= Most || byCode.Values.Count(p => p.Info.Address == address) >= MostOfOneAddress)
            {
                throw new ProblemException(429, ProblemTypes.TooManyAttempts, "Too many clients wait to be let in. Wait ten minutes, then try again.");
            }
            string code;
            do
            {
                code = $"{RandomNumberGenerator.GetString(Letters, 4)}-{RandomNumberGenerator.GetString(Letters, 4)}";
            }
            while (byCode.ContainsKey(code));
            var secret = RandomNumberGenerator.GetBytes(32);
            byCode[code] = new Pairing(new PairingInfo(code, device, address, now, now + Life), SHA256.HashData(secret), deviceKey);
            return new PairingBegun(code, Base64Url.EncodeToString(secret), $"/account/client?code={code}", now + Life, PollSeconds);
        }
    }

    /// <summary>The client of a code that nobody has decided about.</summary>
    /// <exception cref="ProblemException">404: there is none.</exception>
    public Pairing Waiting(string code)
    {
        var letters = new string([.. code.Where(char.IsLetter)]).ToUpperInvariant();
        return letters.Length == 8 && byCode.TryGetValue($"{letters[..4]}-{letters[4..]}", out var found) && found.State == PairingState.Waiting && found.Info.ExpiresAt > time.GetUtcNow() ? found : throw Unknown();
    }

    /// <summary>Decides about a client, once.</summary>
    /// <exception cref="ProblemException">404: there is none, or it was decided already.</exception>
    public Pairing Decide(string code, PairingState state, Guid technicianId)
    {
        lock (gate)
        {
            var found = Waiting(code);
            (found.State, found.TechnicianId) = (state, technicianId);
            return found;
        }
    }

    /// <summary>What became of a client; when that is decided, it is known no more.</summary>
    /// <exception cref="ProblemException">404: it asks too late, or never began.</exception>
    public Pairing Claim(string secret)
    {
        byte[] hash;
        try
        {
            hash = SHA256.HashData(Base64Url.DecodeFromChars(secret));
        }
        catch (FormatException)
        {
            throw Unknown();
        }
        lock (gate)
        {
            var found = byCode.Values.FirstOrDefault(p => p.SecretHash.AsSpan().SequenceEqual(hash) && p.Info.ExpiresAt > time.GetUtcNow()) ?? throw Unknown();
            if (found.State != PairingState.Waiting)
            {
                byCode.TryRemove(found.Info.Code, out _);
            }
            return found;
        }
    }

    private static ProblemException Unknown() => new(404, ProblemTypes.NotFound, "No client waits with this code: it is good for ten minutes and for one sign-in. Begin again at the client.");
}
