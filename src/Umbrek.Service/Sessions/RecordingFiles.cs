using System.IO.Compression;
using System.Security.Cryptography;
using Umbrek.Core.Desktop;
using Umbrek.Service.Hosting;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Sessions;

/// <summary>
/// The files of recordings, one each in the data directory, and films that were made of them. A shell's is plain text while it is
/// written and compressed from its end on; a desktop's is compressed as it comes. What is written is in the system's hands at once, so
/// that a service that is killed loses none of it.
/// </summary>
public sealed class RecordingFiles(ServiceOptions options)
{
    private const string Plain = ".cast";
    private const string Packed = ".cast.gz";
    private const string Screen = ".screen";
    private const string Film = ".webm";
    private const string Half = ".new";
    private readonly string directory = options.PathOf("recordings");

    /// <exception cref="IOException">There is no room, or no right, to write it.</exception>
    /// <exception cref="UnauthorizedAccessException">As above.</exception>
    public FileStream Create(Guid id, RecordingKind kind)
    {
        Directory.CreateDirectory(directory);
        return new FileStream(PathOf(id, kind == RecordingKind.Desktop ? Screen : Plain), Private(FileMode.CreateNew));
    }

    /// <summary>What was recorded, as far as it is written.</summary>
    /// <returns>Null when there is none.</returns>
    public Stream? Open(Guid id) => (Stream?)(Find(id, Screen) ?? Find(id, Plain)) ?? (Find(id, Packed) is { } packed ? new GZipStream(packed, CompressionMode.Decompress) : null);

    /// <summary>The film that was made of a recording.</summary>
    /// <returns>Null when there is none.</returns>
    public FileStream? OpenFilm(Guid id) => Find(id, Film);

    /// <summary>Where a film is made; once it is whole, <see cref="KeepFilm"/> keeps it.</summary>
    public string FilmToBe(Guid id) => PathOf(id, Film + Half);

    public FileStream CreateFilm(Guid id) => new(FilmToBe(id), Private(FileMode.Create));

    public void KeepFilm(Guid id) => File.Move(FilmToBe(id), PathOf(id, Film), overwrite: true);

    public void DeleteFilm(Guid id)
    {
        File.Delete(FilmToBe(id));
        File.Delete(PathOf(id, Film));
    }

    /// <summary>Ends a recording, whole or not at all. What was cut off by a crash at its end goes.</summary>
    /// <returns>How long its content is and its SHA-256; null when there is none.</returns>
    public async Task<(long Bytes, string Sha256, DateTimeOffset WrittenAt)?> PackAsync(Guid id, CancellationToken cancel)
    {
        if (File.Exists(PathOf(id, Screen)))
        {
            return await EndScreenAsync(PathOf(id, Screen), cancel).ConfigureAwait(false);
        }
        var (plain, packed) = (PathOf(id, Plain), PathOf(id, Packed));
        if (!File.Exists(plain))
        {
            // Packed already, by a life of the service that had no time to say so.
            return File.Exists(packed) ? await ReadAsync(packed, cancel).ConfigureAwait(false) : null;
        }
        var writtenAt = File.GetLastWriteTimeUtc(plain);
        long bytes;
        byte[] hash;
        var half = packed + Half;
        await using (var from = new FileStream(plain, FileMode.Open, FileAccess.ReadWrite, FileShare.ReadWrite | FileShare.Delete))
        {
            from.SetLength(await WholeLinesAsync(from, cancel).ConfigureAwait(false));
            bytes = from.Length;
            from.Position = 0;
            hash = await SHA256.HashDataAsync(from, cancel).ConfigureAwait(false);
            from.Position = 0;
            await using var to = new FileStream(half, Private(FileMode.Create));
            await using (var gzip = new GZipStream(to, CompressionLevel.Optimal, leaveOpen: true))
            {
                await from.CopyToAsync(gzip, cancel).ConfigureAwait(false);
            }
            to.Flush(flushToDisk: true);
        }
        File.SetLastWriteTimeUtc(half, writtenAt);
        File.Move(half, packed, overwrite: true);
        File.Delete(plain);
        return (bytes, Convert.ToHexStringLower(hash), new DateTimeOffset(writtenAt, TimeSpan.Zero));
    }

    private FileStream? Find(Guid id, string suffix)
    {
        try
        {
            return new FileStream(PathOf(id, suffix), FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
        }
        catch (Exception e) when (e is FileNotFoundException or DirectoryNotFoundException)
        {
            return null;
        }
    }

    private static async Task<(long Bytes, string Sha256, DateTimeOffset WrittenAt)> EndScreenAsync(string path, CancellationToken cancel)
    {
        var writtenAt = File.GetLastWriteTimeUtc(path);
        await using var file = new FileStream(path, FileMode.Open, FileAccess.ReadWrite, FileShare.ReadWrite | FileShare.Delete);
        file.SetLength(await WholeEntriesAsync(file, cancel).ConfigureAwait(false));
        file.Position = 0;
        var hash = await SHA256.HashDataAsync(file, cancel).ConfigureAwait(false);
        file.Flush(flushToDisk: true);
        return (file.Length, Convert.ToHexStringLower(hash), new DateTimeOffset(writtenAt, TimeSpan.Zero));
    }

    private static async Task<long> WholeEntriesAsync(FileStream file, CancellationToken cancel)
    {
        var tape = new TapeReader(file);
        try
        {
            await tape.ReadHeaderAsync(cancel).ConfigureAwait(false);
            while (await tape.ReadAsync(cancel).ConfigureAwait(false) is not null)
            {
            }
        }
        catch (InvalidDataException)
        {
            // What follows was never written as it should be.
        }
        return tape.Length;
    }

    private static async Task<(long Bytes, string Sha256, DateTimeOffset WrittenAt)> ReadAsync(string packed, CancellationToken cancel)
    {
        await using var text = new GZipStream(File.OpenRead(packed), CompressionMode.Decompress);
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        var buffer = new byte[64 * 1024];
        long bytes = 0;
        while (await text.ReadAsync(buffer, cancel).ConfigureAwait(false) is > 0 and var got)
        {
            hash.AppendData(buffer, 0, got);
            bytes += got;
        }
        return (bytes, Convert.ToHexStringLower(hash.GetCurrentHash()), new DateTimeOffset(File.GetLastWriteTimeUtc(packed), TimeSpan.Zero));
    }

    public void Delete(Guid id)
    {
        foreach (var suffix in new[] { Plain, Packed, Packed + Half, Screen, Film, Film + Half })
        {
            File.Delete(PathOf(id, suffix));
        }
    }

    /// <summary>Recordings that have a file.</summary>
    public List<Guid> List() => !Directory.Exists(directory) ? []
        : [.. Directory.EnumerateFiles(directory).Select(f => Guid.TryParse(Path.GetFileName(f).Split('.')[0], out var id) ? id : Guid.Empty).Where(id => id != Guid.Empty).Distinct()];

    private static async Task<long> WholeLinesAsync(FileStream file, CancellationToken cancel)
    {
        var tail = new byte[(int)Math.Min(file.Length, 1 << 20)];
        file.Position = file.Length - tail.Length;
        await file.ReadExactlyAsync(tail, cancel).ConfigureAwait(false);
        return file.Length - tail.Length + tail.AsSpan().LastIndexOf((byte)'\n') + 1;
    }

    /// <summary>Nobody but the service's user reads it.</summary>
    private static FileStreamOptions Private(FileMode mode)
    {
        var how = new FileStreamOptions { Mode = mode, Access = FileAccess.Write, Share = FileShare.Read, BufferSize = 0 };
        if (!OperatingSystem.IsWindows())
        {
            how.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        }
        return how;
    }

    private string PathOf(Guid id, string suffix) => Path.Combine(directory, $"{id:N}{suffix}");
}
