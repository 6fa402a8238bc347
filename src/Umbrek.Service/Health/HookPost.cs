using System.Globalization;
using System.Net;
using System.Net.Http.Headers;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.DataProtection;
using Umbrek.Core.Health;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire.Health;

namespace Umbrek.Service.Health;

/// <summary>
/// Calls web hooks: CloudEvents 1.0 in their structured JSON form, signed (RFC 9421). Only addresses that everybody can reach are called, or those that the operator
/// named; that is asked of the address that is connected to, so that neither a name nor a redirect leads elsewhere.
/// </summary>
public sealed class HookPost : INoticePost, IDisposable
{
    public const string SecretPurpose = "web hook secret";
    private const int MostRedirects = 3;
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(15);
    private static readonly MediaTypeHeaderValue ContentType = new(HookEvent.ContentType);

    private readonly ServiceOptions options;
    private readonly TimeProvider time;
    private readonly IDataProtector protector;
    private readonly HttpClient http;

    public HookPost(ServiceOptions options, IDataProtectionProvider protection, TimeProvider time)
    {
        (this.options, this.time, protector) = (options, time, protection.CreateProtector(SecretPurpose));
        http = new HttpClient(new SocketsHttpHandler { AllowAutoRedirect = false, UseCookies = false, UseProxy = false, ConnectCallback = ConnectAsync, PooledConnectionIdleTimeout = TimeSpan.FromSeconds(30), MaxResponseHeadersLength = 16 }) { Timeout = Patience };
        http.DefaultRequestHeaders.UserAgent.Add(new ProductInfoHeaderValue("umbrek", null));
    }

    public NoticeWay Way => NoticeWay.Hook;

    public void Dispose() => http.Dispose();

    public async Task<PostResult> SendAsync(NoticeRow notice, DeliveryRow delivery, CancellationToken cancel)
    {
        var body = Encoding.UTF8.GetBytes(delivery.Body);
        var secret = protector.Unprotect(Convert.FromBase64String(notice.ProtectedSecret!));
        try
        {
            var target = new Uri(delivery.To);
            for (var redirects = 0; ; redirects++)
            {
                using var request = new HttpRequestMessage(HttpMethod.Post, target) { Content = new ByteArrayContent(body) { Headers = { ContentType = ContentType } } };
                var digest = HookSignature.Digest(body);
                var (input, signature) = HookSignature.Sign(secret, "POST", target, HookEvent.ContentType, digest, $"{notice.Id:D}", time.GetUtcNow());
                request.Headers.Add("Content-Digest", digest);
                request.Headers.Add("Signature-Input", input);
                request.Headers.Add("Signature", signature);
                // What the receiver says besides the status is not read: it may be endless.
                using var response = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, cancel).ConfigureAwait(false);
                if (response.StatusCode is HttpStatusCode.TemporaryRedirect or HttpStatusCode.PermanentRedirect && response.Headers.Location is { } location)
                {
                    var next = new Uri(target, location);
                    if (redirects == MostRedirects || (next.Scheme != Uri.UriSchemeHttps && next.Scheme != target.Scheme))
                    {
                        return new PostResult(redirects == MostRedirects ? $"{target.Host} redirects more than {MostRedirects} times." : $"{target.Host} redirects to {next.Scheme}://{next.Host}, where everybody could read along. Give an address with https.");
                    }
                    target = next;
                    continue;
                }
                return Read(response, target);
            }
        }
        catch (Exception e) when (e is HttpRequestException or IOException or TaskCanceledException or AddressRefusedException && !cancel.IsCancellationRequested)
        {
            var host = new Uri(delivery.To).Host;
            return (e as AddressRefusedException ?? e.InnerException) is AddressRefusedException refused ? new PostResult(refused.Message)
                : new PostResult(e is TaskCanceledException ? $"{host} did not answer within {Patience.TotalSeconds:0} seconds." : $"{host} can't be reached: {(e.InnerException ?? e).Message}", Unreachable: true);
        }
        finally
        {
            CryptographicOperations.ZeroMemory(secret);
        }
    }

    /// <summary>A web hook's address for those who need not call it: what follows the machine's name often lets in whoever knows it.</summary>
    public static string Shown(string url) => $"{new Uri(url).GetLeftPart(UriPartial.Authority)}/…";

    private static PostResult Read(HttpResponseMessage response, Uri target)
    {
        var status = (int)response.StatusCode;
        if (status is >= 200 and < 300)
        {
            return PostResult.Arrived;
        }
        var after = response.Headers.RetryAfter is { } asked ? asked.Delta ?? asked.Date - response.Headers.Date : null;
        return new PostResult(
            string.Create(CultureInfo.InvariantCulture, $"{target.Host} answers {status}{(status is >= 300 and < 400 ? ", which is no redirect that a request with a body may follow (307, 308)" : "")}."),
            // RFC 9110 §15.5.11: gone is gone.
            Again: status != 410, Unreachable: status is 429 or 502 or 503 or 504, After: after);
    }

    private async ValueTask<Stream> ConnectAsync(SocketsHttpConnectionContext context, CancellationToken cancel)
    {
        var addresses = IPAddress.TryParse(context.DnsEndPoint.Host, out var literal) ? [literal] : await Dns.GetHostAddressesAsync(context.DnsEndPoint.Host, cancel).ConfigureAwait(false);
        var allowed = addresses.Where(a => GlobalAddress.IsGlobal(a) || options.HooksMayReach.Any(n => n.Contains(a.IsIPv4MappedToIPv6 ? a.MapToIPv4() : a))).ToArray();
        if (allowed.Length == 0)
        {
            throw new AddressRefusedException(addresses is [var first, ..]
                ? $"{context.DnsEndPoint.Host} is {first}: an address of this machine, or of a network that only it can see. Web hooks don't go there unless the service is started with --hooks-may-reach."
                : $"{context.DnsEndPoint.Host} has no address.");
        }
        var socket = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        try
        {
            await socket.ConnectAsync(allowed, context.DnsEndPoint.Port, cancel).ConfigureAwait(false);
            return new NetworkStream(socket, ownsSocket: true);
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    private sealed class AddressRefusedException(string message) : IOException(message);
}
