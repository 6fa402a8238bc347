using System.Net;
using System.Net.Http.Headers;
using Umbrek.Agent.Enrolment;
using Umbrek.Wire.Api;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

/// <summary>Where what a parcel holds comes from.</summary>
public interface IParcelSource
{
    /// <summary>Content that is named by its SHA-256, from a place on.</summary>
    /// <exception cref="GoneException">It is not to be had, and is not going to be.</exception>
    /// <exception cref="IOException">Not now: it is worth another try.</exception>
    Task<Stream> OpenAsync(string sha256, long from, CancellationToken cancel);
}

/// <summary>What was to be fetched is not to be had any more.</summary>
public sealed class GoneException(string message) : IOException(message);

/// <summary>The service's content store (RFC 9110, 14: Range), by the ticket of one run.</summary>
public sealed class ParcelSource : IParcelSource, IDisposable
{
    private static readonly TimeSpan AnswerTime = TimeSpan.FromSeconds(60);

    private readonly HttpClient http;

    public ParcelSource(AgentIdentity identity, string ticket)
    {
        http = new HttpClient(ApiClient.Handler(identity.Service.Scheme == Uri.UriSchemeHttp ? null : identity.NewPin())) { BaseAddress = ApiClient.Root(identity.Service), Timeout = Timeout.InfiniteTimeSpan };
        http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", ticket);
    }

    public async Task<Stream> OpenAsync(string sha256, long from, CancellationToken cancel)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(AnswerTime);
        using var request = new HttpRequestMessage(HttpMethod.Get, ContentPath.Of(sha256));
        if (from > 0)
        {
            request.Headers.Range = new RangeHeaderValue(from, null);
            request.Headers.IfRange = new RangeConditionHeaderValue($"\"{sha256}\"");
        }
        try
        {
            var response = await http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, limit.Token).ConfigureAwait(false);
            if (response.StatusCode == HttpStatusCode.NotFound)
            {
                throw new GoneException("The service does not keep these files for this host any more: the job has ended, or they were removed.");
            }
            if (response.StatusCode != (from > 0 ? HttpStatusCode.PartialContent : HttpStatusCode.OK))
            {
                throw new IOException($"The service answered with {(int)response.StatusCode}.");
            }
            return await response.Content.ReadAsStreamAsync(limit.Token).ConfigureAwait(false);
        }
        catch (HttpRequestException e)
        {
            throw new IOException(e.Message, e);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            throw new IOException("The service did not answer.");
        }
    }

    public void Dispose() => http.Dispose();
}

/// <summary>Reads one content from the service, on and on: where the line breaks, it goes on behind what it had.</summary>
public sealed class ParcelReader(IParcelSource source, string sha256, TimeProvider time) : IAsyncDisposable
{
    /// <summary>So much is rather read and passed over than asked for anew.</summary>
    private const long ReadOver = 1 << 20;

    /// <summary>A line on which nothing comes for so long is no line any more. A low rate that many hosts share is slow, and alive.</summary>
    private static readonly TimeSpan Silence = TimeSpan.FromMinutes(3);
    private static readonly TimeSpan ShortestPause = TimeSpan.FromMilliseconds(500);
    private static readonly TimeSpan LongestPause = TimeSpan.FromSeconds(30);

    /// <summary>The watch over a line is wound up so often at most: a timer for each piece that comes would cost more than the piece.</summary>
    private static readonly TimeSpan Winding = TimeSpan.FromSeconds(10);

    private Stream? stream;
    private CancellationTokenSource? watch;
    private long woundAt;
    private long at;
    private TimeSpan pause;

    /// <summary>Fills as much as there is.</summary>
    /// <param name="from">Where; not before what was read last.</param>
    public async Task ReadAsync(long from, Memory<byte> into, CancellationToken cancel)
    {
        while (into.Length > 0)
        {
            try
            {
                if (stream is null || from < at || from - at > ReadOver)
                {
                    await CloseAsync().ConfigureAwait(false);
                    stream = await source.OpenAsync(sha256, from, cancel).ConfigureAwait(false);
                    at = from;
                }
                if (at < from)
                {
                    var passed = new byte[Math.Min(from - at, 64 * 1024)];
                    at += await ReadSomeAsync(passed, cancel).ConfigureAwait(false);
                    continue;
                }
                var got = await ReadSomeAsync(into, cancel).ConfigureAwait(false);
                (at, from, into, pause) = (at + got, from + got, into[got..], TimeSpan.Zero);
            }
            catch (IOException e) when (e is not GoneException)
            {
                await CloseAsync().ConfigureAwait(false);
                await RestAsync(cancel).ConfigureAwait(false);
            }
        }
    }

    /// <summary>All that there is, at most so much.</summary>
    public async Task<byte[]> ReadAllAsync(int most, CancellationToken cancel)
    {
        while (true)
        {
            try
            {
                await using var all = await source.OpenAsync(sha256, 0, cancel).ConfigureAwait(false);
                using var kept = new MemoryStream();
                stream = all;
                var buffer = new byte[64 * 1024];
                while (await ReadOrEndAsync(buffer, cancel).ConfigureAwait(false) is > 0 and var got)
                {
                    if (kept.Length + got > most)
                    {
                        throw new InvalidDataException("The list of what is to be put here is longer than any may be.");
                    }
                    kept.Write(buffer, 0, got);
                }
                return kept.ToArray();
            }
            catch (IOException e) when (e is not GoneException)
            {
                await RestAsync(cancel).ConfigureAwait(false);
            }
            finally
            {
                stream = null;
                await CloseAsync().ConfigureAwait(false);
            }
        }
    }

    public async ValueTask DisposeAsync() => await CloseAsync().ConfigureAwait(false);

    /// <summary>At once when something has come: most lines are there again as soon as they have gone. Then longer and longer, and not all hosts together.</summary>
    private async Task RestAsync(CancellationToken cancel)
    {
        await Task.Delay(pause * (0.5 + Random.Shared.NextDouble()), time, cancel).ConfigureAwait(false);
        pause = pause == TimeSpan.Zero ? ShortestPause : pause * 2 < LongestPause ? pause * 2 : LongestPause;
    }

    private async Task<int> ReadSomeAsync(Memory<byte> into, CancellationToken cancel) =>
        await ReadOrEndAsync(into, cancel).ConfigureAwait(false) is > 0 and var got ? got : throw new IOException("The line ended before all had come.");

    private async Task<int> ReadOrEndAsync(Memory<byte> into, CancellationToken cancel)
    {
        if (watch is null || time.GetElapsedTime(woundAt) > Winding)
        {
            watch ??= CancellationTokenSource.CreateLinkedTokenSource(cancel);
            watch.CancelAfter(Silence);
            woundAt = time.GetTimestamp();
        }
        try
        {
            return await stream!.ReadAsync(into, watch.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            throw new IOException("Nothing came any more.");
        }
        catch (HttpRequestException e)
        {
            throw new IOException(e.Message, e);
        }
    }

    private async Task CloseAsync()
    {
        watch?.Dispose();
        watch = null;
        if (stream is not null)
        {
            await stream.DisposeAsync().ConfigureAwait(false);
            stream = null;
        }
    }
}
