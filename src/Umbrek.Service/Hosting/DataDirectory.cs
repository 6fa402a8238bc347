using System.Runtime.InteropServices;

namespace Umbrek.Service.Hosting;

/// <summary>The directory of the database, certificate and keys: the service's user's alone.</summary>
public static partial class DataDirectory
{
    private const UnixFileMode Own = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;
    private const uint NobodyElse = 0x3F;

    /// <summary>Makes the directory, or closes it where others of this machine could get in.</summary>
    /// <returns>What there is to say about it; null when all was well.</returns>
    /// <exception cref="UnauthorizedAccessException">It belongs to somebody else.</exception>
    public static string? Open(string path)
    {
        if (OperatingSystem.IsWindows())
        {
            Directory.CreateDirectory(path);
            return null;
        }
        Directory.CreateDirectory(path, Own);
        if (File.GetUnixFileMode(path) is var mode && mode == Own)
        {
            return null;
        }
        File.SetUnixFileMode(path, Own);
        return $"note: {path} was open to other users of this machine (mode {Convert.ToString((int)mode, 8)}); it is closed now. If others have accounts here, change what it keeps: passwords, access keys and secrets.";
    }

    /// <summary>What this process writes from now on is its user's alone (umask(2)), wherever it lies.</summary>
    public static void KeepToSelf()
    {
        if (!OperatingSystem.IsWindows())
        {
            _ = Umask(NobodyElse);
        }
    }

    [LibraryImport("libc", EntryPoint = "umask")]
    private static partial uint Umask(uint mask);
}
