namespace Umbrek.Core.Files;

/// <summary>What there is under a name (inode(7)).</summary>
public enum FileKind
{
    File,
    Folder,
    Link,
    Pipe,
    Socket,
    Device,
}

/// <summary>What a host says of a file, a folder or whatever else has a name.</summary>
/// <param name="Name">Its name in the folder that was asked for, or its path below that.</param>
/// <param name="Bytes">Of a file: how long it is.</param>
/// <param name="Mode">The twelve bits of inode(7): who may read, write and execute it, set-user-ID and their like.</param>
/// <param name="Owner">Its owner's name, or number where the host knows no name.</param>
/// <param name="ChangedAt">When its content changed last.</param>
/// <param name="Version">Of a file: another word when it is another file or its content changed.</param>
/// <param name="Target">Of a link: where it leads, as it is written in it.</param>
/// <param name="TargetKind">Of a link: what is there; null where there is nothing.</param>
public sealed record FileEntry(FileName Name, FileKind Kind, long Bytes, int Mode, string Owner, string Group, DateTimeOffset ChangedAt, string? Version = null, FileName? Target = null, FileKind? TargetKind = null)
{
    /// <summary>Kind and mode in ten letters, as POSIX.1-2017 has them for ls: "drwxr-xr-x".</summary>
    public string ModeText()
    {
        Span<char> text = ['-', '-', '-', '-', '-', '-', '-', '-', '-', '-'];
        text[0] = Kind switch { FileKind.Folder => 'd', FileKind.Link => 'l', FileKind.Pipe => 'p', FileKind.Socket => 's', FileKind.Device => 'c', _ => '-' };
        for (var bit = 0; bit < 9; bit++)
        {
            if ((Mode & (1 << (8 - bit))) != 0)
            {
                text[bit + 1] = "rwx"[bit % 3];
            }
        }
        // Set-user-ID, set-group-ID and sticky stand where the execution of each three does.
        for (var special = 0; special < 3; special++)
        {
            if ((Mode & (0x800 >> special)) != 0)
            {
                ref var at = ref text[3 * special + 3];
                var letter = special == 2 ? 't' : 's';
                at = at == 'x' ? letter : char.ToUpperInvariant(letter);
            }
        }
        return new string(text);
    }
}
