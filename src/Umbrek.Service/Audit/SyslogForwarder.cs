using System.Buffers.Binary;
using System.Globalization;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography.X509Certificates;
using Umbrek.Core.Audit;
using Umbrek.Core.Links;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Audit;

namespace Umbrek.Service.Audit;

/// <summary>Where the audit log is forwarded to: a syslog receiver over TCP (RFC 6587) or TLS (RFC 5425).</summary>
public sealed record SyslogTarget(string Host, int Port, bool Tls)
{
    private const int TcpPort = 601;
    private const int TlsPort = 6514;

    /// <summary>Reads tcp://HOST:PORT or tls://HOST:PORT.</summary>
    /// <exception cref="FormatException">With a sentence that says what to write.</exception>
    public static SyslogTarget Parse(string text) =>
        Uri.TryCreate(text, UriKind.Absolute, out var address) && address.Scheme is "tcp" or "tls" && address.Host.Length > 0 && address.AbsolutePath is "/" or ""
            ? new SyslogTarget(address.Host, address.Port > 0 ? address.Port : address.Scheme == "tls" ? TlsPort : TcpPort, address.Scheme == "tls")
            : throw new FormatException($"'{text}' is no syslog receiver; write tls://HOST:PORT or tcp://HOST:PORT.");

    public override string ToString() => $"{(Tls ? "tls" : "tcp")}://{Host}:{Port}";
}

/// <summary>
/// Sends every line of the audit log to a syslog receiver, in order, at least once. Syslog has no acknowledgement: a line counts as
/// arrived when the other side's system has acknowledged its bytes and the connection has held for a while after; what was sent
/// before a connection broke is sent again, and its number tells that it is the same. How far it came is kept in the data directory.
/// </summary>
public sealed partial class SyslogForwarder(AuditLog log, ServiceOptions options, TimeProvider time, ILogger<SyslogForwarder> logger) : BackgroundService
{
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan Settled = TimeSpan.FromSeconds(5);
    private static readonly TimeSpan ConnectWithin = TimeSpan.FromSeconds(10);

    /// <summary>So many lines may be on their way.</summary>
    private const int Window = 20_000;

    private readonly Queue<(long Number, DateTimeOffset At)> onTheWay = new();
    private long arrived;

    private string PositionFile => options.PathOf("syslog.position");

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        if (options.Syslog is not { } target)
        {
            return;
        }
        await Task.Yield();
        arrived = ReadPosition();
        for (var attempt = 0; !stoppingToken.IsCancellationRequested; attempt++)
        {
            var before = arrived;
            try
            {
                using var client = new TcpClient { NoDelay = true };
                await using var stream = await ConnectAsync(client, target, stoppingToken).ConfigureAwait(false);
                Log.Connected(logger, target, arrived + 1);
                await ForwardAsync(client.Client, stream, stoppingToken).ConfigureAwait(false);
            }
            catch (Exception e) when (!stoppingToken.IsCancellationRequested)
            {
                // Whatever it is, the receiver's trouble or the database's: the service goes on, and so does this.
                attempt = arrived > before ? 0 : attempt;
                onTheWay.Clear();
                Log.Broken(logger, target, arrived + 1, e.Message);
                await Task.Delay(Backoff.Delay(attempt, Random.Shared.NextDouble()), time, stoppingToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            }
        }
    }

    private async Task ForwardAsync(Socket socket, Stream stream, CancellationToken stop)
    {
        if (await log.LastNumberAsync(stop).ConfigureAwait(false) < arrived)
        {
            // The database was put back to an earlier day; its lines are other ones from there on.
            Log.PositionLost(logger, PositionFile);
            arrived = 0;
        }
        var sent = arrived;
        // A receiver says nothing; when a read ends, it has gone.
        var gone = stream.ReadAsync(new byte[1], stop).AsTask();
        while (true)
        {
            await foreach (var line in log.ReadAsync(new AuditFilter(), stop, sent).ConfigureAwait(false))
            {
                await stream.WriteAsync(SyslogLine.Frame(ToEntry(line), line.Hash, Environment.MachineName), stop).AsTask().WaitAsync(ConnectWithin, time, stop).ConfigureAwait(false);
                sent = line.Number;
                onTheWay.Enqueue((line.Number, time.GetUtcNow()));
                if (onTheWay.Count >= Window)
                {
                    break;
                }
            }
            await Task.WhenAny(gone, Task.Delay(Look, time, stop)).ConfigureAwait(false);
            stop.ThrowIfCancellationRequested();
            if (gone.IsCompleted)
            {
                await gone.ConfigureAwait(false);
                throw new IOException("the receiver closed the connection");
            }
            Settle(socket);
        }
    }

    /// <summary>What the other side has had for a while is not sent again.</summary>
    private void Settle(Socket socket)
    {
        var until = time.GetUtcNow() - Settled;
        var before = arrived;
        while (onTheWay.TryPeek(out var oldest) && oldest.At <= until && Unacknowledged(socket) == 0)
        {
            arrived = onTheWay.Dequeue().Number;
        }
        if (arrived != before)
        {
            WritePosition();
        }
    }

    /// <summary>Segments that the other side's system has not acknowledged; 0 where the system does not say.</summary>
    private static uint Unacknowledged(Socket socket)
    {
        const int Tcp = 6, TcpInfo = 11, UnackedAt = 24;
        if (!OperatingSystem.IsLinux())
        {
            return 0;
        }
        // struct tcp_info of linux/tcp.h: eight bytes, then rto, ato, snd_mss, rcv_mss, unacked.
        var info = new byte[UnackedAt + sizeof(uint)];
        return socket.GetRawSocketOption(Tcp, TcpInfo, info) == info.Length ? BinaryPrimitives.ReadUInt32LittleEndian(info.AsSpan(UnackedAt)) : 0;
    }

    private async Task<Stream> ConnectAsync(TcpClient client, SyslogTarget target, CancellationToken stop)
    {
        using var patience = new CancellationTokenSource(ConnectWithin, time);
        using var either = CancellationTokenSource.CreateLinkedTokenSource(patience.Token, stop);
        await client.ConnectAsync(target.Host, target.Port, either.Token).ConfigureAwait(false);
        client.Client.SetSocketOption(SocketOptionLevel.Socket, SocketOptionName.KeepAlive, true);
        client.Client.SetSocketOption(SocketOptionLevel.Tcp, SocketOptionName.TcpKeepAliveTime, 10);
        client.Client.SetSocketOption(SocketOptionLevel.Tcp, SocketOptionName.TcpKeepAliveInterval, 5);
        client.Client.SetSocketOption(SocketOptionLevel.Tcp, SocketOptionName.TcpKeepAliveRetryCount, 3);
        if (!target.Tls)
        {
            return client.GetStream();
        }
        var secure = new SslStream(client.GetStream());
        var authentication = new SslClientAuthenticationOptions { TargetHost = target.Host };
        if (options.SyslogAuthorityFile is { } file)
        {
            var authorities = new X509Certificate2Collection();
            authorities.ImportFromPemFile(file);
            authentication.CertificateChainPolicy = new X509ChainPolicy { TrustMode = X509ChainTrustMode.CustomRootTrust, RevocationMode = X509RevocationMode.NoCheck };
            authentication.CertificateChainPolicy.CustomTrustStore.AddRange(authorities);
        }
        await secure.AuthenticateAsClientAsync(authentication, either.Token).ConfigureAwait(false);
        return secure;
    }

    private static AuditEntry ToEntry(AuditInfo line) => new(line.Number, line.At, line.Actor, line.Address, line.Action, line.Target, line.Detail);

    private long ReadPosition()
    {
        if (!File.Exists(PositionFile))
        {
            return 0;
        }
        var text = File.ReadAllText(PositionFile).Trim();
        if (long.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number))
        {
            return number;
        }
        // Twice is better than never.
        Log.PositionLost(logger, PositionFile);
        return 0;
    }

    private void WritePosition()
    {
        var temporary = PositionFile + ".new";
        File.WriteAllText(temporary, arrived.ToString(CultureInfo.InvariantCulture));
        File.Move(temporary, PositionFile, overwrite: true);
    }

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Information, Message = "The audit log is forwarded to {Target}, from line {Line}")]
        public static partial void Connected(ILogger logger, SyslogTarget target, long line);

        [LoggerMessage(Level = LogLevel.Warning, Message = "{File} does not fit the audit log; the whole audit log is forwarded again")]
        public static partial void PositionLost(ILogger logger, string file);

        [LoggerMessage(Level = LogLevel.Warning, Message = "The audit log can't be forwarded to {Target}: {Why}. It is tried again, from line {Line}")]
        public static partial void Broken(ILogger logger, SyslogTarget target, long line, string why);
    }
}
