using System.Buffers;
using System.Text;

namespace Umbrek.Core.Estate;

/// <summary>What is wrong in a selection, and where (position in characters from 0).</summary>
public sealed record SelectionProblem(int Position, string Message);

public enum SelectionTokenKind
{
    Word,
    Open,
    Close,
    Comma,

    /// <summary>&lt; &lt;= = &gt;= &gt;</summary>
    Relation,
    End,
}

/// <param name="End">Position after its last character.</param>
/// <param name="Bare">Written without quotation marks.</param>
public sealed record SelectionToken(SelectionTokenKind Kind, string Text, int Position, int End, bool Bare)
{
    public bool IsWord(string word) => Kind == SelectionTokenKind.Word && Bare && string.Equals(Text, word, StringComparison.OrdinalIgnoreCase);
}

/// <summary>The words and signs of the selection language.</summary>
public static class SelectionWords
{
    public static readonly IReadOnlyList<string> Reserved = ["and", "or", "not", "in", "is", "all", "tagged", "used", "by", "saved", "field", "fact"];

    private static readonly SearchValues<char> Signs = SearchValues.Create("(),\"<>=");

    /// <summary>A word as it must be written: bare where it can be, else in quotation marks.</summary>
    public static string Quote(string word) =>
        word.Length > 0 && !Reserved.Contains(word, StringComparer.OrdinalIgnoreCase) && word.All(c => !char.IsWhiteSpace(c) && !Signs.Contains(c) && c != '\\') && !Foreign.ContainsKey(word)
            ? word : InQuotes(word);

    public static string InQuotes(string word) => "\"" + word.Replace("\\", "\\\\").Replace("\"", "\\\"") + "\"";

    /// <summary>Signs that people bring along, and how it is said here.</summary>
    public static readonly IReadOnlyDictionary<string, string> Foreign = new Dictionary<string, string>
    {
        ["&&"] = "and",
        ["&"] = "and",
        ["||"] = "or",
        ["|"] = "or",
        ["!"] = "not",
    };

    /// <param name="problem">A quotation mark that is never closed; the word then reaches to the end.</param>
    public static List<SelectionToken> Split(string text, out SelectionProblem? problem)
    {
        problem = null;
        var tokens = new List<SelectionToken>();
        var i = 0;
        while (i < text.Length)
        {
            var start = i;
            var c = text[i];
            if (char.IsWhiteSpace(c))
            {
                i++;
            }
            else if (c is '(' or ')' or ',')
            {
                tokens.Add(new(c switch { '(' => SelectionTokenKind.Open, ')' => SelectionTokenKind.Close, _ => SelectionTokenKind.Comma }, c.ToString(), start, ++i, false));
            }
            else if (c is '<' or '>' or '=')
            {
                // Runs of signs stay together, so that "==" and "<>" can be explained.
                while (i < text.Length && text[i] is '<' or '>' or '=')
                {
                    i++;
                }
                tokens.Add(new(SelectionTokenKind.Relation, text[start..i], start, i, false));
            }
            else if (c == '"')
            {
                var word = ReadQuoted(text, ref i, out var open);
                problem ??= open ? new SelectionProblem(start, "This quotation mark is never closed; add '\"'.") : null;
                tokens.Add(new(SelectionTokenKind.Word, word, start, i, false));
            }
            else
            {
                while (i < text.Length && !char.IsWhiteSpace(text[i]) && !Signs.Contains(text[i]))
                {
                    i++;
                }
                tokens.Add(new(SelectionTokenKind.Word, text[start..i], start, i, true));
            }
        }
        tokens.Add(new(SelectionTokenKind.End, "", text.Length, text.Length, false));
        return tokens;
    }

    private static string ReadQuoted(string text, ref int i, out bool open)
    {
        var word = new StringBuilder();
        i++;
        while (i < text.Length && text[i] != '"')
        {
            if (text[i] == '\\' && i + 1 < text.Length)
            {
                i++;
            }
            word.Append(text[i++]);
        }
        open = i >= text.Length;
        i = Math.Min(i + 1, text.Length);
        return word.ToString();
    }
}
