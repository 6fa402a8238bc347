namespace Umbrek.Core.Estate;

/// <summary>What a selection can see of a host.</summary>
public sealed record SelectableHost(string SystemName, string Label, string GroupPath, PresenceState Presence);

/// <summary>An expression that names hosts. <see cref="SelectionParser"/> reads one; <c>ToString</c> prints it.</summary>
public abstract record Selection
{
    public abstract bool Matches(SelectableHost host);

    /// <summary>Every host.</summary>
    public sealed record Everything : Selection
    {
        public override bool Matches(SelectableHost host) => true;
        public override string ToString() => "all";
    }

    /// <summary>A system name or label; <c>*</c> stands for any characters and <c>?</c> for one.</summary>
    public sealed record Named(string Pattern) : Selection
    {
        public override bool Matches(SelectableHost host) =>
            Wildcard.Matches(Pattern, host.SystemName) || Wildcard.Matches(Pattern, host.Label);

        public override string ToString() => SelectionParser.Quote(Pattern);
    }

    /// <summary>A group with everything below it.</summary>
    public sealed record In(string Path) : Selection
    {
        public override bool Matches(SelectableHost host) => GroupPath.IsAtOrBelow(host.GroupPath, Path);
        public override string ToString() => $"in {SelectionParser.Quote(Path)}";
    }

    /// <summary>Hosts that are linked now, or that are not.</summary>
    public sealed record Is(bool Linked) : Selection
    {
        public override bool Matches(SelectableHost host) => (host.Presence == PresenceState.Linked) == Linked;
        public override string ToString() => Linked ? "is linked" : "is away";
    }

    public sealed record Not(Selection Operand) : Selection
    {
        public override bool Matches(SelectableHost host) => !Operand.Matches(host);
        public override string ToString() => $"not {Wrap(Operand, Operand is Both or Either)}";
    }

    public sealed record Both(Selection Left, Selection Right) : Selection
    {
        public override bool Matches(SelectableHost host) => Left.Matches(host) && Right.Matches(host);
        public override string ToString() => $"{Wrap(Left, Left is Either)} and {Wrap(Right, Right is Either or Both)}";
    }

    public sealed record Either(Selection Left, Selection Right) : Selection
    {
        public override bool Matches(SelectableHost host) => Left.Matches(host) || Right.Matches(host);
        public override string ToString() => $"{Left} or {Wrap(Right, Right is Either)}";
    }

    private static string Wrap(Selection inner, bool needed) => needed ? $"({inner})" : inner.ToString()!;
}
