using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;
using System.Text;

namespace Umbrek.Simulation.Health;

/// <summary>A mail as it was handed over: the envelope and the message, header and all.</summary>
public sealed record ReceivedMail(string From, IReadOnlyList<string> To, string Message);

/// <summary>
/// A mail server of this machine that delivers to nobody and keeps what it gets (RFC 5321, without extensions that nobody here asks for), so that a demo's mails can
/// be read and a test's be counted.
/// </summary>
public sealed class Mailbox : IAsyncDisposable
{
    private const int MostBytes = 4 << 20;
    private readonly TcpListener listener;
    private readonly CancellationTokenSource stop = new();
    private readonly string? directory;
    private readonly Task serving;
    private int kept;

    /// <param name="port">0 takes a free one.</param>
    /// <param name="directory">Where each mail is written as a file, too.</param>
    public Mailbox(int port = 0, string? directory = null)
    {
        this.directory = directory is null ? null : Directory.CreateDirectory(directory).FullName;
        listener = new TcpListener(IPAddress.Loopback, port);
        listener.Start();
        serving = ServeAsync();
    }

    public int Port => ((IPEndPoint)listener.LocalEndpoint).Port;

    public ConcurrentQueue<ReceivedMail> Mails { get; } = new();

    /// <summary>Who has signed in, last (RFC 4954, PLAIN): name and password.</summary>
    public (string Name, string Password)? SignedIn { get; private set; }

    /// <summary>What is answered to a recipient instead of taking him; null takes him.</summary>
    public Func<string, string?> Refuses { get; set; } = _ => null;

    public async ValueTask DisposeAsync()
    {
        await stop.CancelAsync().ConfigureAwait(false);
        listener.Stop();
        await serving.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        stop.Dispose();
    }

    private async Task ServeAsync()
    {
        var talks = new List<Task>();
        while (!stop.IsCancellationRequested)
        {
            var client = await listener.AcceptTcpClientAsync(stop.Token).ConfigureAwait(false);
            talks.Add(TalkAsync(client));
            talks.RemoveAll(t => t.IsCompleted);
        }
    }

    private async Task TalkAsync(TcpClient client)
    {
        using var _ = client;
        try
        {
            await using var stream = client.GetStream();
            // Bytes pass as they are: what they mean, the message's own header says.
            using var reader = new StreamReader(stream, Encoding.Latin1);
            await using var writer = new StreamWriter(stream, Encoding.Latin1) { AutoFlush = true, NewLine = "\r\n" };
            var (from, to) = ("", new List<string>());
            await writer.WriteLineAsync("220 mail.halyard.example keeps what it gets").ConfigureAwait(false);
            while (await reader.ReadLineAsync(stop.Token).ConfigureAwait(false) is { } line)
            {
                switch (line.Split(' ')[0].ToUpperInvariant())
                {
                    case "EHLO":
                        await writer.WriteLineAsync("250-mail.halyard.example\r\n250-8BITMIME\r\n250 AUTH PLAIN").ConfigureAwait(false);
                        break;
                    case "AUTH" when line.StartsWith("AUTH PLAIN ", StringComparison.OrdinalIgnoreCase):
                        var parts = Encoding.UTF8.GetString(Convert.FromBase64String(line[11..])).Split('\0');
                        SignedIn = (parts[1], parts[2]);
                        await writer.WriteLineAsync("235 2.7.0 welcome").ConfigureAwait(false);
                        break;
                    case "MAIL":
                        (from, to) = (Address(line), []);
                        await writer.WriteLineAsync("250 go on").ConfigureAwait(false);
                        break;
                    case "RCPT":
                        var refused = Refuses(Address(line));
                        if (refused is null)
                        {
                            to.Add(Address(line));
                        }
                        await writer.WriteLineAsync(refused ?? "250 go on").ConfigureAwait(false);
                        break;
                    case "DATA" when to.Count > 0:
                        await writer.WriteLineAsync("354 end with a dot alone").ConfigureAwait(false);
                        Keep(new ReceivedMail(from, to, await ReadAsync(reader).ConfigureAwait(false)));
                        await writer.WriteLineAsync("250 kept").ConfigureAwait(false);
                        break;
                    case "QUIT":
                        await writer.WriteLineAsync("221 goodbye").ConfigureAwait(false);
                        return;
                    case "RSET" or "NOOP" or "HELO":
                        await writer.WriteLineAsync("250 go on").ConfigureAwait(false);
                        break;
                    default:
                        await writer.WriteLineAsync("503 5.5.1 not now").ConfigureAwait(false);
                        break;
                }
            }
        }
        catch (Exception e) when (e is IOException or OperationCanceledException or FormatException or IndexOutOfRangeException)
        {
            // Whoever hangs up or talks nonsense is done with.
        }
    }

    private async Task<string> ReadAsync(StreamReader reader)
    {
        var text = new StringBuilder();
        while (await reader.ReadLineAsync(stop.Token).ConfigureAwait(false) is { } line && line != ".")
        {
            // RFC 5321 §4.5.2: a dot before a dot goes.
            text.Append(line.StartsWith('.') ? line[1..] : line).Append("\r\n");
            if (text.Length > MostBytes)
            {
                throw new IOException("too long");
            }
        }
        return text.ToString();
    }

    private void Keep(ReceivedMail mail)
    {
        Mails.Enqueue(mail);
        if (directory is not null)
        {
            File.WriteAllText(Path.Combine(directory, $"{DateTime.UtcNow:yyyyMMdd-HHmmss}-{Interlocked.Increment(ref kept):0000}.eml"), mail.Message, Encoding.Latin1);
            while (Mails.Count > 1000)
            {
                Mails.TryDequeue(out _);
            }
        }
    }

    private static string Address(string line) => line.Split('<', '>') is [_, var address, ..] ? address : "";
}
