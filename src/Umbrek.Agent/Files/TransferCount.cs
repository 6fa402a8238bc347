using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

/// <summary>
/// Counts what leaves the host and comes to it on one channel, and tells of it transfer by transfer. A technician's side says what belongs
/// together; whether a file does, the host decides: one that does not lie below what was said is told of by itself, by where it lies in truth.
/// </summary>
/// <param name="deed">What a channel does with files: reads or writes them.</param>
/// <param name="tell">Waits until there is room for another: nothing that was done goes untold.</param>
public sealed class TransferCount(Guid channelId, FileDeed deed, Func<FileReport, CancellationToken, ValueTask> tell)
{
    private (FileName Asked, byte[] Place)? said;
    private FileName? of;
    private bool isSingle;
    private long files;
    private long bytes;
    private long problems;
    private byte[]? sha256;

    /// <summary>What is read or written below a path from here on belongs together.</summary>
    /// <param name="place">Where the path leads.</param>
    public async ValueTask BeginAsync(FileName asked, FileName place, CancellationToken cancel)
    {
        await EndAsync(cancel).ConfigureAwait(false);
        said = (asked, place.ToBytes());
    }

    /// <summary>A file is read or written that lies at a place.</summary>
    public async ValueTask BeganAsync(FileName place, CancellationToken cancel)
    {
        var belongs = Belongs(place);
        if (!belongs)
        {
            await EndAsync(cancel).ConfigureAwait(false);
        }
        (of, isSingle) = (belongs ? said!.Value.Asked : place, !belongs);
    }

    public void Moved(int more) => bytes += more;

    public ValueTask EndedAsync(byte[]? hash, bool changed, CancellationToken cancel)
    {
        files++;
        sha256 = hash;
        problems += changed ? 1 : 0;
        return isSingle ? EndAsync(cancel) : ValueTask.CompletedTask;
    }

    public ValueTask FailedAsync(CancellationToken cancel)
    {
        problems++;
        return isSingle ? EndAsync(cancel) : ValueTask.CompletedTask;
    }

    /// <summary>Something was changed that lies at a place. A folder, a link or a setting that belongs to a transfer is told of with that.</summary>
    /// <param name="to">What became of it, for people.</param>
    public ValueTask ChangedAsync(FileDeed change, FileName place, string? to, long changed, long failed, CancellationToken cancel)
    {
        if (change is FileDeed.Folder or FileDeed.Link or FileDeed.Set && Belongs(place))
        {
            of ??= said!.Value.Asked;
            problems += failed;
            return ValueTask.CompletedTask;
        }
        return tell(new FileReport(channelId, place, changed, 0, null, failed, change, to), cancel);
    }

    /// <summary>Tells of what was counted since the last time, if anything was.</summary>
    public async ValueTask EndAsync(CancellationToken cancel)
    {
        var report = of is null ? null : new FileReport(channelId, of, files, bytes, files == 1 ? sha256 : null, problems, deed);
        (of, files, bytes, problems, sha256) = (null, 0, 0, 0, null);
        if (report is not null)
        {
            await tell(report, cancel).ConfigureAwait(false);
        }
    }

    private bool Belongs(FileName place) => said is var (_, root) && IsBelow(root, place.ToBytes());

    private static bool IsBelow(ReadOnlySpan<byte> root, ReadOnlySpan<byte> place)
    {
        root = root.TrimEnd((byte)'/');
        return place.StartsWith(root) && (place.Length == root.Length || place[root.Length] == (byte)'/');
    }
}
