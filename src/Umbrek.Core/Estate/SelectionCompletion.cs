namespace Umbrek.Core.Estate;

/// <summary>What an estate has to offer for completion; each returns whatever begins so, or everything.</summary>
public sealed record SelectionOffers(
    IEnumerable<string> Hosts, IEnumerable<string> Groups, IEnumerable<string> Tags, IEnumerable<string> People, IEnumerable<string> Saved, IEnumerable<string> Fields, IEnumerable<string> Facts,
    Func<SelectionKey, IEnumerable<string>> Values);

/// <param name="Text">As it is to stand in the selection, quoted where it must be.</param>
/// <param name="Says">What it is, in a few words.</param>
public sealed record Completion(string Text, string Says);

/// <param name="From">The piece of the text (characters from <paramref name="From"/> up to <paramref name="To"/>) that a completion replaces.</param>
public sealed record Completions(int From, int To, IReadOnlyList<Completion> Items);

/// <summary>Goes on with a selection that is being typed.</summary>
public static class SelectionCompletion
{
    public const int Most = 12;

    /// <param name="cursor">Characters before the cursor; what stands behind it is left alone.</param>
    public static Completions At(string text, int cursor, SelectionOffers offers)
    {
        cursor = Math.Clamp(cursor, 0, text.Length);
        var tokens = SelectionWords.Split(text[..cursor], out _);
        tokens.RemoveAt(tokens.Count - 1);
        var typed = tokens is [.., { Kind: SelectionTokenKind.Word } last] && last.End == cursor ? last : null;
        if (typed is not null)
        {
            tokens.RemoveAt(tokens.Count - 1);
        }
        var begin = typed?.Text ?? "";
        var items = Next(tokens, offers)
            .Where(c => c.Plain.Length > 0 && c.Plain.Contains(begin, StringComparison.OrdinalIgnoreCase) && !string.Equals(c.Plain, begin, StringComparison.Ordinal))
            .DistinctBy(c => c.Plain, StringComparer.OrdinalIgnoreCase)
            .OrderBy(c => c.Plain.StartsWith(begin, StringComparison.OrdinalIgnoreCase) ? 0 : 1)
            .Take(Most)
            .Select(c => new Completion(c.Word ? c.Plain : SelectionWords.Quote(c.Plain), c.Says));
        return new Completions(typed?.Position ?? cursor, cursor, [.. items]);
    }

    private sealed record Offer(string Plain, string Says, bool Word = false);

    private static IEnumerable<Offer> Next(List<SelectionToken> before, SelectionOffers offers)
    {
        var last = before.Count > 0 ? before[^1] : null;
        var second = before.Count > 1 ? before[^2] : null;
        if (last is null || last.Kind is SelectionTokenKind.Open or SelectionTokenKind.Comma || last.IsWord("and") || last.IsWord("or") || last.IsWord("not"))
        {
            return Conditions(offers);
        }
        if (last.IsWord("in"))
        {
            return offers.Groups.Select(g => new Offer(g, "group"));
        }
        if (last.IsWord("is"))
        {
            return HostConditions.All.Select(c => new Offer(c.Word, c.Says, true));
        }
        if (last.IsWord("tagged"))
        {
            return offers.Tags.Select(t => new Offer(t, "tag"));
        }
        if (last.IsWord("used"))
        {
            return [new Offer("by", "a person who is logged in", true)];
        }
        if (last.IsWord("by"))
        {
            return offers.People.Select(p => new Offer(p, "logged in"));
        }
        if (last.IsWord("saved"))
        {
            return offers.Saved.Select(s => new Offer(s, "saved selection"));
        }
        if (last.IsWord("field"))
        {
            return offers.Fields.Select(f => new Offer(f, "own field"));
        }
        if (last.IsWord("fact"))
        {
            return offers.Facts.Select(f => new Offer(f, "fact"));
        }
        if (last.Kind == SelectionTokenKind.Relation)
        {
            return second is { Bare: true } && SelectionKey.Find(second.Text) is { } key
                ? key.IsText ? offers.Values(key).Select(v => new Offer(v, key.Says)) : Examples(key)
                : [];
        }
        if (second?.IsWord("field") == true || second?.IsWord("fact") == true)
        {
            return Signs(true);
        }
        var afterRelation = second?.Kind == SelectionTokenKind.Relation;
        if (!afterRelation && last.Bare && SelectionKey.Find(last.Text) is { } compared)
        {
            return Signs(!compared.IsText || compared.IsVersion).Concat(Joins);
        }
        if (afterRelation && before.Count > 2 && SelectionKey.Find(before[^3].Text) is { IsText: false } measured && Quantity.ReadAmount(last.Text) is not null)
        {
            return QuantityUnit.All.Where(u => measured.Dimensions.Contains(u.Dimension)).Select(u => new Offer(u.Sign, "unit", true)).Concat(Joins);
        }
        return Joins;
    }

    private static IEnumerable<Offer> Conditions(SelectionOffers offers) =>
    [
        new("in", "a group with everything below it", true), new("is", "linked, away, lost, used, retired", true), new("tagged", "hosts with a tag", true), new("used", "by a person who is logged in", true),
        new("saved", "a saved selection", true), new("field", "an own field of the customer", true), new("fact", "any fact", true), new("not", "all but these", true), new("all", "every host", true),
        .. SelectionKey.All.Select(k => new Offer(k.Name, k.Says, true)),
        .. offers.Hosts.Select(h => new Offer(h, "host")),
    ];

    private static IEnumerable<Offer> Signs(bool ordered) => ordered
        ? [new("=", "is", true), new("<", "below", true), new(">", "above", true), new("<=", "at most", true), new(">=", "at least", true)]
        : [new("=", "is; * stands for any characters", true)];

    private static IEnumerable<Offer> Joins { get; } = [new("and", "both", true), new("or", "one of them", true)];

    private static IEnumerable<Offer> Examples(SelectionKey key) => key.Dimensions.Select(d => new Offer(
        d switch { Dimension.Percent => "90 %", Dimension.Size => "1 GiB", Dimension.Time => "2 d", _ => "4" }, key.Says, true));
}
