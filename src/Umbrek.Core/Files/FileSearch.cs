using System.Globalization;
using System.Text;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;

namespace Umbrek.Core.Files;

/// <summary>What files are looked for below a folder; what is null says nothing.</summary>
/// <param name="Name">Of their names, without folders: * and ? stand for letters, large and small are the same.</param>
/// <param name="Least">At least so many bytes; with <paramref name="Most"/>, files alone are meant.</param>
/// <param name="Most">At most so many.</param>
/// <param name="Since">Changed then or later.</param>
/// <param name="Until">Changed then or earlier.</param>
/// <param name="Owner">By name, as the host says it.</param>
/// <param name="Text">What is in a text file; large and small letters of ASCII are the same.</param>
public sealed record FileSearch(
    FileName Folder, string? Name = null, FileKind? Kind = null, long? Least = null, long? Most = null, DateTimeOffset? Since = null, DateTimeOffset? Until = null, string? Owner = null, string? Text = null)
{
    public const int MaxWord = 256;

    /// <returns>What is wrong with it, or null.</returns>
    public string? Check() =>
        Name is { Length: 0 or > MaxWord } || Owner is { Length: 0 or > MaxWord } || Text is { Length: 0 or > MaxWord } ? $"A name, an owner and a text have up to {MaxWord} letters, and at least one."
        : Name?.Contains('/', StringComparison.Ordinal) == true ? "A name has no slash in it; say the folder by itself."
        : Kind is { } kind && !Enum.IsDefined(kind) ? "There is no such kind of file."
        : Least < 0 || Most < Least ? "The largest size is below the smallest."
        : Until < Since ? "The latest time is before the earliest."
        : Folder.CheckPath();

    /// <summary>Whether it is one, as far as can be said without looking inside.</summary>
    public bool Takes(FileEntry entry)
    {
        var isSized = Least is not null || Most is not null || Text is not null;
        return (Kind is null || entry.Kind == Kind)
            && (!isSized || entry.Kind == FileKind.File)
            && (Least is null || entry.Bytes >= Least) && (Most is null || entry.Bytes <= Most)
            && (Since is null || entry.ChangedAt >= Since) && (Until is null || entry.ChangedAt <= Until)
            && (Owner is null || entry.Owner == Owner)
            && (Name is null || Wildcard.Matches(Name, entry.Name.Last().Text));
    }

    /// <summary>What is looked for, for people: "*.log, at least 1.00 MiB, changed since 2026-11-20".</summary>
    public string Describe()
    {
        List<string> parts = [Name ?? "any name"];
        void Say(string? words)
        {
            if (words is not null)
            {
                parts.Add(words);
            }
        }
        Say(Kind?.ToString().ToLowerInvariant());
        Say(Least is { } least ? $"at least {Units.Bytes(least)}" : null);
        Say(Most is { } most ? $"at most {Units.Bytes(most)}" : null);
        Say(Since is { } since ? string.Create(CultureInfo.InvariantCulture, $"changed since {since.UtcDateTime:yyyy-MM-dd HH:mm}") : null);
        Say(Until is { } until ? string.Create(CultureInfo.InvariantCulture, $"changed before {until.UtcDateTime:yyyy-MM-dd HH:mm}") : null);
        Say(Owner is { } owner ? $"of {TerminalText.Line(owner)}" : null);
        Say(Text is { } text ? $"with '{TerminalText.Line(text)}' in it" : null);
        return string.Join(", ", parts);
    }

    /// <summary>The text as bytes to be found among bytes that are folded alike.</summary>
    public byte[] FoldedText()
    {
        var bytes = Encoding.UTF8.GetBytes(Text ?? "");
        Fold(bytes);
        return bytes;
    }

    /// <summary>Large letters of ASCII become small.</summary>
    public static void Fold(Span<byte> bytes)
    {
        foreach (ref var b in bytes)
        {
            b = b is >= (byte)'A' and <= (byte)'Z' ? (byte)(b | 0x20) : b;
        }
    }
}
