using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;

namespace Umbrek.Service.Tests.Audit;

/// <summary>A syslog receiver that reads length-framed messages (RFC 6587 §3.4.1), over TLS when it has a certificate.</summary>
internal sealed class SyslogReceiver : IAsyncDisposable
{
    private readonly TcpListener listener;
    private readonly X509Certificate2? certificate;
    private readonly CancellationTokenSource stop = new();
    private readonly Task listening;
    private readonly List<string> messages = [];

    public SyslogReceiver(int port = 0, X509Certificate2? certificate = null)
    {
        this.certificate = certificate;
        listener = new TcpListener(IPAddress.Loopback, port);
        listener.Start();
        listening = ListenAsync();
    }

    public int Port => ((IPEndPoint)listener.LocalEndpoint).Port;

    public IReadOnlyList<string> Messages
    {
        get
        {
            lock (messages)
            {
                return [.. messages];
            }
        }
    }

    /// <summary>Connections that whoever sends broke off before the first message.</summary>
    public int Refused { get; private set; }

    /// <summary>The numbers of the audit log's lines, in the order of arrival.</summary>
    public IReadOnlyList<long> Numbers => [.. Messages.Select(m => long.Parse(m.Split("number=\"")[1].Split('"')[0], System.Globalization.CultureInfo.InvariantCulture))];

    /// <summary>A certificate for "localhost" that vouches for itself.</summary>
    public static X509Certificate2 MakeCertificate()
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest("CN=localhost", key, HashAlgorithmName.SHA256);
        var names = new SubjectAlternativeNameBuilder();
        names.AddDnsName("localhost");
        request.CertificateExtensions.Add(names.Build());
        request.CertificateExtensions.Add(new X509BasicConstraintsExtension(true, false, 0, true));
        return request.CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(1));
    }

    public async ValueTask DisposeAsync()
    {
        await stop.CancelAsync();
        listener.Stop();
        await listening;
        stop.Dispose();
    }

    private async Task ListenAsync()
    {
        while (!stop.IsCancellationRequested)
        {
            try
            {
                using var client = await listener.AcceptTcpClientAsync(stop.Token);
                await using Stream stream = certificate is null ? client.GetStream() : new SslStream(client.GetStream());
                if (stream is SslStream secure)
                {
                    await secure.AuthenticateAsServerAsync(new SslServerAuthenticationOptions { ServerCertificate = certificate }, stop.Token);
                }
                await ReadAsync(stream);
            }
            catch (Exception e) when (e is OperationCanceledException or SocketException or IOException or System.Security.Authentication.AuthenticationException)
            {
                // It stops, or whoever sent has gone.
                Refused += Messages.Count == 0 && !stop.IsCancellationRequested ? 1 : 0;
            }
        }
    }

    private async Task ReadAsync(Stream stream)
    {
        var one = new byte[1];
        while (true)
        {
            var length = 0;
            while (true)
            {
                await stream.ReadExactlyAsync(one, stop.Token);
                if (one[0] == ' ')
                {
                    break;
                }
                length = length * 10 + (one[0] - '0');
            }
            var message = new byte[length];
            await stream.ReadExactlyAsync(message, stop.Token);
            lock (messages)
            {
                messages.Add(Encoding.UTF8.GetString(message));
            }
        }
    }
}
