namespace Umbrek.Core.Files;

/// <summary>How files are packed: ZIP (APPNOTE 6.3), tar (POSIX.1-2017 pax) and tar in gzip (RFC 1952).</summary>
public enum ArchiveFormat
{
    Zip,
    Tar,
    TarGzip,
}

public static class ArchiveFormats
{
    private static readonly (string Ending, ArchiveFormat Format)[] Endings = [(".zip", ArchiveFormat.Zip), (".tar", ArchiveFormat.Tar), (".tar.gz", ArchiveFormat.TarGzip), (".tgz", ArchiveFormat.TarGzip)];

    /// <summary>What a name says that it is; null for no archive.</summary>
    public static ArchiveFormat? Of(FileName name)
    {
        foreach (var (ending, format) in Endings)
        {
            if (name.Text.EndsWith(ending, StringComparison.OrdinalIgnoreCase))
            {
                return format;
            }
        }
        return null;
    }

    /// <summary>Why a name is none of an archive.</summary>
    public static string Problem(FileName name) => $"{name} is no name of an archive; it ends with .zip, .tar, .tar.gz or .tgz.";

    /// <summary>What is in an archive under a name, below where it is unpacked; null for one that leads elsewhere.</summary>
    public static FileName? PathOf(string name)
    {
        var parts = name.Split('/').Where(p => p is not ("" or ".")).ToList();
        return name.StartsWith('/') || parts.Count == 0 || parts.Exists(p => !new FileName(p).IsPlainName()) || new FileName(name).ToBytes().Length > FileName.MostBytes ? null : new FileName(string.Join('/', parts));
    }
}
