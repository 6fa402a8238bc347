namespace Umbrek.Core.Shell;

/// <summary>How many characters a terminal shows.</summary>
public sealed record TerminalSize(int Columns, int Rows)
{
    /// <summary>Larger ones are of no use to anybody, and make programs take memory for every character.</summary>
    public const int Most = 1000;

    public static TerminalSize Usual { get; } = new(80, 24);

    /// <summary>The nearest size that a terminal can have.</summary>
    public TerminalSize Within() => new(Math.Clamp(Columns, 1, Most), Math.Clamp(Rows, 1, Most));
}
