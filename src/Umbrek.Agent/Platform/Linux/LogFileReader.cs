using System.Runtime.CompilerServices;
using System.Text;
using Umbrek.Core.Files;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Wire.Jobs;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Reads a text file as a log: the newest lines that are wanted, then those that come. One that is begun anew (rotated, emptied) is read from its beginning.</summary>
internal sealed class LogFileReader(string path, LinuxPlaces places, TimeProvider time)
{
    /// <summary>Of a file that is larger only the end is looked at.</summary>
    private const long MostLooked = 64L << 20;
    private const int LongestLine = 16 * 1024;
    private const int ChunkBytes = 256 * 1024;
    private const int HeadBytes = 64;

    private static readonly TimeSpan Between = TimeSpan.FromMilliseconds(500);

    private readonly List<byte> unfinished = [];
    private DateTimeOffset? lastAt;
    private long at;

    public async IAsyncEnumerable<IReadOnlyList<LogLine>> ReadAsync(LogWish wish, [EnumeratorCancellation] CancellationToken cancel)
    {
        var head = Check();
        foreach (var portion in LinuxLogs.Portions(ReadWhatIsThere(wish, cancel)))
        {
            yield return portion;
        }
        yield return [];
        if (!wish.Follow)
        {
            yield break;
        }
        using var timer = new PeriodicTimer(Between, time);
        while (await timer.WaitForNextTickAsync(cancel).ConfigureAwait(false))
        {
            (head, var lines) = ReadNew(head, wish.Filter, cancel);
            foreach (var portion in LinuxLogs.Portions(lines))
            {
                yield return portion;
            }
        }
    }

    /// <returns>The file's first bytes: another file under the same name has others.</returns>
    private byte[] Check()
    {
        using var file = Open() ?? throw new IOException($"There is no file {path} on this host.");
        var head = HeadOf(file);
        return head.Contains((byte)0) ? throw new IOException($"{path} is no text.") : head;
    }

    private List<LogLine> ReadWhatIsThere(LogWish wish, CancellationToken cancel)
    {
        using var file = Open();
        if (file is null)
        {
            // Gone since it was looked at: what comes there is read from its beginning.
            return [];
        }
        at = Math.Max(0, file.Length - MostLooked);
        var skips = at > 0;
        var kept = new Queue<LogLine>();
        foreach (var line in Lines(file, cancel))
        {
            if (skips)
            {
                // What is left of a line that began before.
                skips = false;
                continue;
            }
            if (Take(line, wish.Filter) is { } taken && wish.Lines > 0)
            {
                if (kept.Count == wish.Lines)
                {
                    kept.Dequeue();
                }
                kept.Enqueue(taken);
            }
        }
        return [.. kept];
    }

    private (byte[] Head, List<LogLine> Lines) ReadNew(byte[] head, LogFilter filter, CancellationToken cancel)
    {
        if (Open() is not { } file)
        {
            // It is being rotated; the next one is read from its beginning.
            (at, lastAt) = (0, null);
            unfinished.Clear();
            return ([], []);
        }
        using (file)
        {
            var now = HeadOf(file);
            if (file.Length < at || !now.AsSpan().StartsWith(head.AsSpan(0, Math.Min(head.Length, now.Length))))
            {
                (at, lastAt) = (0, null);
                unfinished.Clear();
            }
            return (now, file.Length == at ? [] : [.. Lines(file, cancel).Select(l => Take(l, filter)).OfType<LogLine>()]);
        }
    }

    private LogLine? Take(string text, LogFilter filter)
    {
        var line = LogText.Read(text, TimeZoneInfo.ConvertTime(time.GetUtcNow(), time.LocalTimeZone));
        var takes = filter.Takes(line, lastAt);
        lastAt = line.At ?? lastAt;
        return takes ? line : null;
    }

    /// <summary>Whole lines from where the last reading ended; one that is still being written waits for its end.</summary>
    private IEnumerable<string> Lines(FileStream file, CancellationToken cancel)
    {
        var chunk = new byte[ChunkBytes];
        file.Position = at;
        int got;
        while ((got = file.Read(chunk)) > 0)
        {
            cancel.ThrowIfCancellationRequested();
            at += got;
            var rest = chunk.AsMemory(0, got);
            while (rest.Span.IndexOf((byte)'\n') is var end and >= 0)
            {
                Keep(rest.Span[..end]);
                rest = rest[(end + 1)..];
                yield return Finish();
            }
            Keep(rest.Span);
        }
    }

    private void Keep(ReadOnlySpan<byte> part)
    {
        var fits = Math.Min(part.Length, LongestLine - unfinished.Count);
        if (fits > 0)
        {
            unfinished.AddRange(part[..fits]);
        }
    }

    private string Finish()
    {
        var line = Encoding.UTF8.GetString(System.Runtime.InteropServices.CollectionsMarshal.AsSpan(unfinished)).TrimEnd('\r');
        unfinished.Clear();
        return line;
    }

    /// <returns>Null when there is none.</returns>
    private FileStream? Open()
    {
        // A pipe is opened without waiting for whoever writes into it, and is closed at once.
        var (handle, error) = places.TryOpen(new FileName(path), NativeFiles.ReadOnly | NativeFiles.NonBlocking);
        if (handle is null)
        {
            return error == NativeFiles.NotThere ? null : throw places.Trouble(new FileName(path), error);
        }
        var kind = LinuxEntries.KindOf(NativeFiles.LookAt(handle).Stat.Mode);
        if (kind == FileKind.File)
        {
            return new FileStream(handle, FileAccess.Read, 1);
        }
        handle.Dispose();
        throw new IOException(kind == FileKind.Folder ? $"{path} is a directory; name a file in it." : $"{path} is no file that could be read to an end.");
    }

    private static byte[] HeadOf(FileStream file)
    {
        var head = new byte[HeadBytes];
        return head[..file.ReadAtLeast(head, head.Length, throwOnEndOfStream: false)];
    }
}
