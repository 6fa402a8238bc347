using Umbrek.Core.Text;

namespace Umbrek.Core.Jobs;

/// <summary>Wakes computers of a network that the host stands in, each with a packet to its network card.</summary>
public sealed record WakeWish(IReadOnlyList<WakeTarget> Targets)
{
    public const int MostTargets = 100;

    public string? Check() =>
        Targets is not { Count: > 0 and <= MostTargets } ? $"Name 1 to {MostTargets} computers to wake."
        : Targets.Where(t => t is not { Name: not null, Cards.Count: > 0 and <= WakeTarget.MostCards } || t.Cards.Any(c => c is null)).Take(1).ToList() is [var wrong] ? $"'{TerminalText.Line(wrong?.Name ?? "")}' can't be woken: it takes a name, and 1 to {WakeTarget.MostCards} network cards."
        : null;

    public string Display()
    {
        var named = string.Join(", ", Targets.Take(5).Select(t => TerminalText.Line(t.Name)));
        return Targets.Count > 5 ? $"wake {named} and {Targets.Count - 5} more" : $"wake {named}";
    }
}

/// <summary>A computer that is to wake.</summary>
/// <param name="Name">As people know it; only for what is said.</param>
/// <param name="Cards">Its network cards, as it named them when it was last there: "52:54:00:12:34:56 10.20.1.15/24".</param>
public sealed record WakeTarget(string Name, IReadOnlyList<string> Cards)
{
    public const int MostCards = 8;
}
