using System.Security.Cryptography;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Files;

namespace Umbrek.Cli.Files;

/// <summary>What comes of a host's file goes here.</summary>
internal interface IArrival : IDisposable
{
    /// <summary>How much of this version is here already.</summary>
    long HereOf(string version);

    /// <summary>What comes next belongs behind so many bytes of this version.</summary>
    void Begin(FileEntry entry, long from);

    void Data(ReadOnlySpan<byte> bytes);

    void Zeros(long bytes);

    /// <summary>All of it is here.</summary>
    /// <returns>False when it is not what the host has read; then nothing of it is kept.</returns>
    bool End(byte[] sha256);

    /// <summary>The rest can't be read.</summary>
    void Drop();
}

/// <summary>Comes into a part beside its place, and takes the place when it is whole; what was there already of the same version is gone on from.</summary>
internal sealed class FileArrival(string file, Guid hostId, FileName path, bool replaces) : IArrival
{
    /// <summary>Of larger ones the disk is waited for, so that what they go on from is on it.</summary>
    private const long Large = 8 << 20;

    /// <summary>So much is left to the disk at a time, while more comes.</summary>
    private const long FlushEvery = 64 << 20;
    private const int ChunkBytes = 256 * 1024;

    /// <summary>Smaller ones have no name until they are whole, where the system can do that: nothing is left of them whatever happens.</summary>
    private const long Small = 256 << 10;

    /// <summary>Who may read, write and execute: nothing that lends somebody's rights.</summary>
    public const UnixFileMode Plain = (UnixFileMode)0x1ff;

    private IncrementalHash? hash;
    private FileEntry entry = null!;
    private FileStream? part;

    /// <summary>What it is called until it is whole, if anything.</summary>
    private string? partName;
    private Task flushing = Task.CompletedTask;
    private long unflushed;

    private string? asked;

    public long HereOf(string version)
    {
        asked = LocalName.PartOf(file, hostId, path, version);
        return new FileInfo(asked) is { Exists: true } there ? there.Length : 0;
    }

    public void Begin(FileEntry entry, long from)
    {
        this.entry = entry;
        var name = LocalName.PartOf(file, hostId, path, entry.Version ?? "");
        if (asked is not null && asked != name)
        {
            // Of what the file was before.
            File.Delete(asked);
        }
        hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        if (from == 0 && entry.Bytes <= Small && LocalFile.CreateUnnamed(Path.GetDirectoryName(Path.GetFullPath(file))!) is { } unnamed)
        {
            part = new FileStream(unnamed, FileAccess.ReadWrite, bufferSize: 0);
            return;
        }
        part = OpenPart(name);
        partName = name;
        // What lies behind where the host begins is not known to be right.
        part.SetLength(from);
        if (from > 0)
        {
            var chunk = new byte[ChunkBytes];
            for (int got; (got = part.Read(chunk)) > 0;)
            {
                hash.AppendData(chunk, 0, got);
            }
        }
    }

    public void Data(ReadOnlySpan<byte> bytes)
    {
        try
        {
            part!.Write(bytes);
        }
        catch (IOException e)
        {
            throw new ClientException($"'{file}' can't be written: {LocalFile.WhyNot(e)}{(partName is null ? "" : " What has come is kept; the same command goes on from there.")}");
        }
        hash!.AppendData(bytes);
        unflushed += bytes.Length;
        if (unflushed >= FlushEvery && flushing.IsCompleted)
        {
            unflushed = 0;
            var handle = part.SafeFileHandle;
            flushing = Task.Run(() => RandomAccess.FlushToDisk(handle));
        }
    }

    public void Zeros(long bytes)
    {
        part!.Seek(bytes, SeekOrigin.Current);
        part.SetLength(part.Position);
        ZeroHash.Append(hash!, bytes);
    }

    public bool End(byte[] sha256)
    {
        using var finished = hash;
        if (!hash!.GetHashAndReset().AsSpan().SequenceEqual(sha256))
        {
            Drop();
            return false;
        }
        if (part!.Length > Large)
        {
            flushing.GetAwaiter().GetResult();
            part.Flush(flushToDisk: true);
        }
        if (!OperatingSystem.IsWindows())
        {
            File.SetUnixFileMode(part.SafeFileHandle, (UnixFileMode)entry.Mode & Plain);
        }
        File.SetLastWriteTimeUtc(part.SafeFileHandle, entry.ChangedAt.UtcDateTime);
        try
        {
            TakePlace();
        }
        catch (IOException e) when (!replaces && File.Exists(file))
        {
            throw new ClientException($"'{file}' has come to be there meanwhile, and was left alone{(partName is null ? "" : $"; what was fetched is {partName}")}. {e.Message}");
        }
        return true;
    }

    public void Drop()
    {
        part?.Dispose();
        if ((partName ?? asked) is { } left)
        {
            File.Delete(left);
        }
    }

    public void Dispose()
    {
        part?.Dispose();
        hash?.Dispose();
    }

    private FileStream OpenPart(string name)
    {
        var options = new FileStreamOptions { Mode = FileMode.OpenOrCreate, Access = FileAccess.ReadWrite, Share = FileShare.None, BufferSize = 0 };
        if (!OperatingSystem.IsWindows())
        {
            options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        }
        try
        {
            return new FileStream(name, options);
        }
        catch (IOException) when (File.Exists(name))
        {
            throw new ClientException($"'{file}' is being fetched by another command already. Let that one end.");
        }
    }

    private void TakePlace()
    {
        if (partName is null)
        {
            if (LocalFile.Name(part!.SafeFileHandle, file))
            {
                part.Dispose();
                return;
            }
            if (!replaces)
            {
                throw new IOException($"'{file}' is there.");
            }
            // Only what has a name can take the place of something.
            partName = LocalName.PartOf(file, hostId, path, entry.Version ?? "");
            File.Delete(partName);
            if (!LocalFile.Name(part.SafeFileHandle, partName))
            {
                throw new IOException($"'{partName}' is there.");
            }
        }
        part!.Dispose();
        File.Move(partName, file, replaces);
    }
}

/// <summary>Goes to standard output as it comes; a line that breaks is gone on from what was written.</summary>
internal sealed class OutputArrival(Stream output) : IArrival
{
    private readonly IncrementalHash hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
    private string? version;
    private long written;

    public long HereOf(string version) => version == this.version ? written : 0;

    public void Begin(FileEntry entry, long from)
    {
        if (from != written)
        {
            throw new ClientException($"{entry.Name} changed on the host while its line was broken; what was written so far belongs to what it was. Fetch it again.");
        }
        version = entry.Version;
    }

    public void Data(ReadOnlySpan<byte> bytes)
    {
        output.Write(bytes);
        hash.AppendData(bytes);
        written += bytes.Length;
    }

    public void Zeros(long bytes)
    {
        var zeros = new byte[Math.Min(bytes, 64 * 1024)];
        for (var left = bytes; left > 0; left -= zeros.Length)
        {
            output.Write(zeros.AsSpan(0, (int)Math.Min(left, zeros.Length)));
        }
        ZeroHash.Append(hash, bytes);
        written += bytes;
    }

    public bool End(byte[] sha256)
    {
        output.Flush();
        return hash.GetHashAndReset().AsSpan().SequenceEqual(sha256) ? true : throw new ClientException("What was written is not what the host has read: their hashes differ. Fetch it again.");
    }

    public void Drop()
    {
        // What was written can't be taken back; the command says what is missing.
    }

    public void Dispose() => hash.Dispose();
}

/// <summary>Holes are hashed as what they read as.</summary>
internal static class ZeroHash
{
    private static readonly byte[] Zeros = new byte[64 * 1024];

    public static void Append(IncrementalHash hash, long bytes)
    {
        for (; bytes > 0; bytes -= Math.Min(bytes, Zeros.Length))
        {
            hash.AppendData(Zeros, 0, (int)Math.Min(bytes, Zeros.Length));
        }
    }
}
