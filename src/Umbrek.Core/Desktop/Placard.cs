namespace Umbrek.Core.Desktop;

public enum PlacardKind
{
    /// <summary>In the middle of the screen; it waits for one of its buttons.</summary>
    Question,

    /// <summary>In a corner, for a short while.</summary>
    Word,

    /// <summary>At the upper edge, as long as what it tells of goes on.</summary>
    Strip,

    /// <summary>All over the screen: what it shows is hidden from who is there.</summary>
    Cover,
}

/// <param name="Label">What the text is, in a word or two; null where it speaks for itself.</param>
public sealed record PlacardLine(string? Label, string Text);

/// <param name="Id">What is told when it is pressed.</param>
/// <param name="IsSafe">That one is meant when the placard is closed or Escape is pressed.</param>
public sealed record PlacardButton(string Id, string Text, bool IsSafe = false);

/// <summary>What the people at a host see of us on their screen.</summary>
/// <param name="Until">When it is over by itself; the time that is left is shown with <paramref name="Then"/>.</param>
/// <param name="Then">What becomes of it then: "refused by itself".</param>
public sealed record Placard(PlacardKind Kind, string Title, IReadOnlyList<PlacardLine> Lines, IReadOnlyList<PlacardButton> Buttons, DateTimeOffset? Until = null, string? Then = null)
{
    /// <summary>More letters in one text are not shown.</summary>
    public const int MostText = 600;
}
