using System.Text;

namespace Umbrek.Cli.Hosting;

/// <summary>A command line as the shell would split it (POSIX shell quoting, XCU §2.2), up to where somebody is typing.</summary>
public static class ShellWords
{
    /// <summary>A word as it is written on a command line.</summary>
    public static string Quote(string word) => word.Length > 0 && word.All(c => char.IsLetterOrDigit(c) || c is '-' or '_' or '.' or ':') ? word : $"'{word.Replace("'", "'\\''", StringComparison.Ordinal)}'";

    /// <returns>The words; the last is the one that is being typed, empty after a blank.</returns>
    public static List<string> Split(ReadOnlySpan<char> line)
    {
        var words = new List<string>();
        var word = new StringBuilder();
        var (quote, inWord) = ('\0', false);
        for (var i = 0; i < line.Length; i++)
        {
            var c = line[i];
            if (quote == '\0' && char.IsWhiteSpace(c))
            {
                if (inWord)
                {
                    words.Add(word.ToString());
                    word.Clear();
                    inWord = false;
                }
                continue;
            }
            inWord = true;
            if (c == '\\' && quote != '\'' && i + 1 < line.Length && (quote == '\0' || line[i + 1] is '"' or '\\' or '$' or '`'))
            {
                word.Append(line[++i]);
            }
            else if (quote == '\0' ? c is '\'' or '"' : c == quote)
            {
                quote = quote == '\0' ? c : '\0';
            }
            else
            {
                word.Append(c);
            }
        }
        words.Add(word.ToString());
        return words;
    }
}
