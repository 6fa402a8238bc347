using System.Globalization;
using System.Security.Cryptography;
using System.Text;

namespace Umbrek.Core.Access;

/// <summary>The other side did not keep to SCRAM, or could not prove itself.</summary>
/// <param name="word">For the other side: a value of RFC 5802 §7 <c>server-error-value</c>.</param>
public sealed class ScramException(string word, string message) : Exception(message)
{
    public string Word { get; } = word;
}

/// <summary>
/// SCRAM-SHA-256 (RFC 5802, RFC 7677): a key is proven without being sent, and the other side proves that it knows the key's
/// verifier. The exchange is bound to one channel between one technician and one host; what was recorded of it proves nothing on
/// another. What both sides know in the end, and nobody who listened, is <see cref="ScramResult.SessionKey"/>.
/// </summary>
public static class Scram
{
    /// <summary>The channel binding of this product (RFC 5802 §6): what <see cref="ChannelBinding"/> makes.</summary>
    public const string BindingName = "umbrek-channel";

    /// <summary>RFC 7677 §4. On a channel of ours no fewer than <see cref="ScramVerifier.DefaultIterations"/> are taken: whoever answers in a host's place could guess cheaply otherwise.</summary>
    public const int FewestIterations = 4096;

    /// <summary>More would only keep whoever proves busy.</summary>
    public const int MostIterations = 2_000_000;

    internal const int MostMessage = 4096;
    internal const string NoBinding = "n,,";

    internal static string Header(byte[]? binding) => binding is null ? NoBinding : $"p={BindingName},,";

    internal static string BindingOf(byte[]? binding) => Convert.ToBase64String([.. Encoding.ASCII.GetBytes(Header(binding)), .. binding ?? []]);

    /// <summary>"r=…,s=…,i=…" as the values of exactly these letters in this order; later extensions may follow (RFC 5802 §5.1).</summary>
    internal static string[] Read(string message, string letters)
    {
        if (message.Length > MostMessage)
        {
            throw new ScramException("other-error", "The other side's message is too long.");
        }
        var parts = message.Split(',');
        var values = new string[letters.Length];
        for (var i = 0; i < letters.Length; i++)
        {
            if (i >= parts.Length || !parts[i].StartsWith($"{letters[i]}=", StringComparison.Ordinal))
            {
                throw new ScramException("invalid-encoding", "The other side's message is not one of SCRAM, or came out of order.");
            }
            values[i] = parts[i][2..];
        }
        return values;
    }

    internal static byte[] Decode(string base64)
    {
        var bytes = new byte[base64.Length];
        return Convert.TryFromBase64String(base64, bytes, out var length) ? bytes[..length] : throw new ScramException("invalid-encoding", "The other side's message is not one of SCRAM.");
    }

    internal static byte[] SessionKey(byte[] clientKey, byte[] authMessage) => HMACSHA256.HashData(clientKey, (byte[])[.. "umbrek session key\0"u8, .. authMessage]);
}

/// <summary>What a proven exchange leaves.</summary>
/// <param name="SessionKey">32 bytes that both sides know and whoever carried the messages does not: the key itself, or the host's verifier, is needed for it.</param>
public sealed record ScramResult(byte[] SessionKey);

/// <summary>The side that knows the key.</summary>
/// <param name="name">Which secret of the host: <see cref="ChannelBinding.AccessKey"/> or <see cref="ChannelBinding.Passcode"/>.</param>
/// <param name="key">The secret in UTF-8; its owner wipes it.</param>
/// <param name="nonce">Fresh random characters, at least 18, without commas.</param>
/// <param name="binding">What the channel is bound to; null binds to nothing.</param>
public sealed class ScramProver(string name, byte[] key, string nonce, byte[]? binding)
{
    private readonly string bare = $"n={name.Replace("=", "=3D", StringComparison.Ordinal).Replace(",", "=2C", StringComparison.Ordinal)},r={nonce}";
    private byte[]? serverSignature;
    private byte[]? sessionKey;

    public string First => Scram.Header(binding) + bare;

    /// <summary>The proof, for this one exchange.</summary>
    /// <exception cref="ScramException">The answer is none that a host gives.</exception>
    public string Prove(string serverFirst)
    {
        var said = Scram.Read(serverFirst, "rsi");
        var salt = Scram.Decode(said[1]);
        if (!said[0].StartsWith(nonce, StringComparison.Ordinal) || said[0].Length == nonce.Length)
        {
            throw new ScramException("other-error", "Whoever answers for the host repeats an earlier exchange. Nothing was proven; try again, and tell whoever runs the service if it stays so.");
        }
        var fewest = binding is null ? Scram.FewestIterations : ScramVerifier.DefaultIterations;
        if (!int.TryParse(said[2], NumberStyles.None, CultureInfo.InvariantCulture, out var iterations) || iterations < fewest || iterations > Scram.MostIterations || salt.Length is 0 or > 1024)
        {
            throw new ScramException("other-error", $"Whoever answers for the host asks for {said[2]} iterations; {fewest} to {Scram.MostIterations} are taken. Nothing was proven.");
        }
        var salted = ScramVerifier.Salted(key, salt, iterations);
        var clientKey = HMACSHA256.HashData(salted, "Client Key"u8);
        var serverKey = HMACSHA256.HashData(salted, "Server Key"u8);
        var final = $"c={Scram.BindingOf(binding)},r={said[0]}";
        var message = Encoding.UTF8.GetBytes($"{bare},{serverFirst},{final}");
        var proof = HMACSHA256.HashData(SHA256.HashData(clientKey), message);
        for (var i = 0; i < proof.Length; i++)
        {
            proof[i] ^= clientKey[i];
        }
        serverSignature = HMACSHA256.HashData(serverKey, message);
        sessionKey = Scram.SessionKey(clientKey, message);
        CryptographicOperations.ZeroMemory(salted);
        CryptographicOperations.ZeroMemory(clientKey);
        return $"{final},p={Convert.ToBase64String(proof)}";
    }

    /// <summary>Checks that whoever answered knows the host's verifier.</summary>
    /// <exception cref="ScramException">It does not, or it refused the proof.</exception>
    public ScramResult Check(string serverFinal)
    {
        if (serverFinal.StartsWith("e=", StringComparison.Ordinal))
        {
            throw new ScramException(serverFinal[2..], serverFinal == "e=invalid-proof" ? "The access key is wrong." : $"The host refused the proof ({serverFinal[2..]}).");
        }
        var signature = Scram.Decode(Scram.Read(serverFinal, "v")[0]);
        return serverSignature is not null && CryptographicOperations.FixedTimeEquals(signature, serverSignature)
            ? new ScramResult(sessionKey!)
            : throw new ScramException("other-error", "Whoever answers for the host does not know its access key: it is not the host. Nothing was opened; tell whoever runs the service.");
    }
}

/// <summary>The side that keeps the verifier: the host.</summary>
/// <param name="find">The verifier of a secret by its name, or null.</param>
/// <param name="nonce">Fresh random characters, at least 18, without commas.</param>
/// <param name="binding">What the channel is bound to: an exchange that is bound to anything else, or to nothing, is refused. Null takes none that is bound.</param>
public sealed class ScramKeeper(Func<string, ScramVerifier?> find, string nonce, byte[]? binding)
{
    private ScramVerifier? verifier;
    private string? clientBare;
    private string? serverFirst;
    private string? whole;

    /// <summary>The name of the secret that is being proven.</summary>
    public string? Name { get; private set; }

    /// <summary>The verifier that the proof is checked against.</summary>
    public ScramVerifier? Presented { get; private set; }

    /// <exception cref="ScramException">The message is none that begins an exchange, or of another channel.</exception>
    public string Answer(string clientFirst)
    {
        if (serverFirst is not null)
        {
            throw new ScramException("other-error", "An exchange begins once.");
        }
        var header = Scram.Header(binding);
        if (!clientFirst.StartsWith(header, StringComparison.Ordinal))
        {
            throw new ScramException(binding is null ? "channel-binding-not-supported" : "server-does-support-channel-binding", "The proof is not bound to this channel.");
        }
        clientBare = clientFirst[header.Length..];
        var said = Scram.Read(clientBare, "nr");
        Name = said[0].Replace("=2C", ",", StringComparison.Ordinal).Replace("=3D", "=", StringComparison.Ordinal);
        if (said[1].Length < 18)
        {
            throw new ScramException("other-error", "The nonce is too short.");
        }
        Presented = verifier = find(Name) ?? throw new ScramException("unknown-user", "The host has no such secret.");
        whole = said[1] + nonce;
        return serverFirst = $"r={whole},s={Convert.ToBase64String(verifier.Salt)},i={verifier.Iterations}";
    }

    /// <returns>What is answered to a right proof, and what both sides know now.</returns>
    /// <exception cref="ScramException">The proof is wrong, of another exchange, or of another channel.</exception>
    public (string ServerFinal, ScramResult Result) Finish(string clientFinal)
    {
        if (serverFirst is null || verifier is null)
        {
            throw new ScramException("other-error", "The proof came before the exchange began.");
        }
        // Used up, whatever comes of it: the same proof a second time finds nothing.
        var (first, known) = (serverFirst, verifier);
        (serverFirst, verifier) = (first, null);
        var said = Scram.Read(clientFinal, "crp");
        if (said[0] != Scram.BindingOf(binding))
        {
            throw new ScramException("channel-bindings-dont-match", "The proof is bound to another channel.");
        }
        if (said[1] != whole)
        {
            throw new ScramException("other-error", "The proof is of another exchange.");
        }
        var message = Encoding.UTF8.GetBytes($"{clientBare},{first},{clientFinal[..clientFinal.LastIndexOf(",p=", StringComparison.Ordinal)]}");
        return known.Open(message, Scram.Decode(said[2])) is { } clientKey
            ? ($"v={Convert.ToBase64String(known.Sign(message))}", new ScramResult(Scram.SessionKey(clientKey, message)))
            : throw new ScramException("invalid-proof", "The access key is wrong.");
    }
}
