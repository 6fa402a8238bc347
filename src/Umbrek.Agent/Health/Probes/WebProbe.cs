using System.Diagnostics;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Authentication;
using System.Text;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;

namespace Umbrek.Agent.Health.Probes;

/// <summary>Asks an address with GET, follows a few redirects, and wants a status below 400 and, if said, a text in what comes (RFC 9110).</summary>
public sealed class WebProbe : IProbe
{
    private const int MostBytes = 1024 * 1024;

    public ProbeKind Kind => ProbeKind.Web;

    public async Task<ProbeReading> LookAsync(string? check, Probe probe, CancellationToken cancel)
    {
        using var handler = new SocketsHttpHandler { MaxAutomaticRedirections = 5, UseProxy = false, UseCookies = false, PooledConnectionLifetime = TimeSpan.Zero, ConnectTimeout = Timeout.InfiniteTimeSpan };
        using var http = new HttpClient(handler, disposeHandler: false) { Timeout = Timeout.InfiniteTimeSpan };
        http.DefaultRequestHeaders.UserAgent.ParseAdd("umbrek-agent");
        var began = Stopwatch.GetTimestamp();
        try
        {
            using var answer = await http.GetAsync(probe.Target, HttpCompletionOption.ResponseHeadersRead, cancel).ConfigureAwait(false);
            var status = (int)answer.StatusCode;
            var holds = probe.Text is null || await HoldsAsync(answer, probe.Text, cancel).ConfigureAwait(false);
            var took = Stopwatch.GetElapsedTime(began);
            ProbeFigure[] figures = [new("status", status, Dimension.Count), new("took", took.TotalSeconds, Dimension.Time)];
            return status >= 400 ? ProbeReading.Failed($"{probe.Target} answered {status} {answer.ReasonPhrase}.", figures)
                : !holds ? ProbeReading.Failed($"{probe.Target} answered {status} without '{probe.Text}'.", figures)
                : ProbeReading.Well($"{probe.Target} answered {status} in {took.TotalMilliseconds:0} ms.", figures);
        }
        catch (HttpRequestException e)
        {
            return ProbeReading.Failed(Explain(probe.Target, e));
        }
    }

    /// <summary>Looks through what comes as it comes, and no further than a mebibyte.</summary>
    private static async Task<bool> HoldsAsync(HttpResponseMessage answer, string text, CancellationToken cancel)
    {
        var wanted = Encoding.UTF8.GetBytes(text);
        await using var body = await answer.Content.ReadAsStreamAsync(cancel).ConfigureAwait(false);
        var buffer = new byte[Math.Max(16 * 1024, wanted.Length * 2)];
        var (held, read) = (0, 0);
        while (read < MostBytes && await body.ReadAsync(buffer.AsMemory(held), cancel).ConfigureAwait(false) is var count and > 0)
        {
            (held, read) = (held + count, read + count);
            if (buffer.AsSpan(0, held).IndexOf(wanted) >= 0)
            {
                return true;
            }
            var keep = Math.Min(held, wanted.Length - 1);
            buffer.AsSpan(held - keep, keep).CopyTo(buffer);
            held = keep;
        }
        return false;
    }

    private static string Explain(string target, HttpRequestException e) => e switch
    {
        { InnerException: AuthenticationException tls } => $"{target} can't be trusted: {tls.Message.TrimEnd('.')}.",
        { HttpRequestError: HttpRequestError.SecureConnectionError } => $"{target} speaks no TLS that this host takes.",
        { InnerException: SocketException socket } => PortProbe.Explain(target, socket),
        _ => $"{target} did not answer well: {e.Message.TrimEnd('.')}.",
    };
}
