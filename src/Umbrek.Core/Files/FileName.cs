using System.Text;

namespace Umbrek.Core.Files;

/// <summary>
/// A file's name or path as its host knows it: bytes without a zero among them (POSIX.1-2017, section 3.271), which need not be any text.
/// </summary>
/// <param name="Text">The name for people; what is no UTF-8 in it is shown as U+FFFD.</param>
/// <param name="Bytes">The bytes themselves where <paramref name="Text"/> does not say them.</param>
public sealed record FileName(string Text, byte[]? Bytes = null)
{
    /// <summary>Longest path, in bytes (Linux, PATH_MAX without its zero).</summary>
    public const int MostBytes = 4095;

    /// <summary>Longest name in a folder, in bytes (Linux, NAME_MAX).</summary>
    public const int MostNameBytes = 255;

    private static readonly UTF8Encoding Strict = new(false, throwOnInvalidBytes: true);

    public static FileName Of(ReadOnlySpan<byte> bytes)
    {
        try
        {
            return new FileName(Strict.GetString(bytes));
        }
        catch (DecoderFallbackException)
        {
            return new FileName(Encoding.UTF8.GetString(bytes), bytes.ToArray());
        }
    }

    public byte[] ToBytes() => Bytes ?? Encoding.UTF8.GetBytes(Text);

    /// <summary>A name in a folder: "/var" and "log" are "/var/log".</summary>
    public FileName In(FileName name)
    {
        if (Bytes is null && name.Bytes is null)
        {
            return new FileName(Text.EndsWith('/') ? Text + name.Text : $"{Text}/{name.Text}");
        }
        var own = ToBytes().AsSpan().TrimEnd((byte)'/');
        return Of([.. own, (byte)'/', .. name.ToBytes()]);
    }

    /// <summary>What is left behind the last slash; of "/" that itself.</summary>
    public FileName Last()
    {
        var bytes = ToBytes().AsSpan().TrimEnd((byte)'/');
        return bytes.IsEmpty ? this : Of(bytes[(bytes.LastIndexOf((byte)'/') + 1)..]);
    }

    /// <summary>The folder that a whole path lies in; of "/" that itself.</summary>
    public FileName Folder()
    {
        var bytes = ToBytes().AsSpan().TrimEnd((byte)'/');
        var slash = bytes.LastIndexOf((byte)'/');
        return slash <= 0 ? new FileName("/") : Of(bytes[..slash]);
    }

    /// <summary>Whether a name can be given to something in a folder, as a whole: "..", "a/b" and nothing can't.</summary>
    public bool IsPlainName() => ToBytes() is var bytes && bytes.Length is > 0 and <= MostNameBytes && !bytes.AsSpan().ContainsAny((byte)'/', (byte)0) && !bytes.AsSpan().SequenceEqual("."u8) && !bytes.AsSpan().SequenceEqual(".."u8);

    /// <summary>Whether it is a path below some folder, each part of it a plain name: it leads out of nothing.</summary>
    public bool IsPlainPath()
    {
        var bytes = ToBytes();
        if (bytes.Length > MostBytes)
        {
            return false;
        }
        foreach (var part in bytes.AsSpan().Split((byte)'/'))
        {
            if (!Of(bytes.AsSpan(part)).IsPlainName())
            {
                return false;
            }
        }
        return true;
    }

    /// <returns>Why it is no path that a host could be asked for, or null.</returns>
    public string? CheckPath() => Text is null ? "A path is missing."
        : Bytes is { Length: 0 } || Text.Length == 0 ? "The path is empty; give the whole path, such as /var/log."
        : ToBytes() is not { Length: <= MostBytes } bytes ? $"The path is longer than {MostBytes} bytes, the most there may be."
        : bytes[0] != (byte)'/' ? $"'{Text}' is no whole path; give it from the root, such as /var/log."
        : bytes.Contains((byte)0) ? "No path has a zero byte in it."
        : null;

    public bool Equals(FileName? other) => other is not null && Text == other.Text && (Bytes is null ? other.Bytes is null : other.Bytes is not null && Bytes.AsSpan().SequenceEqual(other.Bytes));

    public override int GetHashCode() => Text.GetHashCode(StringComparison.Ordinal);

    public override string ToString() => Text;
}
