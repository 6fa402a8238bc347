namespace Umbrek.Core.Files;

/// <summary>What becomes of a file that is there already and is another one.</summary>
public enum Existing
{
    Keep,
    Replace,
    ReplaceOlder,
    Rename,

    /// <summary>Nothing is moved; somebody is asked.</summary>
    Ask,
}

/// <summary>What is done with one file that is to be put where something may be.</summary>
public enum Placing
{
    /// <summary>Nothing is in the way.</summary>
    Put,

    /// <summary>It is there as it is.</summary>
    Same,
    Keep,
    Replace,
    Rename,
    Ask,

    /// <summary>What is there is no file, and no file takes its place.</summary>
    Blocked,
}

public static class Placings
{
    /// <param name="there">What has the name; null for nothing.</param>
    /// <param name="bytes">How long the file is that is to be put there.</param>
    /// <param name="changedAt">When its content changed last.</param>
    /// <param name="isSame">Whether what is there is known to be the same by its content; null to go by length and time.</param>
    public static Placing Decide(Existing way, FileEntry? there, long bytes, DateTimeOffset? changedAt, bool? isSame = null) =>
        there is null ? Placing.Put
        : there.Kind is not FileKind.File && there is not { Kind: FileKind.Link, TargetKind: FileKind.File } ? Placing.Blocked
        : isSame ?? (way != Existing.Replace && there.Bytes == bytes && there.ChangedAt == changedAt) ? Placing.Same
        : way switch
        {
            Existing.Replace => Placing.Replace,
            Existing.ReplaceOlder => there.ChangedAt < changedAt ? Placing.Replace : Placing.Keep,
            Existing.Rename => Placing.Rename,
            Existing.Ask => Placing.Ask,
            _ => Placing.Keep,
        };

    /// <summary>"labels (2).pdf" beside "labels.pdf": the first of its kind that is free.</summary>
    public static FileName Free(FileName path, Func<FileName, bool> isTaken)
    {
        var bytes = path.Last().ToBytes();
        // What begins with a dot is hidden, not a name without one.
        var dot = bytes.AsSpan().LastIndexOf((byte)'.') is var at && at > 0 ? at : bytes.Length;
        for (var number = 2; ; number++)
        {
            var mark = System.Text.Encoding.ASCII.GetBytes(string.Create(System.Globalization.CultureInfo.InvariantCulture, $" ({number})"));
            var stem = bytes.AsSpan(0, Math.Min(dot, Math.Max(0, FileName.MostNameBytes - mark.Length - (bytes.Length - dot))));
            var other = path.Folder().In(FileName.Of([.. stem, .. mark, .. bytes.AsSpan(dot)]));
            if (!isTaken(other))
            {
                return other;
            }
        }
    }
}
