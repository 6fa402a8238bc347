using Umbrek.Core.Access;
using Umbrek.Core.Files;

namespace Umbrek.Wire.Files;

/// <summary>What is wanted of a channel to a host's files: to look at them and to read them.</summary>
public sealed record FilesWish;

/// <param name="Wish">As it came; where the host asks for its key, what was sealed counts.</param>
public sealed record FilesOrder(FilesWish Wish, SealedOrder? Sealed = null);

/// <summary>
/// One question of a technician's side: exactly one of these. Many may be asked without waiting; they are answered one after the
/// other, in their order, and each answer ends with <see cref="FileWord.Done"/>.
/// </summary>
/// <param name="Look">What is there under a path. A link is followed.</param>
/// <param name="List">What a folder holds.</param>
/// <param name="Walk">Everything below a folder, each folder before what it holds; links are not followed.</param>
/// <param name="Read">A file's content.</param>
/// <param name="Transfer">Files that are read from here on belong to one transfer, of what is under this path; that is how the service remembers it.</param>
public sealed record FileAsk(FileName? Look = null, FileName? List = null, FileName? Walk = null, FileRead? Read = null, FileName? Transfer = null)
{
    public const int MaxBytes = 32 * 1024;

    /// <returns>What is wrong with it, or null.</returns>
    public string? Check() => (Look is null ? 0 : 1) + (List is null ? 0 : 1) + (Walk is null ? 0 : 1) + (Read is null ? 0 : 1) + (Transfer is null ? 0 : 1) != 1
        ? "Ask for one thing at a time: look, list, walk, read or transfer."
        : Read is { From: < 0 } or { Most: < 0 } ? "No file is read from before its beginning." : (Look ?? List ?? Walk ?? Read?.Path ?? Transfer)!.CheckPath();
}

/// <param name="From">Where to begin: what is there already.</param>
/// <param name="Version">Of which version that is; of another the file is read from its beginning.</param>
/// <param name="Most">At most so many bytes, and no hash; null for all of them.</param>
public sealed record FileRead(FileName Path, long From = 0, string? Version = null, long? Most = null);

/// <summary>A part of an answer. Of a file that is read, an entry comes first, then its bytes, then what is hashed.</summary>
/// <param name="From">With the entry of a file that is read: where its bytes begin.</param>
/// <param name="Zeros">So many bytes that are zero are left out here: a hole in a sparse file.</param>
/// <param name="Sha256">Of the whole file, as it was read: with what was there already.</param>
/// <param name="Changed">The file changed while it was read.</param>
/// <param name="Problem">Why something can't be answered. Without <paramref name="Done"/> it is one of several things, at <paramref name="At"/>, and the answer goes on.</param>
/// <param name="Refusal">Why nothing is answered at all; the host closes the channel.</param>
/// <param name="Notice">For the technician to read while he waits.</param>
public sealed record FileWord(
    IReadOnlyList<FileEntry>? Entries = null, FileEntry? Entry = null, long? From = null, long? Zeros = null, byte[]? Sha256 = null, bool Changed = false, string? Problem = null, FileName? At = null,
    bool Done = false, string? Refusal = null, string? Notice = null);

/// <summary>A host tells what was read there: once for each transfer.</summary>
/// <param name="ChannelId">On which channel.</param>
/// <param name="Path">What was asked for.</param>
/// <param name="Files">So many files came to their ends.</param>
/// <param name="Bytes">So many bytes left the host.</param>
/// <param name="Sha256">Of the one file, where it was one.</param>
/// <param name="Problems">So many could not be read, or not to their ends.</param>
public sealed record FileReport(Guid ChannelId, FileName Path, long Files, long Bytes, byte[]? Sha256, long Problems);
