using System.Runtime.InteropServices;
using Microsoft.Win32.SafeHandles;
using Umbrek.Core.Files;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Opens what technicians name, within the folders that they are let into.</summary>
/// <param name="roots">Null: everywhere.</param>
internal sealed class LinuxPlaces(IReadOnlyList<string>? roots)
{
    /// <summary>The folders, where "/" itself is none of them: it is seen as if it held just these.</summary>
    public IReadOnlyList<string>? Roots => roots;

    /// <summary>The root of all, where only folders below it are let into.</summary>
    public bool IsTop(FileName path) => roots is not null && !roots.Contains("/") && !path.ToBytes().AsSpan().ContainsAnyExcept((byte)'/');

    /// <summary>A link at the end is followed.</summary>
    public SafeFileHandle Open(FileName path, int flags)
    {
        var (handle, error) = TryOpen(path, flags);
        return handle ?? throw Trouble(path, error);
    }

    public (SafeFileHandle? Handle, int Error) TryOpen(FileName path, int flags)
    {
        if (roots is null)
        {
            return NativeFiles.Open(null, path.ToBytes(), flags);
        }
        if (FileRoots.Find(roots, path) is not var (root, rest))
        {
            throw Outside(path);
        }
        var (folder, error) = NativeFiles.Open(null, new FileName(root).ToBytes(), NativeFiles.NameOnly | NativeFiles.DirectoryOnly);
        using (folder)
        {
            return folder is null ? (null, error) : NativeFiles.OpenBeneath(folder, rest, flags);
        }
    }

    /// <summary>The folder of a name, and the name in it.</summary>
    public (SafeFileHandle Folder, byte[] Name) OpenFolderOf(FileName path)
    {
        var name = path.Last();
        if (!name.IsPlainName())
        {
            throw new IOException(name.ToBytes().Length > FileName.MostNameBytes ? $"A name has at most {FileName.MostNameBytes} bytes; '{name}' is longer." : $"{path} is no name of something in a folder.");
        }
        if (roots?.Contains(path.Text.TrimEnd('/')) == true)
        {
            throw new IOException($"{path} is one of the folders that this host lets technicians into; it stays as it is.");
        }
        return (Open(path.Folder(), NativeFiles.NameOnly | NativeFiles.DirectoryOnly), name.ToBytes());
    }

    /// <summary>Where something lies that is open.</summary>
    public static FileName PlaceOf(SafeFileHandle handle, FileName path) => NativeFiles.TargetOf(null, NativeFiles.ByNumber(handle)) is { } place ? FileName.Of(place) : path;

    /// <summary>Where a path leads, all links on the way followed; of what is not there, its folder's place with its name.</summary>
    public FileName PlaceOf(FileName path)
    {
        if (roots is not null && FileRoots.Find(roots, path) is null)
        {
            return path;
        }
        var (handle, error) = TryOpen(path, NativeFiles.NameOnly);
        using (handle)
        {
            if (handle is not null)
            {
                return PlaceOf(handle, path);
            }
        }
        return error == NativeFiles.NotThere && path.Last().IsPlainName() && path.Folder() is var folder && folder != path ? PlaceOf(folder).In(path.Last()) : path;
    }

    private IOException Outside(FileName path) => new($"{path} does not lie in what this host lets technicians into: {FileRoots.Words(roots!)}.");

    /// <summary>An error number (errno(3)) as a sentence about a path.</summary>
    /// <param name="deed">What could not be done with it, where it is not reading: "written".</param>
    public IOException Trouble(FileName path, int error, string deed = "read") => new(error switch
    {
        NativeFiles.NotThere => $"There is no {path} on this host.",
        1 or 13 => deed == "read" ? $"The agent may not read {path}." : $"{path} can't be {deed}: the agent may not do that there.",
        6 => $"{path} is a socket or a device without anything behind it, which has no content to be read to an end.",
        16 => $"{path} can't be {deed}: it is in use, as a file system's place or by a program.",
        NativeFiles.IsThere => $"There is a {path} already.",
        NativeFiles.OtherFileSystem when roots is not null => Outside(path).Message,
        20 => $"{path} is no folder, or something on the way to it is none.",
        26 => $"{path} can't be {deed}: it is a program that is running.",
        27 => $"{path} can't be {deed}: a file may not be so large there.",
        28 => $"{path} can't be {deed}: there is no space left there.",
        30 => $"{path} can't be {deed}: it lies where nothing can be written.",
        36 => $"{path} has a name that is longer than this host's file system takes.",
        38 when roots is not null => "This host's system can't keep technicians to the folders that they are let into (openat2 is missing), so they are let into none.",
        39 => $"{path} is not empty.",
        40 => $"{path} is a link that leads in a circle.",
        122 => $"{path} can't be {deed}: the quota there is used up.",
        _ => $"{path} can't be {deed}: {Marshal.GetPInvokeErrorMessage(error)}.",
    });
}
