using System.ComponentModel;
using System.Diagnostics;
using System.IO.Enumeration;
using Umbrek.Core.Text;
using Umbrek.Service.Hosting;

namespace Umbrek.Service.Files.Shelves;

/// <summary>What shelves hold, in the data directory: a folder each, and beside it what its keeper needs, with its trash.</summary>
public sealed class ShelfFiles(ServiceOptions options)
{
    /// <summary>So much of the disk is left to the rest of the service.</summary>
    private const long Reserve = 1L << 30;

    private readonly string folder = Path.GetFullPath(options.PathOf("shelves"));

    /// <summary>The folder that a shelf is.</summary>
    public string FolderOf(Guid id) => Path.Combine(folder, $"{id:N}", "files");

    public string StateOf(Guid id) => Path.Combine(folder, $"{id:N}", "state");

    /// <summary>How many bytes more shelves may hold.</summary>
    public long Room()
    {
        Make(folder);
        return Math.Max(0, new DriveInfo(folder).AvailableFreeSpace - Reserve);
    }

    public void Begin(Guid id)
    {
        foreach (var directory in new[] { folder, Path.GetDirectoryName(FolderOf(id))!, FolderOf(id), StateOf(id) })
        {
            Make(directory);
        }
    }

    /// <summary>Removes a shelf with all that it holds.</summary>
    public void Drop(Guid id)
    {
        var own = Path.Combine(folder, $"{id:N}");
        if (!Directory.Exists(own))
        {
            return;
        }
        // Out of the way in one step; what is left of it after a fall goes at the next start.
        var gone = Path.Combine(folder, $"gone-{id:N}");
        Directory.Move(own, gone);
        Remove(gone);
    }

    /// <summary>Removes what earlier ones have left.</summary>
    public void Tidy()
    {
        foreach (var gone in Directory.Exists(folder) ? Directory.GetDirectories(folder, "gone-*") : [])
        {
            Remove(gone);
        }
    }

    /// <summary>How many files a shelf holds, and how many bytes they are.</summary>
    public (long Files, long Bytes) Count(Guid id)
    {
        if (!Directory.Exists(FolderOf(id)))
        {
            return (0, 0);
        }
        var how = new EnumerationOptions { RecurseSubdirectories = true, IgnoreInaccessible = true, AttributesToSkip = FileAttributes.None };
        // An entry has a length whatever its name is; a name that is no text can't be asked by.
        var all = new FileSystemEnumerable<long>(FolderOf(id), (ref FileSystemEntry e) => e.Length, how)
        {
            ShouldIncludePredicate = (ref FileSystemEntry e) => !e.IsDirectory && !e.Attributes.HasFlag(FileAttributes.ReparsePoint),
        };
        var (files, bytes) = (0L, 0L);
        foreach (var length in all)
        {
            (files, bytes) = (files + 1, bytes + length);
        }
        return (files, bytes);
    }

    /// <summary>A path in the shelf as its keeper knows it.</summary>
    public string PathIn(Guid id, string path) => FolderOf(id) + path.TrimEnd('/');

    /// <summary>The words of a shelf's keeper for people, who know nothing of where the service keeps it.</summary>
    public string Hide(Guid id, string words) => words.Replace(FolderOf(id) + "/", "/", StringComparison.Ordinal).Replace(FolderOf(id), "/", StringComparison.Ordinal).Replace("on this host", "on this shelf", StringComparison.Ordinal);

    /// <exception cref="IOException">There is no room for so much.</exception>
    public void CheckRoom(long bytes)
    {
        if (Room() is var room && bytes > room)
        {
            throw new IOException($"These are {Units.Bytes(bytes)}, and the service has room for {Units.Bytes(room)} more. Make room in its data directory, or keep less on the shelf.");
        }
    }

    private static void Make(string directory)
    {
        if (OperatingSystem.IsWindows())
        {
            Directory.CreateDirectory(directory);
        }
        else
        {
            Directory.CreateDirectory(directory, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        }
    }

    /// <summary>By the system's own tools: names need not be text, and folders are kept with the modes that they have on hosts, of which some let nobody in.</summary>
    private static void Remove(string directory)
    {
        foreach (var command in new string[][] { ["chmod", "-R", "u+rwX", "--", directory], ["rm", "-rf", "--", directory] })
        {
            try
            {
                using var process = Process.Start(new ProcessStartInfo(command[0], command[1..]) { RedirectStandardError = true })!;
                var said = process.StandardError.ReadToEnd();
                process.WaitForExit();
                if (process.ExitCode != 0 && command[0] == "rm")
                {
                    throw new IOException($"What was removed of a shelf can't be deleted: {said.Trim()}");
                }
            }
            catch (Win32Exception e)
            {
                throw new IOException($"What was removed of a shelf can't be deleted: {command[0]}: {e.Message}", e);
            }
        }
    }
}
