using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Files;

namespace Umbrek.Cli.Files;

/// <summary>Where files of hosts come to lie here: below a folder, whatever a host says that they are called.</summary>
public static class LocalName
{
    /// <summary>A host's path, below a folder here. What is no UTF-8 in a name is written as %E9.</summary>
    /// <exception cref="ClientException">It would lead elsewhere; an honest host says no such name.</exception>
    public static string Under(string folder, FileName name)
    {
        foreach (var part in Text(name).Split('/'))
        {
            if (part is "" or "." or ".." || part.Contains('\0', StringComparison.Ordinal))
            {
                throw new ClientException($"The host names a file '{name}', which would lie outside of {folder}. Nothing of it was written.");
            }
            folder = Path.Combine(folder, part);
        }
        return folder;
    }

    /// <summary>Where a file lies until all of it is here; another one for each version of each file.</summary>
    public static string PartOf(string file, Guid hostId, FileName path, string version)
    {
        var mark = Convert.ToHexStringLower(SHA256.HashData([.. hostId.ToByteArray(), .. path.ToBytes(), 0, .. Encoding.UTF8.GetBytes(version)]).AsSpan(0, 6));
        var name = Path.GetFileName(file);
        // With what is added it is still a name (255 bytes).
        while (Encoding.UTF8.GetByteCount(name) > 220)
        {
            name = name[..^1];
        }
        return Path.Combine(Path.GetDirectoryName(file)!, $".{name}.{mark}.part");
    }

    private static string Text(FileName name)
    {
        if (name.Bytes is not { } bytes)
        {
            return name.Text;
        }
        var text = new StringBuilder();
        for (var rest = bytes.AsSpan(); !rest.IsEmpty;)
        {
            if (Rune.DecodeFromUtf8(rest, out var rune, out var length) == System.Buffers.OperationStatus.Done)
            {
                text.Append(rune);
            }
            else
            {
                foreach (var odd in rest[..length])
                {
                    text.Append(CultureInfo.InvariantCulture, $"%{odd:X2}");
                }
            }
            rest = rest[length..];
        }
        return text.ToString();
    }
}
