using System.Net.Security;
using System.Net.Sockets;
using System.Security.Authentication;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Text;

namespace Umbrek.Agent.Health.Probes;

/// <summary>How long certificates last (RFC 5280, 4.1.2.5): all of a PEM file, or the one of a DER file, or those that a TLS port shows.</summary>
public sealed class CertificateProbe(TimeProvider time) : IProbe
{
    private const int MostBytes = 1024 * 1024;

    public ProbeKind Kind => ProbeKind.Certificate;

    public async Task<ProbeReading> LookAsync(string? check, Probe probe, CancellationToken cancel)
    {
        List<(string Name, DateTimeOffset From, DateTimeOffset To)> found;
        try
        {
            found = probe.Target.StartsWith('/') ? await InFileAsync(probe.Target, cancel).ConfigureAwait(false) : await AtPortAsync(probe.Target, cancel).ConfigureAwait(false);
        }
        catch (Exception e) when (e is FileNotFoundException or DirectoryNotFoundException)
        {
            return ProbeReading.Failed($"There is no file {probe.Target}.");
        }
        catch (CryptographicException)
        {
            return ProbeReading.Failed($"{probe.Target} holds no certificate.");
        }
        catch (SocketException e)
        {
            return ProbeReading.Failed(PortProbe.Explain(probe.Target, e));
        }
        catch (Exception e) when (e is AuthenticationException or IOException)
        {
            return ProbeReading.Failed($"{probe.Target} shows no certificate: {e.Message.TrimEnd('.')}.");
        }
        if (found.Count == 0)
        {
            return ProbeReading.Failed($"{probe.Target} holds no certificate.");
        }
        var now = time.GetUtcNow();
        var (name, from, to) = found.MinBy(c => c.To);
        var left = new ProbeFigure("left", (to - now).TotalSeconds, Dimension.Time);
        return to <= now ? ProbeReading.Failed($"The certificate of {name} ended {Units.Span(now - to)} ago, on {to:yyyy-MM-dd}.", left)
            : from > now ? ProbeReading.Failed($"The certificate of {name} begins only on {from:yyyy-MM-dd HH:mm} UTC; the host's clock may be behind.", left)
            : ProbeReading.Well($"The certificate of {name} lasts {Units.Span(to - now)} more, until {to:yyyy-MM-dd}.", left);
    }

    private static async Task<List<(string, DateTimeOffset, DateTimeOffset)>> InFileAsync(string path, CancellationToken cancel)
    {
        await using var file = new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete, 1, useAsync: true);
        var bytes = new byte[(int)Math.Min(file.Length, MostBytes)];
        await file.ReadExactlyAsync(bytes, cancel).ConfigureAwait(false);
        var certificates = new X509Certificate2Collection();
        if (bytes.AsSpan().IndexOf("-----BEGIN CERTIFICATE-----"u8) >= 0)
        {
            certificates.ImportFromPem(System.Text.Encoding.UTF8.GetString(bytes));
        }
        else
        {
            certificates.Add(X509CertificateLoader.LoadCertificate(bytes));
        }
        return Take(certificates);
    }

    /// <summary>Whatever is shown is looked at, trusted or not: how long it lasts is all that is asked.</summary>
    private static async Task<List<(string, DateTimeOffset, DateTimeOffset)>> AtPortAsync(string target, CancellationToken cancel)
    {
        var (host, port) = HostAndPort.Read(target)!.Value;
        using var client = new TcpClient();
        await client.ConnectAsync(host, port, cancel).ConfigureAwait(false);
        List<(string, DateTimeOffset, DateTimeOffset)> shown = [];
        await using var tls = new SslStream(client.GetStream());
        var options = new SslClientAuthenticationOptions
        {
            TargetHost = host,
            RemoteCertificateValidationCallback = (_, certificate, _, _) =>
            {
                if (certificate is not null)
                {
                    using var own = X509CertificateLoader.LoadCertificate(certificate.GetRawCertData());
                    shown = [(NameOf(own), own.NotBefore, own.NotAfter)];
                }
                return certificate is not null;
            },
        };
        await tls.AuthenticateAsClientAsync(options, cancel).ConfigureAwait(false);
        return shown;
    }

    private static List<(string, DateTimeOffset, DateTimeOffset)> Take(X509Certificate2Collection certificates)
    {
        var found = new List<(string, DateTimeOffset, DateTimeOffset)>();
        foreach (var certificate in certificates)
        {
            found.Add((NameOf(certificate), certificate.NotBefore, certificate.NotAfter));
            certificate.Dispose();
        }
        return found;
    }

    private static string NameOf(X509Certificate2 certificate) =>
        certificate.GetNameInfo(X509NameType.DnsName, false) is { Length: > 0 } dns ? dns : certificate.GetNameInfo(X509NameType.SimpleName, false) is { Length: > 0 } simple ? simple : certificate.Subject;
}
