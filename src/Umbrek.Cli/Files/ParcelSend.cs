using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Security.Cryptography;
using System.Text.Json;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Files;
using Umbrek.Core.Links;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <summary>Sends a parcel to the service, once for all its hosts; what was broken off goes on where the service's part ends.</summary>
internal sealed class ParcelSend(SignedIn who, ParcelPlan plan, TimeSpan patience, TimeProvider time) : IDisposable
{
    private readonly ApiClient api = Open(who);
    private readonly byte[]?[] hashes = new byte[]?[plan.Files.Count];
    private readonly TransferProgress progress = new("to the service", plan.Bytes, time);

    /// <summary>What is in the way here, and no line.</summary>
    private ClientException? trouble;

    /// <returns>The parcel, of which the service has every byte as it was read here.</returns>
    public async Task<ParcelInfo> RunAsync(CancellationToken cancel)
    {
        var parcel = await BeginAsync(plan.Key, cancel).ConfigureAwait(false);
        parcel = await SendAsync(parcel, cancel).ConfigureAwait(false);
        if (await IsRightAsync(parcel, cancel).ConfigureAwait(false))
        {
            return parcel;
        }
        // Another content of the same length and time was sent before.
        Array.Clear(hashes);
        parcel = await SendAsync(await BeginAsync(Guid.NewGuid().ToString(), cancel).ConfigureAwait(false), cancel).ConfigureAwait(false);
        return await IsRightAsync(parcel, cancel).ConfigureAwait(false) ? parcel : throw new ClientException("What the service received is not what was read here; nothing is put anywhere. Try again.");
    }

    public void Dispose() => api.Dispose();

    private static ApiClient Open(SignedIn who)
    {
        var api = new ApiClient(who.Service, who.NewPin(), who.Token);
        api.Http.Timeout = Timeout.InfiniteTimeSpan;
        return api;
    }

    private Task<ParcelInfo> BeginAsync(string key, CancellationToken cancel) =>
        api.PostAsync("parcels", new NewParcel(plan.Entries), WireJson.Default.NewParcel, WireJson.Default.ParcelInfo, cancel, key);

    private async Task<ParcelInfo> SendAsync(ParcelInfo parcel, CancellationToken cancel)
    {
        var since = time.GetTimestamp();
        for (var attempt = 0; parcel.Digest is null; attempt++)
        {
            var received = parcel.Received;
            try
            {
                progress.Begin(received);
                using var request = new HttpRequestMessage(HttpMethod.Put, $"{ApiClient.Base}parcels/{parcel.Id}/content") { Content = new Body(this, plan, received, cancel) };
                request.Content.Headers.ContentType = new MediaTypeHeaderValue("application/octet-stream");
                request.Content.Headers.ContentRange = new ContentRangeHeaderValue(received, parcel.Bytes - 1, parcel.Bytes);
                using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
                parcel = (await response.Content.ReadFromJsonAsync(WireJson.Default.ParcelInfo, cancel).ConfigureAwait(false))!;
            }
            catch (Exception e) when (trouble is not null || e is UnreachableException or HttpRequestException or IOException or ApiException { Problem.Status: (int)HttpStatusCode.Conflict })
            {
                progress.Clear();
                if (trouble is not null)
                {
                    throw trouble;
                }
                if (time.GetElapsedTime(since) > patience)
                {
                    throw new ClientException($"{e.Message.TrimEnd('.')}. What has come is kept; the same command goes on from there.");
                }
                if (attempt == 0)
                {
                    await Console.Error.WriteLineAsync($"The line to {who.Service.Authority} broke; going on as soon as it is there again.").ConfigureAwait(false);
                }
                await Task.Delay(Backoff.Delay(attempt, Random.Shared.NextDouble()), time, cancel).ConfigureAwait(false);
                parcel = await LookAsync(parcel, cancel).ConfigureAwait(false);
            }
            if (parcel.Received > received)
            {
                (attempt, since) = (-1, time.GetTimestamp());
            }
        }
        progress.Clear();
        return parcel;
    }

    private async Task<ParcelInfo> LookAsync(ParcelInfo parcel, CancellationToken cancel)
    {
        try
        {
            return await api.GetAsync($"parcels/{parcel.Id}", WireJson.Default.ParcelInfo, cancel).ConfigureAwait(false);
        }
        catch (UnreachableException)
        {
            return parcel;
        }
    }

    /// <summary>Whether what the service has of each file is what is here.</summary>
    private async Task<bool> IsRightAsync(ParcelInfo parcel, CancellationToken cancel)
    {
        using var response = await api.SendRawAsync(new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}parcels/{parcel.Id}/list"), cancel).ConfigureAwait(false);
        using var lines = new StreamReader(await response.Content.ReadAsStreamAsync(cancel).ConfigureAwait(false));
        _ = await lines.ReadLineAsync(cancel).ConfigureAwait(false);
        var number = 0;
        while (await lines.ReadLineAsync(cancel).ConfigureAwait(false) is { } line)
        {
            var entry = JsonSerializer.Deserialize(line, WireJson.Default.ParcelEntry)!;
            if (entry.Kind == FileKind.File)
            {
                hashes[number] ??= HashOf(number, entry.Bytes, cancel);
                if (!hashes[number].AsSpan().SequenceEqual(entry.Sha256))
                {
                    return false;
                }
                number++;
            }
        }
        return number == hashes.Length;
    }

    private byte[] HashOf(int number, long bytes, CancellationToken cancel)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (var piece in Read(number, bytes, cancel))
        {
            hash.AppendData(piece.Span);
        }
        return hash.GetHashAndReset();
    }

    /// <summary>A file here from its beginning to its end, and a complaint where it is another than it was when it was looked at.</summary>
    private IEnumerable<ReadOnlyMemory<byte>> Read(int number, long bytes, CancellationToken cancel)
    {
        var (path, version) = plan.Files[number];
        using var handle = Here(() => LocalFile.Open(path));
        var buffer = new byte[256 * 1024];
        for (var at = 0L; at < bytes;)
        {
            cancel.ThrowIfCancellationRequested();
            var from = at;
            var got = Here(() => RandomAccess.Read(handle, buffer.AsSpan(0, (int)Math.Min(buffer.Length, bytes - from)), from));
            if (got == 0)
            {
                break;
            }
            yield return buffer.AsMemory(0, got);
            at += got;
        }
        if (LocalFile.VersionOf(handle) != version)
        {
            throw trouble = new ClientException($"'{path}' changed while it was read; nothing is put anywhere. Try again when it is left alone.");
        }
    }

    private T Here<T>(Func<T> read)
    {
        try
        {
            return read();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw trouble = new ClientException($"{e.Message} Nothing is put anywhere.");
        }
    }

    /// <summary>All contents, one behind the other, from a place on; each file is hashed on its way.</summary>
    private sealed class Body(ParcelSend send, ParcelPlan plan, long from, CancellationToken cancel) : HttpContent
    {
        protected override async Task SerializeToStreamAsync(Stream stream, TransportContext? context)
        {
            var (number, at) = (0, 0L);
            foreach (var entry in plan.Entries.Where(e => e.Kind == FileKind.File))
            {
                // What the service has already is read again only of the file that it has a part of.
                if (at + entry.Bytes > from)
                {
                    using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
                    var place = at;
                    foreach (var piece in send.Read(number, entry.Bytes, cancel))
                    {
                        hash.AppendData(piece.Span);
                        var skip = (int)Math.Clamp(from - place, 0, piece.Length);
                        if (skip < piece.Length)
                        {
                            await stream.WriteAsync(piece[skip..], cancel).ConfigureAwait(false);
                            send.progress.Add(piece.Length - skip, came: true);
                        }
                        place += piece.Length;
                    }
                    send.hashes[number] = hash.GetHashAndReset();
                }
                at += entry.Bytes;
                number++;
            }
        }

        protected override bool TryComputeLength(out long length)
        {
            length = plan.Bytes - from;
            return true;
        }
    }
}
