using Umbrek.Core.Access;
using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;

namespace Umbrek.Wire.Files;

/// <summary>What is wanted of a channel to a host's files.</summary>
/// <param name="Changes">To change them and to put new ones there, not to read what is in them; without, to look at them and to read them.</param>
/// <param name="Packs">Bytes of files may come packed, where that is faster (see <see cref="FileFrames"/>).</param>
public sealed record FilesWish(bool Changes = false, bool Packs = false)
{
    /// <summary>What the host has to allow for it.</summary>
    public HostAct Act() => Changes ? HostAct.WriteFiles : HostAct.ReadFiles;
}

/// <param name="Wish">As it came; where the host asks for its key, what was sealed counts.</param>
public sealed record FilesOrder(FilesWish Wish, SealedOrder? Sealed = null);

/// <summary>
/// One question of a technician's side: exactly one of these. Many may be asked without waiting; they are answered one after the
/// other, in their order, and each answer ends with <see cref="FileWord.Done"/>. Only what belongs to a file that is written
/// (<paramref name="Zeros"/>, and the bytes themselves) has no answer of its own.
/// </summary>
/// <param name="Look">What is there under a path. A link is followed.</param>
/// <param name="List">What a folder holds.</param>
/// <param name="Walk">Everything below a folder, each folder before what it holds; links are not followed.</param>
/// <param name="Read">A file's content.</param>
/// <param name="Transfer">Files that are read or written from here on belong to one transfer, of what is under this path; that is how the service remembers it.</param>
/// <param name="Trash">What was deleted and can be put back.</param>
/// <param name="Search">What is to be found below a folder: told as it is found, until all is looked at or the channel is left.</param>
/// <param name="Part">How much of a file that was being written is there.</param>
/// <param name="Write">A file that is put there: its bytes follow, and then its end. Its answer comes with the end, or before where nothing can come of it.</param>
/// <param name="Zeros">So many bytes of it that are zero are left out here.</param>
/// <param name="End">The end of it.</param>
/// <param name="Change">Something is made, moved, deleted or set.</param>
/// <param name="Hash">A file's SHA-256, without its content.</param>
/// <param name="Blocks">What is said of a file's blocks, so that another version of it can be told apart from it: see <see cref="BlockSums"/>.</param>
/// <param name="Delta">A file's content as far as another version of it has it not; what is said of the blocks of that follows as bytes.</param>
/// <param name="Copy">Bytes of a file that is written are those that its base has there.</param>
public sealed record FileAsk(
    FileName? Look = null, FileName? List = null, FileName? Walk = null, FileRead? Read = null, FileName? Transfer = null, bool Trash = false, FileSearch? Search = null,
    FilePart? Part = null, FileWrite? Write = null, long? Zeros = null, FileEnd? End = null, FileChange? Change = null, FileName? Hash = null, FileBlocks? Blocks = null, FileDelta? Delta = null, FileSpan? Copy = null)
{
    public const int MaxBytes = 32 * 1024;

    /// <returns>What is wrong with it, or null.</returns>
    public string? Check()
    {
        object?[] asked = [Look, List, Walk, Read, Transfer, Trash ? this : null, Search, Part, Write, Zeros, End, Change, Hash, Blocks, Delta, Copy];
        return asked.Count(a => a is not null) != 1
            ? "Ask for one thing at a time: look, list, walk, read, transfer, trash, search, part, write, zeros, end, change, hash, blocks, delta or copy."
            : Read is { From: < 0 } or { Most: < 0 } ? "No file is read from before its beginning."
            : Write is { From: < 0 } or { Bytes: < 0 } || Write?.From > Write?.Bytes ? "No file is written from before its beginning or behind its end."
            : Zeros is <= 0 ? "A hole has a length."
            : Copy is { From: < 0 } or { Bytes: <= 0 } ? "What is copied has a place and a length."
            : Write is { Base.Length: 0 or > FilePart.MaxVersion } ? $"A version is a word of up to {FilePart.MaxVersion} letters."
            : (Blocks?.Size ?? Delta?.Size) is { } size && !BlockSums.IsSize(size) ? $"A block is a power of two long, from {BlockSums.MinSize} to {BlockSums.MaxSize} bytes."
            : Delta is { BaseBytes: < 0 or > BlockSums.WorthUpTo } ? "So long is no file."
            : Write is { Version: null or { Length: 0 or > FilePart.MaxVersion } } or { Expects.Length: > FilePart.MaxVersion } || Part is { Version: null or { Length: 0 or > FilePart.MaxVersion } } ? $"A version is a word of up to {FilePart.MaxVersion} letters."
            : Write is { Mode: { } mode } && !FileChange.IsMode(mode) ? "A mode is a number up to 0777."
            : Search is not null ? Search.Check()
            : Change is not null ? Change.Check() : (Look ?? List ?? Walk ?? Read?.Path ?? Transfer ?? Part?.Path ?? Write?.Path ?? Hash ?? Blocks?.Path ?? Delta?.Path)?.CheckPath();
    }
}

/// <param name="From">Where to begin: what is there already.</param>
/// <param name="Version">Of which version that is; of another the file is read from its beginning.</param>
/// <param name="Most">At most so many bytes, and no hash; null for all of them.</param>
public sealed record FileRead(FileName Path, long From = 0, string? Version = null, long? Most = null);

/// <param name="Size">How long a block is.</param>
/// <param name="Seed">Of the hashes of blocks; another one every time.</param>
public sealed record FileBlocks(FileName Path, int Size, long Seed);

/// <param name="BaseBytes">How long the other version is.</param>
public sealed record FileDelta(FileName Path, int Size, long Seed, long BaseBytes);

public sealed record FileSpan(long From, long Bytes);

/// <param name="Path">What the file is going to be called.</param>
/// <param name="Version">Which one it is, in the technician's own words: what was broken off is gone on from with the same.</param>
public sealed record FilePart(FileName Path, string Version)
{
    public const int MaxVersion = 128;
}

/// <param name="Path">What it is going to be called, once all of it is there and is what was sent.</param>
/// <param name="Bytes">How long it is going to be.</param>
/// <param name="Version">See <see cref="FilePart.Version"/>.</param>
/// <param name="From">Where the bytes that follow begin: as much as is there of this version.</param>
/// <param name="Replaces">What is called so already makes room; without, it stays and nothing is written.</param>
/// <param name="Expects">What is called so already has to be of this version still, as the host says it.</param>
/// <param name="KeepsOld">What makes room goes to the trash.</param>
/// <param name="Mode">Null: as it was of what makes room, else 0644.</param>
/// <param name="Owner">Null: as it was of what makes room, else the one whose folder it comes to lie in.</param>
/// <param name="Group">The same.</param>
/// <param name="ChangedAt">When its content changed last; null for now.</param>
/// <param name="Base">Parts of it are those of what is called so now, and of this version still.</param>
public sealed record FileWrite(
    FileName Path, long Bytes, string Version, long From = 0, bool Replaces = false, string? Expects = null, bool KeepsOld = false, int? Mode = null, string? Owner = null, string? Group = null, DateTimeOffset? ChangedAt = null,
    string? Base = null);

/// <param name="Sha256">Of the whole file, as it was read; null where it could not be read to its end, and nothing comes of it.</param>
public sealed record FileEnd(byte[]? Sha256);

/// <summary>One change, exactly one of these.</summary>
/// <param name="Folder">A folder is made; one that is there already is left as it is.</param>
/// <param name="Link">A symbolic link is made.</param>
/// <param name="Move">Something gets another name, or another folder. Nothing is overwritten by it.</param>
/// <param name="Delete">Something goes to the trash.</param>
/// <param name="Erase">Something is gone for good, with all below it.</param>
/// <param name="Restore">Something comes back out of the trash, by its <see cref="TrashItem.Id"/>.</param>
/// <param name="Empty">Something in the trash is gone for good; all of it with an empty word.</param>
/// <param name="Set">Mode, owner or time.</param>
/// <param name="Pack">Files and folders are packed into an archive.</param>
/// <param name="Unpack">An archive is unpacked.</param>
public sealed record FileChange(
    FileName? Folder = null, FileLink? Link = null, FileMove? Move = null, FileName? Delete = null, FileName? Erase = null, string? Restore = null, string? Empty = null, FileSetting? Set = null,
    FilePack? Pack = null, FileUnpack? Unpack = null)
{
    /// <summary>Who may read, write and execute it.</summary>
    public static bool IsMode(int mode) => mode is >= 0 and <= 0x1ff;

    /// <returns>What is wrong with it, or null.</returns>
    public string? Check()
    {
        object?[] asked = [Folder, Link, Move, Delete, Erase, Restore, Empty, Set, Pack, Unpack];
        return asked.Count(a => a is not null) != 1 ? "Ask for one change at a time: folder, link, move, delete, erase, restore, empty, set, pack or unpack."
            : Pack is not null ? Pack.Check()
            : Unpack is not null ? Unpack.Check()
            : Move is { To: null } || Link is { Target: null } ? "Where to is missing."
            : Link?.Target.ToBytes() is { } leads && (leads.Length is 0 or > FileName.MostBytes || leads.Contains((byte)0)) ? $"A link leads somewhere, in up to {FileName.MostBytes} bytes without a zero among them."
            : Set is { Mode: { } mode } && !IsMode(mode) ? "A mode is a number up to 0777."
            : Set is { Mode: null, Owner: null, Group: null, ChangedAt: null } ? "Say what to set: mode, owner, group or time."
            : Move?.To.CheckPath() ?? (Restore ?? Empty) switch
            {
                { } id when id.Length > FileName.MostNameBytes || id.Contains('/', StringComparison.Ordinal) => "Nothing in the trash is called so.",
                { } => null,
                null => (Folder ?? Link?.Path ?? Move?.From ?? Delete ?? Erase ?? Set?.Path)!.CheckPath(),
            };
    }
}

public sealed record FileLink(FileName Path, FileName Target);

/// <param name="Paths">Files and folders, each with all below it; they come to lie in the archive by their last names.</param>
/// <param name="To">The archive, which must not be there; its name's ending says which format it is.</param>
public sealed record FilePack(IReadOnlyList<FileName> Paths, FileName To)
{
    public const int MostPaths = 100;

    /// <returns>What is wrong with it, or null.</returns>
    public string? Check() =>
        Paths is not { Count: > 0 and <= MostPaths } ? $"Name 1 to {MostPaths} files and folders to be packed."
        : To is null ? "Say which archive they are packed into."
        : Paths.Append(To).Select(p => p?.CheckPath() ?? (p is null ? "A path is missing." : null)).FirstOrDefault(p => p is not null)
            ?? (ArchiveFormats.Of(To) is null ? ArchiveFormats.Problem(To) : null);
}

/// <param name="To">The folder that it is unpacked into; it is made where it is not there.</param>
/// <param name="Existing">What becomes of a file that is there already and is another; one that would be asked about is kept.</param>
/// <param name="Large">It grows to many times its length, and is meant to.</param>
public sealed record FileUnpack(FileName Archive, FileName To, Existing Existing = Existing.Keep, bool Large = false)
{
    /// <returns>What is wrong with it, or null.</returns>
    public string? Check() =>
        Archive is null || To is null ? "A path is missing."
        : !Enum.IsDefined(Existing) ? "A file that is there is kept, replaced, replaced where it is older, or put beside."
        : Archive.CheckPath() ?? To.CheckPath() ?? (ArchiveFormats.Of(Archive) is null ? ArchiveFormats.Problem(Archive) : null);
}

/// <param name="To">The whole path that it gets.</param>
public sealed record FileMove(FileName From, FileName To);

/// <param name="Mode">Who may read, write and execute it, as a number: 0644 is 420.</param>
/// <param name="Owner">By name, or by number.</param>
/// <param name="Deep">Of all below it, too; execution is set of folders and of what somebody may execute already, and links are left out.</param>
public sealed record FileSetting(FileName Path, int? Mode = null, string? Owner = null, string? Group = null, DateTimeOffset? ChangedAt = null, bool Deep = false);

/// <summary>A part of an answer. Of a file that is read, an entry comes first, then its bytes, then what is hashed.</summary>
/// <param name="From">With the entry of a file that is read: where its bytes begin. Of a part: so much of it is there.</param>
/// <param name="Zeros">So many bytes that are zero are left out here: a hole in a sparse file.</param>
/// <param name="Sha256">Of the whole file, as it was read: with what was there already.</param>
/// <param name="Changed">The file changed while it was read.</param>
/// <param name="Problem">Why something can't be answered. Without <paramref name="Done"/> it is one of several things, at <paramref name="At"/>, and the answer goes on.</param>
/// <param name="Refusal">Why nothing is answered at all; the host closes the channel.</param>
/// <param name="Notice">For the technician to read while he waits.</param>
/// <param name="Trash">What was deleted and can be put back.</param>
/// <param name="Count">So many files and folders are done, of a change that takes a while.</param>
/// <param name="Differs">What arrived of a file is not what was sent; nothing of it is kept, and it may be sent again.</param>
/// <param name="Same">Of a delta: here follows what the other version has there.</param>
public sealed record FileWord(
    IReadOnlyList<FileEntry>? Entries = null, FileEntry? Entry = null, long? From = null, long? Zeros = null, byte[]? Sha256 = null, bool Changed = false, string? Problem = null, FileName? At = null,
    bool Done = false, string? Refusal = null, string? Notice = null, IReadOnlyList<TrashItem>? Trash = null, long? Count = null, bool Differs = false, FileSpan? Same = null);

/// <summary>What was done with files.</summary>
public enum FileDeed
{
    Read,
    Search,
    Write,
    Folder,
    Link,
    Move,
    Delete,
    Erase,
    Restore,
    Empty,
    Set,
    Pack,
    Unpack,
}

/// <summary>A host tells what was done with its files: once for each transfer, and once for each change.</summary>
/// <param name="ChannelId">On which channel.</param>
/// <param name="Path">What was asked for.</param>
/// <param name="Files">So many files came to their ends, or were changed.</param>
/// <param name="Bytes">So many bytes left the host, or came to it.</param>
/// <param name="Sha256">Of the one file, where it was one.</param>
/// <param name="Problems">So many could not be read, written or changed, or not to their ends.</param>
/// <param name="To">Where it was moved, came back to or leads; what was set.</param>
public sealed record FileReport(Guid ChannelId, FileName Path, long Files, long Bytes, byte[]? Sha256, long Problems, FileDeed Deed = FileDeed.Read, string? To = null);
