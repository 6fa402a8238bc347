using System.Security.Cryptography;
using Umbrek.Core.Files;

namespace Umbrek.Service.Files;

/// <summary>Takes in the body of one parcel, part after part, and hashes each of its files on the way.</summary>
public sealed class ParcelIntake : IDisposable
{
    private const int BufferBytes = 256 * 1024;

    private readonly FileStream part;
    private readonly List<ParcelEntry> entries;
    private readonly IncrementalHash whole = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
    private readonly IncrementalHash single = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
    private int at;
    private long left;

    /// <param name="part">What is there of it already is read again.</param>
    public ParcelIntake(FileStream part, List<ParcelEntry> entries)
    {
        (this.part, this.entries) = (part, entries);
        Bytes = entries.Sum(e => e.Bytes);
        left = entries[0].Bytes;
        EndFiles();
        var buffer = new byte[BufferBytes];
        part.Position = 0;
        while (part.Read(buffer, 0, (int)Math.Min(buffer.Length, Bytes - Received)) is > 0 and var got)
        {
            Hash(buffer.AsSpan(0, got));
        }
    }

    /// <summary>How long it is going to be.</summary>
    public long Bytes { get; }

    public long Received { get; private set; }

    public bool IsWhole => Received == Bytes;

    /// <summary>With the hash of each file that is there.</summary>
    public IReadOnlyList<ParcelEntry> Entries => entries;

    /// <summary>Writes what comes, until it ends or the parcel is whole; what came is on the disk then.</summary>
    public async Task TakeAsync(Stream from, CancellationToken cancel)
    {
        var buffer = new byte[BufferBytes];
        try
        {
            while (!IsWhole && await from.ReadAsync(buffer.AsMemory(0, (int)Math.Min(buffer.Length, Bytes - Received)), cancel).ConfigureAwait(false) is > 0 and var got)
            {
                Keep(buffer.AsSpan(0, got));
                Hash(buffer.AsSpan(0, got));
            }
        }
        finally
        {
            part.Flush(flushToDisk: true);
        }
    }

    /// <exception cref="NotKeptException">The disk did not take it.</exception>
    private void Keep(ReadOnlySpan<byte> bytes)
    {
        try
        {
            // A write that failed is written over by the next one.
            part.Position = Received;
            part.Write(bytes);
        }
        catch (IOException e)
        {
            throw new NotKeptException(e);
        }
    }

    /// <summary>SHA-256 of all that came.</summary>
    public byte[] Body() => whole.GetCurrentHash();

    public void Dispose()
    {
        part.Dispose();
        whole.Dispose();
        single.Dispose();
    }

    public sealed class NotKeptException(IOException why) : Exception(why.Message, why);

    private void Hash(ReadOnlySpan<byte> bytes)
    {
        whole.AppendData(bytes);
        Received += bytes.Length;
        while (bytes.Length > 0)
        {
            var of = (int)Math.Min(left, bytes.Length);
            single.AppendData(bytes[..of]);
            left -= of;
            bytes = bytes[of..];
            EndFiles();
        }
    }

    /// <summary>The hash of the file that has ended, and of all behind it that are empty.</summary>
    private void EndFiles()
    {
        while (left == 0 && at < entries.Count)
        {
            if (entries[at].Kind == FileKind.File)
            {
                entries[at] = entries[at] with { Sha256 = single.GetHashAndReset() };
            }
            at++;
            left = at < entries.Count ? entries[at].Bytes : 0;
        }
    }
}
