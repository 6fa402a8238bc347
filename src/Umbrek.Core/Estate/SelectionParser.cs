namespace Umbrek.Core.Estate;

/// <summary>What is wrong in a selection, and where (position in characters from 0).</summary>
public sealed record SelectionProblem(int Position, string Message);

/// <summary>
/// Reads selections:
/// <code>
/// selection = both, { ("or" | ","), both } ;
/// both      = one, { "and", one } ;
/// one       = "not", one | "(", selection, ")" | "all" | "in", path | "is", ("linked" | "away") | name ;
/// </code>
/// Words that hold blanks or signs stand in double quotes, in which <c>\"</c> and <c>\\</c> escape.
/// </summary>
public sealed class SelectionParser
{
    /// <summary>Longest expression, in characters.</summary>
    public const int MaxLength = 8192;

    /// <summary>Deepest nesting of parentheses and "not".</summary>
    public const int MaxDepth = 64;

    private static readonly string[] Reserved = ["and", "or", "not", "in", "is", "all"];

    private readonly List<Token> tokens;
    private int next;

    private SelectionParser(List<Token> tokens) => this.tokens = tokens;

    /// <returns>The selection, or null with <paramref name="problem"/> set.</returns>
    public static Selection? Parse(string text, out SelectionProblem? problem)
    {
        try
        {
            if (text.Length > MaxLength)
            {
                throw new Failure(MaxLength, $"The selection has {text.Length} characters; {MaxLength} is the most. Save a part of it, or use a wildcard.");
            }
            var parser = new SelectionParser(Tokenise(text));
            var selection = parser.ReadEither(0);
            if (parser.Current.Kind != TokenKind.End)
            {
                throw new Failure(parser.Current.Position, parser.Current.Kind == TokenKind.Close
                    ? "This parenthesis closes nothing; take it out."
                    : $"Put 'and', 'or' or a comma before '{parser.Current.Text}'.");
            }
            problem = null;
            return selection;
        }
        catch (Failure failure)
        {
            problem = failure.Problem;
            return null;
        }
    }

    /// <summary>A word as it must be written in a selection: bare where it can be, else in quotes.</summary>
    public static string Quote(string word)
    {
        var bare = word.Length > 0
            && !Reserved.Contains(word, StringComparer.OrdinalIgnoreCase)
            && word.All(c => !char.IsWhiteSpace(c) && c is not ('(' or ')' or ',' or '"' or '\\'));
        return bare ? word : "\"" + word.Replace("\\", "\\\\").Replace("\"", "\\\"") + "\"";
    }

    private Token Current => tokens[next];

    private Selection ReadEither(int depth)
    {
        var left = ReadBoth(depth);
        while (Current.Kind == TokenKind.Comma || Current.IsWord("or"))
        {
            next++;
            left = new Selection.Either(left, ReadBoth(depth));
        }
        return left;
    }

    private Selection ReadBoth(int depth)
    {
        var left = ReadOne(depth);
        while (Current.IsWord("and"))
        {
            next++;
            left = new Selection.Both(left, ReadOne(depth));
        }
        return left;
    }

    private Selection ReadOne(int depth)
    {
        var token = Current;
        if (depth > MaxDepth)
        {
            throw new Failure(token.Position, $"The selection is nested more than {MaxDepth} deep; write it flatter.");
        }
        next++;
        if (token.IsWord("not"))
        {
            return new Selection.Not(ReadOne(depth + 1));
        }
        if (token.IsWord("all"))
        {
            return new Selection.Everything();
        }
        if (token.IsWord("in"))
        {
            return new Selection.In(GroupPath.Join(GroupPath.Split(ReadWord("After 'in' write a group, for example: in \"Saltmarsh Ferry/Quay\"."))));
        }
        if (token.IsWord("is"))
        {
            var at = Current.Position;
            var state = ReadWord("After 'is' write 'linked' or 'away'.");
            return state.ToLowerInvariant() switch
            {
                "linked" => new Selection.Is(true),
                "away" => new Selection.Is(false),
                _ => throw new Failure(at, $"'{state}' is no state of a host; write 'is linked' or 'is away'."),
            };
        }
        if (token.Kind == TokenKind.Open)
        {
            var inner = ReadEither(depth + 1);
            if (Current.Kind != TokenKind.Close)
            {
                throw new Failure(token.Position, "This parenthesis is never closed; add ')'.");
            }
            next++;
            return inner;
        }
        if (token.Kind == TokenKind.Word && !(token.Bare && Reserved.Contains(token.Text, StringComparer.OrdinalIgnoreCase)))
        {
            return new Selection.Named(token.Text);
        }
        throw new Failure(token.Position, token.Kind == TokenKind.End
            ? "The selection ends where a name, 'all', 'in' or 'is' should follow."
            : $"'{token.Text}' can't stand here; write a name, 'all', 'in GROUP' or 'is linked'.");
    }

    private string ReadWord(string advice)
    {
        var token = Current;
        if (token.Kind != TokenKind.Word)
        {
            throw new Failure(token.Position, advice);
        }
        next++;
        return token.Text;
    }

    private static List<Token> Tokenise(string text)
    {
        var tokens = new List<Token>();
        var i = 0;
        while (i < text.Length)
        {
            var c = text[i];
            if (char.IsWhiteSpace(c))
            {
                i++;
            }
            else if (c is '(' or ')' or ',')
            {
                tokens.Add(new Token(c switch { '(' => TokenKind.Open, ')' => TokenKind.Close, _ => TokenKind.Comma }, c.ToString(), i, false));
                i++;
            }
            else if (c == '"')
            {
                tokens.Add(ReadQuoted(text, ref i));
            }
            else
            {
                var start = i;
                while (i < text.Length && !char.IsWhiteSpace(text[i]) && text[i] is not ('(' or ')' or ',' or '"'))
                {
                    i++;
                }
                tokens.Add(new Token(TokenKind.Word, text[start..i], start, true));
            }
        }
        tokens.Add(new Token(TokenKind.End, "", text.Length, false));
        return tokens;
    }

    private static Token ReadQuoted(string text, ref int i)
    {
        var start = i++;
        var word = new System.Text.StringBuilder();
        while (i < text.Length && text[i] != '"')
        {
            if (text[i] == '\\' && i + 1 < text.Length)
            {
                i++;
            }
            word.Append(text[i++]);
        }
        if (i >= text.Length)
        {
            throw new Failure(start, "This quotation mark is never closed; add '\"'.");
        }
        i++;
        return new Token(TokenKind.Word, word.ToString(), start, false);
    }

    private enum TokenKind { Word, Open, Close, Comma, End }

    private sealed record Token(TokenKind Kind, string Text, int Position, bool Bare)
    {
        public bool IsWord(string word) => Kind == TokenKind.Word && Bare && string.Equals(Text, word, StringComparison.OrdinalIgnoreCase);
    }

    private sealed class Failure(int position, string message) : Exception(message)
    {
        public SelectionProblem Problem => new(position, Message);
    }
}
