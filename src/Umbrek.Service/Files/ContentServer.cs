using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text.Json;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.WebUtilities;
using Microsoft.EntityFrameworkCore;
using Microsoft.Net.Http.Headers;
using Umbrek.Core.Files;
using Umbrek.Core.Jobs;
using Umbrek.Service.Hosting;
using Umbrek.Service.Jobs;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files;

/// <summary>Hands to hosts what they were ordered to put somewhere, to each what its run is about, all of a job within one rate.</summary>
public sealed class ContentServer(IDatabase database, ParcelFiles files, ParcelService parcels, RunBook book, JobFeed feed, IDataProtectionProvider protection, TimeProvider time)
{
    private static readonly TimeSpan Between = TimeSpan.FromMilliseconds(300);

    private readonly IDataProtector protector = protection.CreateProtector("content ticket");
    private readonly ConcurrentDictionary<Guid, Fetching> fetching = new();
    private readonly ConcurrentDictionary<Guid, RateLimit> rates = new();

    private sealed class Fetching
    {
        public long Bytes;
        public long ToldAt;
    }

    /// <summary>What a host shows to fetch what a run is about; null for commands that have it fetch nothing.</summary>
    public string? TicketFor(Guid runId, CommandSpec command) => command.Action?.Deliver is null ? null : WebEncoders.Base64UrlEncode(protector.Protect(runId.ToByteArray()));

    /// <summary>So much has left for a host; null for a run that fetches nothing.</summary>
    public long? Fetched(Guid runId) => fetching.TryGetValue(runId, out var now) ? Interlocked.Read(ref now.Bytes) : null;

    /// <summary>Anything that is not to be had is a 404, whatever the reason: the host asks nobody.</summary>
    public async Task<IResult> ServeAsync(HttpContext http, string sha256, CancellationToken cancel)
    {
        if (ReadTicket(http) is not { } runId || book.Find(runId) is not { } mark || mark.Status.State.IsFinal() || await WishOfAsync(mark.JobId, cancel).ConfigureAwait(false) is not { } wish)
        {
            return TypedResults.NotFound();
        }
        var isBody = sha256 != wish.Digest;
        if (isBody && sha256 != await parcels.BodyOfAsync(wish.Digest, cancel).ConfigureAwait(false))
        {
            return TypedResults.NotFound();
        }
        FileStream file;
        try
        {
            file = files.Open(sha256);
        }
        catch (Exception e) when (e is FileNotFoundException or DirectoryNotFoundException)
        {
            return TypedResults.NotFound();
        }
        var rate = rates.GetOrAdd(mark.JobId, _ => new RateLimit(wish.Rate, time));
        var counted = new MeteredStream(file, async (bytes, stop) =>
        {
            if (isBody)
            {
                Count(mark.JobId, runId, bytes);
            }
            await rate.SpendAsync(bytes, stop).ConfigureAwait(false);
        });
        return TypedResults.Stream(counted, "application/octet-stream", entityTag: new EntityTagHeaderValue($"\"{sha256}\""), enableRangeProcessing: true);
    }

    /// <summary>A run has ended: nothing of it is counted any more.</summary>
    public void Forget()
    {
        foreach (var runId in fetching.Keys)
        {
            if (book.Find(runId) is not { } mark || mark.Status.State.IsFinal())
            {
                fetching.TryRemove(runId, out _);
            }
        }
        var openJobs = book.OpenJobs();
        foreach (var jobId in rates.Keys.Where(j => !openJobs.Contains(j)))
        {
            rates.TryRemove(jobId, out _);
        }
    }

    private void Count(Guid jobId, Guid runId, int bytes)
    {
        var now = fetching.GetOrAdd(runId, _ => new Fetching());
        Interlocked.Add(ref now.Bytes, bytes);
        var told = Interlocked.Read(ref now.ToldAt);
        if ((told == 0 || time.GetElapsedTime(told) > Between) && Interlocked.CompareExchange(ref now.ToldAt, time.GetTimestamp(), told) == told)
        {
            feed.RunChanged(jobId, runId);
        }
    }

    private Guid? ReadTicket(HttpContext http)
    {
        const string scheme = "Bearer ";
        var header = http.Request.Headers.Authorization.ToString();
        if (!header.StartsWith(scheme, StringComparison.OrdinalIgnoreCase))
        {
            return null;
        }
        try
        {
            return new Guid(protector.Unprotect(WebEncoders.Base64UrlDecode(header[scheme.Length..])));
        }
        catch (Exception e) when (e is CryptographicException or FormatException or ArgumentException)
        {
            return null;
        }
    }

    private async Task<DeliverFiles?> WishOfAsync(Guid jobId, CancellationToken cancel)
    {
        await using var db = database.Open();
        return await db.Jobs.Where(j => j.Id == jobId).Select(j => j.Command).FirstOrDefaultAsync(cancel).ConfigureAwait(false) is { } command
            ? JsonSerializer.Deserialize(command, WireJson.Default.CommandSpec)?.Action?.Deliver
            : null;
    }

    /// <summary>A file of which each piece that is read is counted before it goes.</summary>
    private sealed class MeteredStream(FileStream file, Func<int, CancellationToken, Task> spend) : Stream
    {
        /// <summary>Small enough that many hosts share a low rate evenly.</summary>
        private const int Piece = 64 * 1024;

        private long at;

        public override bool CanRead => true;
        public override bool CanSeek => true;
        public override bool CanWrite => false;
        public override long Length => file.Length;

        public override long Position
        {
            get => at;
            set => at = value;
        }

        public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

        public override async ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken cancellationToken = default)
        {
            // Read where it is wanted: what many hosts fetch is in memory, and a thread for each piece would cost more than it.
            var got = RandomAccess.Read(file.SafeFileHandle, buffer.Span[..Math.Min(buffer.Length, Piece)], at);
            at += got;
            await spend(got, cancellationToken).ConfigureAwait(false);
            return got;
        }

        public override Task<int> ReadAsync(byte[] buffer, int offset, int count, CancellationToken cancellationToken) => ReadAsync(buffer.AsMemory(offset, count), cancellationToken).AsTask();

        public override long Seek(long offset, SeekOrigin origin) => at = origin switch { SeekOrigin.Begin => offset, SeekOrigin.Current => at + offset, _ => file.Length + offset };

        public override void SetLength(long value) => throw new NotSupportedException();

        public override void Write(byte[] buffer, int offset, int count) => throw new NotSupportedException();

        public override void Flush()
        {
        }

        protected override void Dispose(bool disposing)
        {
            if (disposing)
            {
                file.Dispose();
            }
            base.Dispose(disposing);
        }
    }
}
