namespace Umbrek.Core.Files;

/// <summary>
/// Decides for each chunk of a file whether it is worth packing before it goes: when the line is slower than what packing gains, and
/// the file packs at all. Both are measured as it goes on; of a line that is not known yet the worst is assumed.
/// </summary>
public sealed class PackChoice
{
    /// <summary>Smaller chunks are not worth the trouble, in bytes.</summary>
    public const int Least = 512;

    /// <summary>A chunk that keeps more than this share of its length is sent as it is.</summary>
    private const double WorthBelow = 0.9;

    /// <summary>So many chunks at most are passed over before one is tried again, of a file that does not pack.</summary>
    private const int MostPassed = 64;

    /// <summary>So many bytes on the line make one measurement.</summary>
    private const int Window = 256 * 1024;

    private double? line;
    private double? packing;
    private double ratio = 0.5;
    private int toPass;
    private int passed = 1;

    /// <summary>So many bytes were passed over since one was tried in vain.</summary>
    private long sinceTried;
    private long windowBytes;
    private TimeSpan windowTime;

    /// <summary>Bytes a second that the line took last; null while it is not known.</summary>
    public double? Line => line;

    /// <summary>Another file: it may pack where the one before did not. Many small ones that don't are not each tried.</summary>
    public void Restart()
    {
        if (passed == 1 || sinceTried >= Window)
        {
            (ratio, toPass, passed) = (0.5, 0, 1);
        }
    }

    /// <summary>Whether the next chunk is to be packed.</summary>
    /// <param name="bytes">Its length.</param>
    public bool IsWorth(int bytes)
    {
        if (bytes < Least)
        {
            return false;
        }
        if (toPass > 0)
        {
            toPass--;
            sinceTried += bytes;
            return false;
        }
        // What packing takes has to be less than what the line takes for what is saved.
        return line is not { } rate || packing is not { } speed || rate < speed * (1 - ratio);
    }

    /// <summary>A chunk was packed.</summary>
    /// <returns>Whether it goes so; else it goes as it is.</returns>
    public bool Packed(int bytes, int packedBytes, TimeSpan took)
    {
        var speed = bytes / Math.Max(took.TotalSeconds, 1e-6);
        packing = packing is { } before ? before + (speed - before) / 4 : speed;
        var share = (double)packedBytes / bytes;
        ratio += (Math.Min(share, 1) - ratio) / 2;
        if (share < WorthBelow)
        {
            passed = 1;
            return true;
        }
        (toPass, sinceTried) = (passed, 0);
        passed = Math.Min(2 * passed, MostPassed);
        return false;
    }

    /// <summary>Something went over the line.</summary>
    /// <param name="took">How long the line made wait for it.</param>
    public void Sent(int bytes, TimeSpan took)
    {
        windowBytes += bytes;
        windowTime += took;
        if (windowBytes < Window)
        {
            return;
        }
        var rate = windowBytes / Math.Max(windowTime.TotalSeconds, 1e-6);
        // Down at once, up slowly: buffers take something now and then that the line has not carried.
        line = line is { } before && rate > before ? before + (rate - before) / 4 : rate;
        (windowBytes, windowTime) = (0, TimeSpan.Zero);
    }
}
