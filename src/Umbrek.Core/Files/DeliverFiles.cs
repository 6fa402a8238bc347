using System.Globalization;
using Umbrek.Core.Text;

namespace Umbrek.Core.Files;

/// <summary>Has a host fetch a parcel and put it in a place.</summary>
/// <param name="Digest">SHA-256 of the parcel's list, in which the one of each file is: 64 hexadecimal digits, small ones.</param>
/// <param name="Name">What people call the parcel.</param>
/// <param name="Files">So many files are in it.</param>
/// <param name="Bytes">So long they are together.</param>
/// <param name="Folder">A whole path, or below <paramref name="Place"/> a relative one.</param>
/// <param name="MakesFolder">A folder that is not there is made; that of a named place always is.</param>
/// <param name="Existing">What becomes of a file that is there and is another.</param>
/// <param name="StopsAtError">After an error nothing more is put on that host.</param>
/// <param name="Mode">Of every file; null for as it was where it comes from.</param>
/// <param name="Rate">So many bytes in a second go to all hosts together at most.</param>
public sealed record DeliverFiles(
    string Digest, string Name, int Files, long Bytes, FileName? Folder = null, NamedPlace? Place = null, bool MakesFolder = false,
    Existing Existing = Existing.Ask, bool StopsAtError = false, int? Mode = null, string? Owner = null, string? Group = null, long? Rate = null)
{
    public const long LeastRate = 1024;
    private const int LongestName = 400;

    /// <returns>What is wrong with it, or null.</returns>
    public string? Check() =>
        Digest is not { Length: 64 } || !Digest.All(c => c is (>= '0' and <= '9') or (>= 'a' and <= 'f')) ? "A parcel is named by the SHA-256 of its list, in 64 small hexadecimal digits."
        : Name is not { Length: > 0 and <= LongestName } || Files < 0 || Bytes < 0 ? "A parcel has a name, a number of files and a length."
        : Folder is null && Place is null ? "Say where the files go: a folder by its whole path, or a named place."
        : Place is null ? Folder!.CheckPath() ?? CheckHow()
        : Place is { } place && !Enum.IsDefined(place) ? "There is no such place."
        : Folder is not null && !IsBelow(Folder) ? $"Below {Place!.Value.Describe()} '{Folder}' is no path; write it relative, without dots for folders."
        : CheckHow();

    private string? CheckHow() =>
        !Enum.IsDefined(Existing) ? "A file that is there is kept, replaced, replaced where it is older, put beside, or asked about."
        : Mode is < 0 or > 0x1ff ? "A mode is a number up to 0777."
        : Owner is { Length: > 100 } || Group is { Length: > 100 } ? "An owner's name has at most 100 letters."
        : Rate is < LeastRate ? $"The slowest rate is {Units.Bytes(LeastRate)} in a second."
        : null;

    /// <summary>In words.</summary>
    public string Display()
    {
        var what = Files == 1 ? Units.Bytes(Bytes) : string.Create(CultureInfo.InvariantCulture, $"{Files} files, {Units.Bytes(Bytes)}");
        var where = Place is { } place ? place.Describe() + (Folder is null ? "" : $", {TerminalText.Line(Folder.Text)}") : TerminalText.Line(Folder?.Text ?? "");
        return $"put {TerminalText.Line(Name)} ({what}) into {where}";
    }

    private static bool IsBelow(FileName folder) =>
        folder.Text is not null && folder.ToBytes() is { Length: > 0 and <= FileName.MostBytes } bytes && IsEachPlain(bytes);

    private static bool IsEachPlain(byte[] path)
    {
        foreach (var part in path.AsSpan().Split((byte)'/'))
        {
            if (!FileName.Of(path.AsSpan(part)).IsPlainName())
            {
                return false;
            }
        }
        return true;
    }
}
