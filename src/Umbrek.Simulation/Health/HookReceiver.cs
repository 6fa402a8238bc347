using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Text;
using System.Text.RegularExpressions;
using Umbrek.Core.Health;

namespace Umbrek.Simulation.Health;

/// <summary>A call of a web hook as it came in.</summary>
public sealed record ReceivedCall(string Path, IReadOnlyDictionary<string, string> Headers, string Body);

/// <summary>What is answered to a call.</summary>
public sealed record CallAnswer(int Status, string? Location = null, int? RetryAfterSeconds = null);

/// <summary>A program of this machine that web hooks call: keeps what comes, and checks signatures as a receiver would (RFC 9421 §3.2).</summary>
public sealed partial class HookReceiver : IAsyncDisposable
{
    private readonly HttpListener listener = new();
    private readonly string? file;
    private readonly Task serving;

    /// <param name="port">0 takes a free one.</param>
    /// <param name="file">Where each event is written as a line, too.</param>
    public HookReceiver(int port = 0, string? file = null)
    {
        this.file = file;
        if (port == 0)
        {
            using var free = new TcpListener(IPAddress.Loopback, 0);
            free.Start();
            port = ((IPEndPoint)free.LocalEndpoint).Port;
        }
        Port = port;
        listener.Prefixes.Add($"http://127.0.0.1:{port}/");
        listener.Start();
        serving = ServeAsync();
    }

    public int Port { get; }
    public Uri Address => new($"http://127.0.0.1:{Port}/alerts");
    public ConcurrentQueue<ReceivedCall> Calls { get; } = new();
    public Func<ReceivedCall, CallAnswer> Answers { get; set; } = _ => new CallAnswer(204);

    public async ValueTask DisposeAsync()
    {
        // Once: stopped first, it would take its port again to give it up, and that may be somebody else's by then.
        listener.Close();
        await serving.ConfigureAwait(false);
    }

    /// <summary>Whether whoever has the secret signed this very call.</summary>
    public bool IsSigned(ReceivedCall call, string secret)
    {
        if (call.Headers["Content-Digest"] != $"sha-256=:{Convert.ToBase64String(SHA256.HashData(Encoding.UTF8.GetBytes(call.Body)))}:" || Input().Match(call.Headers["Signature-Input"]) is not { Success: true } input)
        {
            return false;
        }
        var components = Component().Matches(input.Groups["components"].Value).Select(m => m.Value).Select(c => (c, c.Trim('"') switch
        {
            "@method" => "POST",
            "@target-uri" => $"http://127.0.0.1:{Port}{call.Path}",
            var header => call.Headers[header],
        }));
        var expected = HMACSHA256.HashData(Convert.FromBase64String(secret), HookSignature.Base(components, input.Groups["parameters"].Value));
        return call.Headers["Signature"] == $"{input.Groups["label"].Value}=:{Convert.ToBase64String(expected)}:";
    }

    private async Task ServeAsync()
    {
        while (true)
        {
            HttpListenerContext http;
            try
            {
                http = await listener.GetContextAsync().ConfigureAwait(false);
            }
            catch (Exception e) when (e is HttpListenerException or ObjectDisposedException)
            {
                return;
            }
            using var reader = new StreamReader(http.Request.InputStream, Encoding.UTF8);
            var call = new ReceivedCall(http.Request.Url!.PathAndQuery, http.Request.Headers.AllKeys.OfType<string>().ToDictionary(k => k, k => http.Request.Headers[k]!, StringComparer.OrdinalIgnoreCase), await reader.ReadToEndAsync().ConfigureAwait(false));
            var answer = Answers(call);
            if (answer.Status is >= 200 and < 300)
            {
                Calls.Enqueue(call);
                if (file is not null)
                {
                    await File.AppendAllTextAsync(file, call.Body + "\n").ConfigureAwait(false);
                }
            }
            http.Response.StatusCode = answer.Status;
            if (answer.Location is { } location)
            {
                http.Response.Headers["Location"] = location;
            }
            if (answer.RetryAfterSeconds is { } seconds)
            {
                http.Response.Headers["Retry-After"] = $"{seconds}";
            }
            http.Response.Close();
        }
    }

    [GeneratedRegex("^(?<label>[a-z0-9]+)=(?<parameters>\\((?<components>[^)]*)\\).*)$")]
    private static partial Regex Input();

    [GeneratedRegex("\"[^\"]+\"")]
    private static partial Regex Component();
}
