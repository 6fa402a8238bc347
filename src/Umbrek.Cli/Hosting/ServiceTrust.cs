using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography.X509Certificates;
using Umbrek.Wire.Links;

namespace Umbrek.Cli.Hosting;

/// <summary>
/// Finds out how a service may be trusted: by the system's authorities, or by its key's fingerprint, which a person
/// compares once.
/// </summary>
public static class ServiceTrust
{
    /// <returns>The fingerprint to keep, or null when the system's authorities vouch for the service.</returns>
    public static async Task<string?> DecideAsync(Uri service, string? given, CancellationToken cancel)
    {
        if (given is not null)
        {
            return ServicePin.Parse(given)?.ToString() ?? throw new ClientException("--trust takes a SHA-256 fingerprint: 64 hexadecimal digits. umbrekd prints its own as 'key …' when it starts.", ExitCodes.WrongUse);
        }
        if (service.Scheme == Uri.UriSchemeHttp)
        {
            return null;
        }
        var (fingerprint, vouchedFor) = await LookAsync(service, cancel).ConfigureAwait(false);
        if (vouchedFor)
        {
            return null;
        }
        if (!Prompt.CanAsk)
        {
            throw new ClientException($"No authority that this computer trusts vouches for {service.Authority}. Its key's fingerprint is\n  {fingerprint}\nIf that is what umbrekd printed when it started, add: --trust {fingerprint}");
        }
        Console.Error.WriteLine($"No authority that this computer trusts vouches for {service.Authority}. Its key's fingerprint is\n  {fingerprint}\numbrekd prints it as 'key …' when it starts.");
        return Prompt.Line("Is it the same? Type yes to trust this key from now on: ").Trim().Equals("yes", StringComparison.OrdinalIgnoreCase)
            ? fingerprint
            : throw new ClientException("The service is not trusted; nothing was sent.");
    }

    private static async Task<(string Fingerprint, bool VouchedFor)> LookAsync(Uri service, CancellationToken cancel)
    {
        string? fingerprint = null;
        var vouched = false;
        try
        {
            using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            limit.CancelAfter(TimeSpan.FromSeconds(15));
            using var socket = new TcpClient();
            await socket.ConnectAsync(service.DnsSafeHost, service.Port, limit.Token).ConfigureAwait(false);
            await using var tls = new SslStream(socket.GetStream(), false, (_, certificate, _, errors) =>
            {
                fingerprint = certificate is X509Certificate2 c ? Convert.ToHexStringLower(ServicePin.Of(c)) : null;
                vouched = errors == SslPolicyErrors.None;
                return vouched;
            });
            await tls.AuthenticateAsClientAsync(new SslClientAuthenticationOptions { TargetHost = service.DnsSafeHost }, limit.Token).ConfigureAwait(false);
        }
        catch (System.Security.Authentication.AuthenticationException) when (fingerprint is not null)
        {
            // Nobody vouches for it; the fingerprint is what was wanted.
        }
        catch (Exception e) when (e is SocketException or IOException or System.Security.Authentication.AuthenticationException or OperationCanceledException)
        {
            throw new ClientException($"{service.Authority} can't be reached: {e.Message}. Check the address, and that umbrekd runs there.");
        }
        return (fingerprint ?? throw new ClientException($"{service.Authority} showed no certificate."), vouched);
    }
}
