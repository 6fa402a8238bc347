using System.Security.Cryptography;
using System.Text.Json;
using Umbrek.Core.Files;
using Umbrek.Service.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Files;

/// <summary>
/// The files of parcels in the data directory: what is being received under its parcel's id, and what is whole under its SHA-256, once
/// however many parcels hold it.
/// </summary>
public sealed class ParcelFiles(ServiceOptions options)
{
    /// <summary>So much of the disk is left free for everything else.</summary>
    private const long Reserve = 256 << 20;

    private readonly string receiving = options.PathOf("parcels");
    private readonly string content = options.PathOf("content");

    /// <returns>How much there is room for.</returns>
    public long Room()
    {
        Directory.CreateDirectory(receiving);
        return Math.Max(0, new DriveInfo(Path.GetFullPath(receiving)).AvailableFreeSpace - Reserve);
    }

    /// <summary>Keeps what a parcel is going to hold.</summary>
    public void Begin(Guid id, IReadOnlyList<ParcelEntry> entries)
    {
        Directory.CreateDirectory(receiving);
        using (var list = Create(EntriesOf(id)))
        {
            WriteLines(list, entries);
        }
        Create(PartOf(id)).Dispose();
    }

    public List<ParcelEntry> ReadEntries(Guid id) => [.. File.ReadLines(EntriesOf(id)).Select(l => JsonSerializer.Deserialize(l, WireJson.Default.ParcelEntry)!)];

    /// <summary>So much of a parcel is there that is not whole.</summary>
    public long Received(Guid id) => new FileInfo(PartOf(id)) is { Exists: true } part ? part.Length : 0;

    public FileStream OpenPart(Guid id) => Create(PartOf(id), FileMode.OpenOrCreate, 0);

    /// <summary>It is whole: its body and its list take their places.</summary>
    /// <param name="entries">With the hash of each file.</param>
    /// <returns>The digest that the parcel has.</returns>
    public string End(Guid id, IReadOnlyList<ParcelEntry> entries, byte[] body, long bytes)
    {
        Directory.CreateDirectory(content);
        var bodyName = Convert.ToHexStringLower(body);
        var list = Path.Combine(receiving, $"{id:N}.list");
        string digest;
        using (var file = Create(list, FileMode.Create))
        {
            file.Write(JsonSerializer.SerializeToUtf8Bytes(new ParcelHead(ParcelHead.Version, bodyName, bytes, entries.Count), WireJson.Default.ParcelHead));
            file.WriteByte((byte)'\n');
            WriteLines(file, entries);
            file.Position = 0;
            digest = Convert.ToHexStringLower(SHA256.HashData(file));
        }
        // The body first: a list that is there names one that is.
        File.Move(PartOf(id), PathOf(bodyName), overwrite: true);
        File.Move(list, PathOf(digest), overwrite: true);
        return digest;
    }

    /// <summary>Removes what was kept of a parcel while it was received.</summary>
    public void Drop(Guid id)
    {
        File.Delete(EntriesOf(id));
        File.Delete(PartOf(id));
    }

    public bool Has(string sha256) => File.Exists(PathOf(sha256));

    /// <exception cref="FileNotFoundException">It is not kept any more.</exception>
    public FileStream Open(string sha256) => new(PathOf(sha256), FileMode.Open, FileAccess.Read, FileShare.Read | FileShare.Delete, bufferSize: 0, useAsync: false);

    /// <summary>Removes what no parcel holds any more.</summary>
    public void Sweep(IReadOnlySet<Guid> receivingStill, IReadOnlySet<string> kept, DateTime before)
    {
        foreach (var file in Files(receiving).Where(f => !Guid.TryParseExact(Path.GetFileNameWithoutExtension(f.Name), "N", out var id) || !receivingStill.Contains(id)).Concat(Files(content).Where(f => !kept.Contains(f.Name))))
        {
            // What was written a moment ago may be of a parcel that is known a moment later.
            if (file.LastWriteTimeUtc < before)
            {
                file.Delete();
            }
        }
    }

    private static IEnumerable<FileInfo> Files(string directory) => Directory.Exists(directory) ? new DirectoryInfo(directory).EnumerateFiles() : [];

    private static void WriteLines(FileStream to, IReadOnlyList<ParcelEntry> entries)
    {
        foreach (var entry in entries)
        {
            to.Write(JsonSerializer.SerializeToUtf8Bytes(entry, WireJson.Default.ParcelEntry));
            to.WriteByte((byte)'\n');
        }
        to.Flush(flushToDisk: true);
    }

    private static FileStream Create(string path, FileMode mode = FileMode.CreateNew, int buffer = 64 * 1024)
    {
        var how = new FileStreamOptions { Mode = mode, Access = FileAccess.ReadWrite, Share = FileShare.Read, BufferSize = buffer };
        if (!OperatingSystem.IsWindows())
        {
            how.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        }
        return new FileStream(path, how);
    }

    private string EntriesOf(Guid id) => Path.Combine(receiving, $"{id:N}.entries");

    private string PartOf(Guid id) => Path.Combine(receiving, $"{id:N}.part");

    private string PathOf(string sha256) => Path.Combine(content, sha256);
}
