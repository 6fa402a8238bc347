using Umbrek.Core.Text;

namespace Umbrek.Core.Estate;

/// <summary>
/// Reads selections:
/// <code>
/// selection = both, { ("or" | ","), both } ;
/// both      = one, { "and", one } ;
/// one       = "not", one | "(", selection, ")" | "all" | "in", word | "is", ("linked" | "away" | "used" | "retired")
///           | "tagged", word | "used", "by", word | "saved", word
///           | ("field" | "fact"), word, relation, (word | number | day)
///           | key, relation, (word | number, [unit]) | word ;
/// relation  = "&lt;" | "&lt;=" | "=" | "&gt;=" | "&gt;" ;
/// </code>
/// Words that hold blanks or signs stand in double quotes, in which <c>\"</c> and <c>\\</c> escape. In words, <c>*</c> stands for
/// any characters and <c>?</c> for one. Case does not count.
/// </summary>
public sealed class SelectionParser
{
    /// <summary>Longest expression, in characters.</summary>
    public const int MaxLength = 8192;

    /// <summary>Deepest nesting of parentheses and "not".</summary>
    public const int MaxDepth = 64;

    /// <summary>Most single conditions in one expression, those of the saved selections in it counted.</summary>
    public const int MaxTerms = 400;

    private static readonly System.Buffers.SearchValues<char> Digits = System.Buffers.SearchValues.Create("0123456789.");

    private readonly List<SelectionToken> tokens;
    private int next;
    private int terms;

    private SelectionParser(List<SelectionToken> tokens) => this.tokens = tokens;

    /// <returns>The selection, or null with <paramref name="problem"/> set.</returns>
    public static Selection? Parse(string text, out SelectionProblem? problem)
    {
        try
        {
            if (text.Length > MaxLength)
            {
                throw new Failure(MaxLength, $"The selection has {text.Length} characters; {MaxLength} is the most. Save a part of it, or use a wildcard.");
            }
            var split = SelectionWords.Split(text, out problem);
            if (problem is not null)
            {
                return null;
            }
            var parser = new SelectionParser(split);
            var selection = parser.ReadAny(0);
            if (parser.Current.Kind != SelectionTokenKind.End)
            {
                throw parser.Unexpected();
            }
            return selection;
        }
        catch (Failure failure)
        {
            problem = failure.Problem;
            return null;
        }
    }

    private SelectionToken Current => tokens[next];

    private Selection ReadAny(int depth)
    {
        var parts = new List<Selection> { ReadEvery(depth) };
        while (Current.Kind == SelectionTokenKind.Comma || Current.IsWord("or"))
        {
            next++;
            parts.Add(ReadEvery(depth));
        }
        return Selection.Or(parts);
    }

    private Selection ReadEvery(int depth)
    {
        var parts = new List<Selection> { ReadOne(depth) };
        while (Current.IsWord("and"))
        {
            next++;
            parts.Add(ReadOne(depth));
        }
        return Selection.And(parts);
    }

    private Selection ReadOne(int depth)
    {
        var token = Current;
        if (depth > MaxDepth)
        {
            throw new Failure(token.Position, $"The selection is nested more than {MaxDepth} deep; write it flatter.");
        }
        if (++terms > MaxTerms)
        {
            throw new Failure(token.Position, $"The selection holds more than {MaxTerms} conditions. Use wildcards, a group or a tag.");
        }
        next++;
        if (token.Kind == SelectionTokenKind.Open)
        {
            var inner = ReadAny(depth + 1);
            if (Current.Kind != SelectionTokenKind.Close)
            {
                throw Current.Kind == SelectionTokenKind.End ? new Failure(token.Position, "This parenthesis is never closed; add ')'.") : Unexpected();
            }
            next++;
            return inner;
        }
        if (token.Kind != SelectionTokenKind.Word)
        {
            throw new Failure(token.Position, token.Kind == SelectionTokenKind.End
                ? "The selection ends where a condition should follow: a name, 'in GROUP', 'is linked', 'tagged TAG' …"
                : $"'{token.Text}' can't stand here; write a name, 'in GROUP', 'is linked', 'tagged TAG' …");
        }
        if (!token.Bare)
        {
            return Current.Kind == SelectionTokenKind.Relation ? throw NoKey(token) : new Selection.Named(ReadPattern(token));
        }
        switch (token.Text.ToLowerInvariant())
        {
            case "not":
                return new Selection.Not(ReadOne(depth + 1));
            case "all":
                return new Selection.Everything();
            case "in":
                return new Selection.In(GroupPath.Join(GroupPath.Split(ReadWord("After 'in' write a group, for example: in \"Saltmarsh Ferry/Quay\"."))));
            case "is":
                return ReadIs();
            case "tagged":
                return new Selection.Tagged(ReadPattern("After 'tagged' write a tag, for example: tagged kiosk."));
            case "used":
                if (!Current.IsWord("by"))
                {
                    throw new Failure(Current.Position, "Write 'used by' and a person's logon, for example: used by elin*. Any person at all is 'is used'.");
                }
                next++;
                return new Selection.Used(ReadPattern("After 'used by' write a person's logon, for example: used by elin*."));
            case "saved":
                return new Selection.Saved(ReadWord("After 'saved' write the name of a saved selection."));
            case "field":
                return ReadLiteral("field", "After 'field' write the field's name, for example: field \"Contract ends\" < 2027-01-01.", (name, relation, value) => new Selection.HasOwn(name, relation, value));
            case "fact":
                return ReadLiteral("fact", "After 'fact' write the fact's name, for example: fact os.version = 12.", (name, relation, value) => new Selection.HasFact(name.ToLowerInvariant(), relation, value));
            case "and" or "or" or "by":
                throw new Failure(token.Position, $"'{token.Text}' can't stand here; write a name, 'in GROUP', 'is linked', 'tagged TAG' … before it. As a name, put it in quotation marks.");
        }
        if (SelectionWords.Foreign.TryGetValue(token.Text, out var here))
        {
            throw new Failure(token.Position, $"'{token.Text}' is written '{here}' here.");
        }
        return Current.Kind == SelectionTokenKind.Relation ? ReadComparison(token) : new Selection.Named(ReadPattern(token));
    }

    private Selection.Is ReadIs()
    {
        var at = Current.Position;
        var word = ReadWord("After 'is' write 'linked', 'away', 'used' or 'retired'.");
        foreach (var (known, condition, _) in HostConditions.All)
        {
            if (string.Equals(known, word, StringComparison.OrdinalIgnoreCase))
            {
                return new Selection.Is(condition);
            }
        }
        throw new Failure(at, $"'{word}' is no state of a host; write 'is linked', 'is away', 'is used' or 'is retired'.{Meant(word, HostConditions.All.Select(c => c.Word))}");
    }

    private Selection ReadComparison(SelectionToken word)
    {
        var key = SelectionKey.Find(word.Text) ?? throw NoKey(word);
        var sign = Current;
        var relation = ReadRelation();
        var value = Current;
        var example = key.IsVersion ? "0.1.0" : key.IsText ? "Debian*" : key.Dimensions[0] switch { Dimension.Percent => "90 %", Dimension.Size => "1 GiB", Dimension.Time => "2 d", _ => "4" };
        var text = ReadWord($"After '{sign.Text}' write a value, for example: {key.Name} {sign.Text} {example}.");
        if (key.IsVersion && (relation != Relation.Equal || !Wildcard.HasSigns(text)))
        {
            return new Selection.Versioned(key, relation, text);
        }
        if (key.IsText)
        {
            return relation == Relation.Equal
                ? new Selection.Like(key, ReadPattern(value))
                : throw new Failure(sign.Position, $"'{key.Name}' is a text; it can only be compared with '='. '*' stands for any characters.");
        }
        return new Selection.Compared(key, relation, ReadQuantity(key, value, text, example));
    }

    /// <summary>"1 GiB", "1GiB", "90%" or "4".</summary>
    private Quantity ReadQuantity(SelectionKey key, SelectionToken value, string text, string example)
    {
        var digits = text.AsSpan().IndexOfAnyExcept(Digits) is var at && at < 0 ? text.Length : at;
        var amount = Quantity.ReadAmount(text[..digits]) ?? throw new Failure(value.Position, $"'{text}' is no number; write it like {example}.");
        var sign = text[digits..];
        var signAt = value.Position + digits;
        if (sign.Length == 0 && Current is { Kind: SelectionTokenKind.Word, Bare: true } follows && !SelectionWords.Reserved.Contains(follows.Text, StringComparer.OrdinalIgnoreCase))
        {
            (sign, signAt) = (follows.Text, follows.Position);
            next++;
        }
        var allowed = string.Join(" or ", key.Dimensions.Select(d => d == Dimension.Count ? "a bare number" : $"{QuantityUnit.Signs(d)}"));
        if (sign.Length == 0)
        {
            // What can only be percent or a count needs no sign.
            return key.Dimensions is [Dimension.Count] ? new Quantity(amount, QuantityUnit.None)
                : key.Dimensions is [Dimension.Percent] ? new Quantity(amount, QuantityUnit.Percent)
                : throw new Failure(value.End, $"Say the unit of '{key.Name}': {allowed}. For example: {key.Name} < {example}.");
        }
        var unit = QuantityUnit.Find(sign);
        if (unit is null || !key.Dimensions.Contains(unit.Dimension))
        {
            throw new Failure(signAt, $"'{key.Name}' is not measured in '{sign}'; write {allowed}.");
        }
        return new Quantity(amount, unit);
    }

    private Selection ReadLiteral(string word, string advice, Func<string, Relation, Literal, Selection> make)
    {
        var name = ReadWord(advice);
        if (Current.Kind != SelectionTokenKind.Relation)
        {
            throw new Failure(Current.Position, $"After '{word} {SelectionWords.Quote(name)}' write =, <, <=, > or >= and a value.");
        }
        var sign = Current;
        var relation = ReadRelation();
        var value = Current;
        var text = ReadPattern($"After '{sign.Text}' write a word, a number, or a day like 2027-03-31.");
        var literal = value.Bare ? Literal.Read(text) : new Literal(text);
        if (literal.IsText && relation != Relation.Equal)
        {
            throw new Failure(value.Position, $"'{text}' is a text; only numbers and days like 2027-03-31 have an order. Texts are compared with '='.");
        }
        return make(name, relation, literal);
    }

    private Relation ReadRelation()
    {
        var sign = Current;
        next++;
        return Relations.Read(sign.Text) ?? throw new Failure(sign.Position, sign.Text switch
        {
            "==" => "Write one '='.",
            "<>" or "><" => "Write 'not' before the condition, and '=' in it.",
            "=<" => "Write '<='.",
            "=>" => "Write '>='.",
            _ => $"'{sign.Text}' compares nothing; write =, <, <=, > or >=.",
        });
    }

    private string ReadWord(string advice)
    {
        var token = Current;
        if (token.Kind != SelectionTokenKind.Word)
        {
            throw new Failure(token.Position, advice);
        }
        next++;
        return token.Text;
    }

    private string ReadPattern(string advice)
    {
        var token = Current;
        ReadWord(advice);
        return ReadPattern(token);
    }

    private static string ReadPattern(SelectionToken token) => token.Text.Count(c => c == '*') <= Wildcard.MaxStars
        ? token.Text
        : throw new Failure(token.Position, $"'{token.Text}' has more than {Wildcard.MaxStars} stars; fewer will do.");

    private Failure Unexpected()
    {
        var token = Current;
        if (token.Kind == SelectionTokenKind.Close)
        {
            return new Failure(token.Position, "This parenthesis closes nothing; take it out.");
        }
        if (token.Kind == SelectionTokenKind.Relation)
        {
            return new Failure(token.Position, $"'{token.Text}' stands alone; write a key before it, for example: memory.free < 1 GiB.");
        }
        var unequal = token.Text == "!" && tokens[next + 1].Kind == SelectionTokenKind.Relation;
        if (!unequal && SelectionWords.Foreign.TryGetValue(token.Text, out var here))
        {
            return new Failure(token.Position, $"'{token.Text}' is written '{here}' here.");
        }
        return unequal
            ? new Failure(token.Position, "Write 'not' before the condition, and '=' in it.")
            : new Failure(token.Position, $"Put 'and', 'or' or a comma before '{token.Text}'. A name of several words stands in quotation marks.");
    }

    private static Failure NoKey(SelectionToken word) => word.Text.EndsWith('!')
        ? new Failure(word.Position, "Write 'not' before the condition, and '=' in it.")
        : new Failure(word.Position, $"'{word.Text}' is nothing that can be compared.{Meant(word.Text, SelectionKey.All.Select(k => k.Name))} An own field is written 'field NAME', any other fact 'fact NAME'.");

    private static string Meant(string word, IEnumerable<string> candidates) => Similarity.Closest(word, candidates) is { } close ? $" Did you mean '{close}'?" : "";

    private sealed class Failure(int position, string message) : Exception(message)
    {
        public SelectionProblem Problem => new(position, Message);
    }
}
