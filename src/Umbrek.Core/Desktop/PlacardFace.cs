using Umbrek.Core.Text;

namespace Umbrek.Core.Desktop;

/// <summary>How a placard looks: where everything lies on it, and its picture.</summary>
public sealed class PlacardFace
{
    private const int Edge = 4;
    private const int Room = 20;
    private const int Gap = 8;
    private const int ButtonRoom = 16;
    private const int ButtonHeight = 36;
    private const int MostLines = 6;

    private const uint Ink = 0x12151C;
    private const uint Raised = 0x1A1F29;
    private const uint Line = 0x2B3240;
    private const uint Text = 0xE8E4DA;
    private const uint Muted = 0xA5A89F;
    private const uint Lamp = 0xE3A84F;

    private readonly Placard placard;
    private readonly List<Written> writing = [];
    private readonly List<ScreenRect> buttons = [];
    private readonly int foot;

    private readonly record struct Written(int X, int Y, string Text, uint Colour, bool IsStrong);

    /// <param name="screenWidth">Of the screen on which it is shown; it is never wider.</param>
    public PlacardFace(Placard placard, int screenWidth)
    {
        this.placard = placard;
        var most = Math.Max(200, screenWidth - 16);
        (Width, Height, foot) = placard.Kind == PlacardKind.Strip ? LayStrip(most) : LayCard(Math.Min(placard.Kind is PlacardKind.Question or PlacardKind.Cover ? 520 : 400, most));
    }

    public int Width { get; }
    public int Height { get; }

    /// <summary>Where its buttons are, in their order.</summary>
    public IReadOnlyList<ScreenRect> Buttons => buttons;

    /// <summary>The button at a point, or -1.</summary>
    public int ButtonAt(int x, int y) => buttons.FindIndex(b => x >= b.X && x < b.Right && y >= b.Y && y < b.Bottom);

    /// <param name="focus">The button that the keyboard presses, or -1.</param>
    /// <param name="under">The button under the pointer, or -1.</param>
    public ScreenImage Draw(int focus, int under, DateTimeOffset now)
    {
        var image = new ScreenImage(Width, Height);
        image.Fill(image.Bounds, Line);
        image.Fill(new ScreenRect(1, 1, Width - 2, Height - 2), Ink);
        image.Fill(new ScreenRect(0, 0, Edge, Height), Lamp);
        foreach (var w in writing)
        {
            (w.IsStrong ? LetterFace.Strong : LetterFace.Plain).Write(image, w.X, w.Y, w.Text, w.Colour);
        }
        for (var i = 0; i < buttons.Count; i++)
        {
            Button(image, buttons[i], placard.Buttons[i].Text, i == focus, i == under);
        }
        if (placard is { Until: { } until, Then: { } then } && foot > 0)
        {
            var left = TimeSpan.FromSeconds(Math.Max(0, Math.Ceiling((until - now).TotalSeconds)));
            LetterFace.Plain.Write(image, Edge + Room, foot, $"Without an answer {then} in {(int)left.TotalMinutes}:{left.Seconds:00} minutes.", Muted);
        }
        return image;
    }

    private static void Button(ScreenImage image, ScreenRect at, string text, bool hasFocus, bool isUnder)
    {
        image.Fill(at, hasFocus ? Lamp : isUnder ? Muted : Line);
        var inside = hasFocus ? 2 : 1;
        image.Fill(new ScreenRect(at.X + inside, at.Y + inside, at.Width - 2 * inside, at.Height - 2 * inside), isUnder ? Line : Raised);
        LetterFace.Plain.Write(image, at.X + (at.Width - LetterFace.Plain.Measure(text)) / 2, at.Y + (at.Height - LetterFace.Plain.Height) / 2, text, Text);
    }

    /// <summary>A heading, lines below it, buttons at the lower right.</summary>
    private (int Width, int Height, int Foot) LayCard(int width)
    {
        var (x, y, room) = (Edge + Room, Room - 4, width - Edge - 2 * Room);
        writing.Add(new Written(x, y, "Umbrek", Lamp, false));
        y += LetterFace.Plain.Height + 2;
        foreach (var line in placard.Title.Length == 0 ? [] : LetterFace.Strong.Wrap(Cut(placard.Title), room, 3))
        {
            writing.Add(new Written(x, y, line, Text, true));
            y += LetterFace.Strong.Height;
        }
        y += placard.Lines.Count > 0 ? Gap : 0;
        var column = placard.Lines.Select(l => l.Label is null ? 0 : LetterFace.Plain.Measure(l.Label) + 14).DefaultIfEmpty(0).Max();
        foreach (var line in placard.Lines)
        {
            if (line.Label is not null)
            {
                writing.Add(new Written(x, y, line.Label, Muted, false));
            }
            foreach (var text in LetterFace.Plain.Wrap(Cut(line.Text), room - column, MostLines))
            {
                writing.Add(new Written(x + column, y, text, Text, false));
                y += LetterFace.Plain.Height + 2;
            }
            y += 2;
        }
        var footAt = 0;
        if (placard is { Until: not null, Then: not null })
        {
            footAt = y + Gap;
            y = footAt + LetterFace.Plain.Height;
        }
        if (placard.Buttons.Count > 0)
        {
            y += Room;
            var right = width - Room;
            foreach (var button in placard.Buttons.Reverse())
            {
                var wide = LetterFace.Plain.Measure(button.Text) + 2 * ButtonRoom;
                buttons.Insert(0, new ScreenRect(right - wide, y, wide, ButtonHeight));
                right -= wide + Gap;
            }
            y += ButtonHeight;
        }
        return (width, y + Room, footAt);
    }

    /// <summary>One line, as narrow as it can be.</summary>
    private (int Width, int Height, int Foot) LayStrip(int most)
    {
        const int high = 38;
        var wide = placard.Buttons.Sum(b => LetterFace.Plain.Measure(b.Text) + 2 * ButtonRoom + Gap);
        var says = LetterFace.Plain.Shorten(Cut(string.Join("  ·  ", [placard.Title, .. placard.Lines.Select(l => l.Text)])), most - Edge - 2 * Room - wide);
        var x = Edge + Room - 4;
        writing.Add(new Written(x, (high - LetterFace.Plain.Height) / 2, says, Text, false));
        x += LetterFace.Plain.Measure(says) + Room;
        foreach (var button in placard.Buttons)
        {
            var one = LetterFace.Plain.Measure(button.Text) + 2 * ButtonRoom;
            buttons.Add(new ScreenRect(x, 4, one, high - 8));
            x += one + Gap;
        }
        return (placard.Buttons.Count > 0 ? x - 3 : x, high, 0);
    }

    /// <summary>Marks that could make one line look like another, or turn its direction, do not show.</summary>
    private static string Cut(string text) => TerminalText.Line(text, Placard.MostText);
}
