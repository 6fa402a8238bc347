using System.Text;

namespace Umbrek.Core.Text;

/// <summary>Makes text of foreign origin safe to show on a terminal.</summary>
public static class TerminalText
{
    /// <summary>The text as one line of bounded length: what is quoted to a person can't pass for words of ours on the next line, nor fill the screen.</summary>
    /// <param name="most">Longest, in UTF-16 units; what is beyond is cut off and a sign says so.</param>
    public static string Line(string text, int most = 300)
    {
        var line = Neutralise(text).Replace('\n', '␊').Replace('\t', ' ');
        return line.Length <= most ? line : string.Concat(line.AsSpan(0, char.IsHighSurrogate(line[most - 1]) ? most - 1 : most), " …");
    }

    /// <summary>
    /// Replaces control and direction-changing characters by visible marks (U+2400 block), so that what a host
    /// prints can't move the cursor, set a title or hide a line. Tab and line feed stay.
    /// </summary>
    public static string Neutralise(string text)
    {
        var needed = false;
        foreach (var rune in text.EnumerateRunes())
        {
            if (rune.Value is not ('\n' or '\t') && Names.IsHidden(rune))
            {
                needed = true;
                break;
            }
        }
        if (!needed)
        {
            return text;
        }
        var clean = new StringBuilder(text.Length);
        foreach (var rune in text.EnumerateRunes())
        {
            if (rune.Value is '\n' or '\t' || !Names.IsHidden(rune))
            {
                clean.Append(rune.ToString());
            }
            else if (rune.Value < 0x20)
            {
                clean.Append((char)(0x2400 + rune.Value));
            }
            else
            {
                clean.Append('\u2426');
            }
        }
        return clean.ToString();
    }
}
