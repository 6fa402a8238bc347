using System.Threading.Channels;
using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

/// <summary>Counts what leaves the host on one channel, transfer by transfer, and tells of each that read anything.</summary>
public sealed class TransferCount(Guid channelId, ChannelWriter<FileReport> reports)
{
    private FileName? of;
    private long files;
    private long bytes;
    private long problems;
    private byte[]? sha256;

    /// <summary>What is read from here on belongs together.</summary>
    public void Begin(FileName path) => of = path;

    /// <summary>A file is read; outside a transfer it is one by itself.</summary>
    public void Began(FileName path)
    {
        if (of is null)
        {
            of = path;
        }
    }

    public void Sent(int more) => bytes += more;

    public void Ended(byte[]? hash, bool changed)
    {
        files++;
        sha256 = files == 1 ? hash : null;
        problems += changed ? 1 : 0;
    }

    public void Failed(bool reading) => problems += reading ? 1 : 0;

    public void End()
    {
        if (of is not null && (files > 0 || bytes > 0 || problems > 0))
        {
            reports.TryWrite(new FileReport(channelId, of, files, bytes, files == 1 ? sha256 : null, problems));
        }
        (of, files, bytes, problems, sha256) = (null, 0, 0, 0, null);
    }
}
