using CsCheck;
using Umbrek.Core.Estate;

namespace Umbrek.Tests;

/// <summary>Random selections over the demo world's words.</summary>
internal static class SelectionGen
{
    private static readonly Gen<string> Word = Pick("a", "quay-*", "QUAY-ticket-0?", "and", "in", "two words", "q\"u\\ote", "all", "(x)", "ä,ö", "100%", "under_score", "kiosk-🧀", "*", "memory.free", "<b>", "!", "elin*", "12", "2027-03-31", "Debian*");
    private static readonly Gen<string> Path = Pick("Saltmarsh Ferry", "saltmarsh ferry/QUAY", "Copperbeech Libraries/Marl", "Nowhere", "100%_/a");
    private static readonly Gen<Relation> Relations = Gen.Enum<Relation>();

    /// <param name="saved">Whether saved selections may stand in them.</param>
    public static Gen<Selection> Trees(bool saved = true)
    {
        var texts = SelectionKey.All.Where(k => k.IsText && !k.IsVersion).ToArray();
        var versions = SelectionKey.All.Where(k => k.IsVersion).ToArray();
        var figures = SelectionKey.All.Where(k => !k.IsText).ToArray();
        var literal = Gen.OneOf(
            Gen.Int[0, 40].Select(n => Literal.Read($"{n}")),
            Gen.Int[20260101, 20260128].Select(d => Literal.Read($"{d / 10000}-{d / 100 % 100:00}-{d % 100:00}")),
            Word.Select(w => new Literal(w)));
        var leaf = Gen.OneOf(
            Gen.Const<Selection>(new Selection.Everything()),
            Word.Select(w => (Selection)new Selection.Named(w)),
            Path.Select(w => (Selection)new Selection.In(w)),
            Gen.Enum<HostCondition>().Select(c => (Selection)new Selection.Is(c)),
            Word.Select(w => (Selection)new Selection.Tagged(w)),
            Word.Select(w => (Selection)new Selection.Used(w)),
            saved ? Word.Select(w => (Selection)new Selection.Saved(w)) : Gen.Const<Selection>(new Selection.Everything()),
            Gen.Select(One(texts), Word).Select((k, w) => (Selection)new Selection.Like(k, w)),
            Gen.Select(One(versions), Relations, Pick("0.1.0", "0.9", "0.10.0-rc.1")).Select((k, r, v) => (Selection)new Selection.Versioned(k, r, v)),
            Gen.Select(One(figures), Relations, Gen.Int[0, 120], Gen.Int[0, 100]).Select((k, r, amount, u) => (Selection)new Selection.Compared(k, r, new Quantity(amount, UnitOf(k, u)))),
            Gen.Select(Pick("Desk", "contract ends", "Shelf"), literal, Relations).Select((n, l, r) => (Selection)new Selection.HasOwn(n, l.IsText ? Relation.Equal : r, l)),
            Gen.Select(Pick("os.version", "processor.count", "users.logged-in"), literal, Relations).Select((n, l, r) => (Selection)new Selection.HasFact(n, l.IsText ? Relation.Equal : r, l)));
        return Gen.Recursive<Selection>((depth, inner) => depth > 4 ? leaf : Gen.OneOf(
            leaf,
            inner.Select(s => (Selection)new Selection.Not(s)),
            inner.Array[1, 4].Select(p => Selection.And(p)),
            inner.Array[1, 4].Select(p => Selection.Or(p))));
    }

    private static QuantityUnit UnitOf(SelectionKey key, int pick)
    {
        QuantityUnit[] units = key.Dimensions is [Dimension.Count] ? [QuantityUnit.None] : [.. QuantityUnit.All.Where(u => key.Dimensions.Contains(u.Dimension))];
        return units[pick % units.Length];
    }

    private static Gen<string> Pick(params string[] words) => One(words);

    private static Gen<T> One<T>(T[] of) => Gen.Int[0, of.Length - 1].Select(i => of[i]);
}
