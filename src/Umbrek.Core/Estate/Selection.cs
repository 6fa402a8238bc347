namespace Umbrek.Core.Estate;

/// <summary>
/// An expression that names hosts. <see cref="SelectionParser"/> reads one; <c>ToString</c> prints it so that reading gives the
/// same tree again. What is not known of a host matches no comparison.
/// </summary>
public abstract record Selection
{
    /// <param name="now">For what is measured in time.</param>
    public abstract bool Matches(SelectableHost host, DateTimeOffset now);

    /// <summary>The parts directly below this one.</summary>
    public virtual IReadOnlyList<Selection> Parts => [];

    public IEnumerable<Selection> Flatten() => Parts.SelectMany(p => p.Flatten()).Prepend(this);

    /// <summary>Retired hosts stand aside unless the expression speaks of them.</summary>
    public bool MentionsRetired => Flatten().Any(s => s is Is { State: HostCondition.Retired });

    /// <summary>The facts that must be known of a host to decide.</summary>
    public IEnumerable<string> FactsRead => Flatten().SelectMany(s => s switch
    {
        HasFact f => new[] { f.Name },
        Compared { Key.Fact: { } name } => [name],
        Like { Key.Fact: { } name } => [name],
        Used or Is { State: HostCondition.Used } => [Inventory.FactNames.Users],
        _ => [],
    });

    /// <summary>Every host.</summary>
    public sealed record Everything : Selection
    {
        public override bool Matches(SelectableHost host, DateTimeOffset now) => true;
        public override string ToString() => "all";
    }

    /// <summary>A system name or label, with wildcards.</summary>
    public sealed record Named(string Pattern) : Selection
    {
        public override bool Matches(SelectableHost host, DateTimeOffset now) => Wildcard.Matches(Pattern, host.SystemName) || (!ReferenceEquals(host.Label, host.SystemName) && Wildcard.Matches(Pattern, host.Label));
        public override string ToString() => SelectionWords.Quote(Pattern);
    }

    /// <summary>A group with everything below it.</summary>
    public sealed record In(string Path) : Selection
    {
        public override bool Matches(SelectableHost host, DateTimeOffset now) => GroupPath.IsAtOrBelow(host.GroupPath, Path);
        public override string ToString() => $"in {SelectionWords.Quote(Path)}";
    }

    public sealed record Is(HostCondition State) : Selection
    {
        public override bool Matches(SelectableHost host, DateTimeOffset now) => State switch
        {
            HostCondition.Linked => host.Presence == PresenceState.Linked,
            HostCondition.Away => host.Presence != PresenceState.Linked,
            HostCondition.Lost => host is { Presence: PresenceState.Away, AwayFor: AwayReason.LostContact },
            HostCondition.Used => host.Fact(Inventory.FactNames.Users).Count > 0,
            _ => host.Retired,
        };

        public override string ToString() => $"is {State.Word()}";
    }

    public sealed record Tagged(string Pattern) : Selection
    {
        public override bool Matches(SelectableHost host, DateTimeOffset now) => host.Tags.Any(t => Wildcard.Matches(Pattern, t));
        public override string ToString() => $"tagged {SelectionWords.Quote(Pattern)}";
    }

    /// <summary>A person who is logged in.</summary>
    public sealed record Used(string Pattern) : Selection
    {
        public override bool Matches(SelectableHost host, DateTimeOffset now) => host.Fact(Inventory.FactNames.Users).Any(v => Wildcard.Matches(Pattern, v.Text));
        public override string ToString() => $"used by {SelectionWords.Quote(Pattern)}";
    }

    /// <summary>A saved selection; <see cref="SavedSelections.Resolve"/> puts its meaning in its place before anything is matched.</summary>
    public sealed record Saved(string Name) : Selection
    {
        public override bool Matches(SelectableHost host, DateTimeOffset now) => throw new InvalidOperationException($"The saved selection {Name} was not resolved.");
        public override string ToString() => $"saved {SelectionWords.Quote(Name)}";
    }

    /// <summary>A text, with wildcards.</summary>
    public sealed record Like(SelectionKey Key, string Pattern) : Selection
    {
        public override bool Matches(SelectableHost host, DateTimeOffset now) => Key.Fact is { } fact
            ? host.Fact(fact).Any(v => Wildcard.Matches(Pattern, v.Text))
            : Wildcard.Matches(Pattern, Key.Text!(host));

        public override string ToString() => $"{Key.Name} = {SelectionWords.Quote(Pattern)}";
    }

    /// <summary>A figure against another.</summary>
    public sealed record Compared(SelectionKey Key, Relation Relation, Quantity Than) : Selection
    {
        public override bool Matches(SelectableHost host, DateTimeOffset now) =>
            Key.Figure!(host, Than.Unit.Dimension, now) is { } figure && Relation.Holds(figure, Than.Value);

        public override string ToString() => $"{Key.Name} {Relation.Sign()} {Than}";
    }

    /// <summary>A version against another, part by part.</summary>
    public sealed record Versioned(SelectionKey Key, Relation Relation, string Than) : Selection
    {
        public override bool Matches(SelectableHost host, DateTimeOffset now) => Relation.Holds(Text.VersionOrder.Compare(Key.Text!(host), Than));
        public override string ToString() => $"{Key.Name} {Relation.Sign()} {SelectionWords.Quote(Than)}";
    }

    /// <summary>An own field of the customer.</summary>
    public sealed record HasOwn(string Name, Relation Relation, Literal Value) : Selection
    {
        public override bool Matches(SelectableHost host, DateTimeOffset now) =>
            host.Own.Any(o => string.Equals(Wildcard.Fold(o.Field), Wildcard.Fold(Name), StringComparison.Ordinal) && Value.Compares(Relation, o.Text, o.Number, o.Day));

        public override string ToString() => $"field {SelectionWords.Quote(Name)} {Relation.Sign()} {Value}";
    }

    /// <summary>Any fact by its name.</summary>
    public sealed record HasFact(string Name, Relation Relation, Literal Value) : Selection
    {
        public override bool Matches(SelectableHost host, DateTimeOffset now) => host.Fact(Name).Any(v => Value.Compares(Relation, v.Text, v.Number, null));
        public override string ToString() => $"fact {SelectionWords.Quote(Name)} {Relation.Sign()} {Value}";
    }

    public sealed record Not(Selection Operand) : Selection
    {
        public override IReadOnlyList<Selection> Parts => [Operand];
        public override bool Matches(SelectableHost host, DateTimeOffset now) => !Operand.Matches(host, now);
        public override string ToString() => $"not {Wrap(Operand, Operand is Every or Any)}";
    }

    /// <summary>All of two or more; none of them is itself an <see cref="Every"/>.</summary>
    public sealed record Every(IReadOnlyList<Selection> All) : Selection
    {
        public override IReadOnlyList<Selection> Parts => All;
        public override bool Matches(SelectableHost host, DateTimeOffset now) => All.All(s => s.Matches(host, now));
        public override string ToString() => string.Join(" and ", All.Select(s => Wrap(s, s is Any)));
        public bool Equals(Every? other) => other is not null && All.SequenceEqual(other.All);
        public override int GetHashCode() => All.Aggregate(1, HashCode.Combine);
    }

    /// <summary>One at least of two or more; none of them is itself an <see cref="Any"/>.</summary>
    public sealed record Any(IReadOnlyList<Selection> All) : Selection
    {
        public override IReadOnlyList<Selection> Parts => All;
        public override bool Matches(SelectableHost host, DateTimeOffset now) => All.Any(s => s.Matches(host, now));
        public override string ToString() => string.Join(" or ", All);
        public bool Equals(Any? other) => other is not null && All.SequenceEqual(other.All);
        public override int GetHashCode() => All.Aggregate(2, HashCode.Combine);
    }

    /// <summary>Joins with "and"; parts that are so joined themselves are taken apart.</summary>
    public static Selection And(params IEnumerable<Selection> parts)
    {
        Selection[] all = [.. parts.SelectMany(p => p is Every e ? e.All : [p])];
        return all.Length == 1 ? all[0] : new Every(all);
    }

    /// <summary>Joins with "or"; parts that are so joined themselves are taken apart.</summary>
    public static Selection Or(params IEnumerable<Selection> parts)
    {
        Selection[] all = [.. parts.SelectMany(p => p is Any a ? a.All : [p])];
        return all.Length == 1 ? all[0] : new Any(all);
    }

    private static string Wrap(Selection inner, bool needed) => needed ? $"({inner})" : inner.ToString()!;
}

/// <summary>What "is" asks.</summary>
public enum HostCondition
{
    Linked,
    Away,

    /// <summary>Away without a word: its line, its power or its agent is gone.</summary>
    Lost,

    /// <summary>Somebody is logged in.</summary>
    Used,
    Retired,
}

public static class HostConditions
{
    public static readonly IReadOnlyList<(string Word, HostCondition Condition, string Says)> All =
    [
        ("linked", HostCondition.Linked, "its link is up"),
        ("away", HostCondition.Away, "it has no link now"),
        ("lost", HostCondition.Lost, "it went away without a word"),
        ("used", HostCondition.Used, "somebody is logged in"),
        ("retired", HostCondition.Retired, "it was taken out of care"),
    ];

    public static string Word(this HostCondition condition) => All.First(c => c.Condition == condition).Word;
}

/// <summary>What an own field or a fact is compared with: a text with wildcards, a number, or a day.</summary>
public sealed record Literal(string Text, decimal? Number = null, DateOnly? Day = null)
{
    /// <summary>Written without quotation marks, a number is a number and 2027-03-31 a day (RFC 3339 full-date).</summary>
    public static Literal Read(string word) =>
        Quantity.ReadAmount(word) is { } number ? new Literal(word, number)
        : DateOnly.TryParseExact(word, "yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture, System.Globalization.DateTimeStyles.None, out var day) ? new Literal(word, null, day)
        : new Literal(word);

    public bool IsText => Number is null && Day is null;

    public bool Compares(Relation relation, string text, double? number, DateOnly? day) =>
        (Number is { } n && number is { } own && relation.Holds(own, (double)n))
        || (Day is { } d && day is { } ownDay && relation.Holds(ownDay.CompareTo(d)))
        || (relation == Relation.Equal && Wildcard.Matches(Text, text));

    public override string ToString() => IsText && !Read(Text).IsText ? SelectionWords.InQuotes(Text) : SelectionWords.Quote(Text);
}
