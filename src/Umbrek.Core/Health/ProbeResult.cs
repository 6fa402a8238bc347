using System.Globalization;
using Umbrek.Core.Estate;

namespace Umbrek.Core.Health;

/// <summary>What a probe found.</summary>
public enum ProbeState
{
    /// <summary>It could not look, or has not yet.</summary>
    Unknown,
    Well,
    Failed,

    /// <summary>It fails, and that does not count yet: the host, or what helps, has just started.</summary>
    Starting,
}

/// <summary>A figure that a look gave, in the base of its dimension.</summary>
public sealed record ProbeFigure(string Name, double Value, Dimension Unit)
{
    public const int MaxName = 40;

    /// <summary>As people read it.</summary>
    public override string ToString() => Unit switch
    {
        Dimension.Percent => $"{Name} {Value.ToString("0.#", CultureInfo.InvariantCulture)} %",
        Dimension.Size => $"{Name} {Text.Units.Bytes((long)Math.Clamp(Value, 0, 1e18))}",
        Dimension.Time when Math.Abs(Value) < 1 => $"{Name} {(Value * 1000).ToString("0", CultureInfo.InvariantCulture)} ms",
        Dimension.Time => $"{Name} {(Value < 0 ? "−" : "")}{Text.Units.Span(TimeSpan.FromSeconds(Math.Min(Math.Abs(Value), 1e9)))}",
        _ => $"{Name} {Value.ToString("0.###", CultureInfo.InvariantCulture)}",
    };
}

/// <summary>One look.</summary>
/// <param name="Says">A sentence for people.</param>
public sealed record ProbeReading(ProbeState State, string Says, IReadOnlyList<ProbeFigure> Figures)
{
    public const int MaxSays = 500;
    public const int MaxFigures = 30;

    public static ProbeReading Unknown(string says) => new(ProbeState.Unknown, says, []);

    public static ProbeReading Failed(string says, params ProbeFigure[] figures) => new(ProbeState.Failed, says, figures);

    public static ProbeReading Well(string says, params ProbeFigure[] figures) => new(ProbeState.Well, says, figures);
}

/// <summary>Where a probe stands on a host.</summary>
/// <param name="Check">The check that it is of.</param>
/// <param name="Since">Since when it is in this state.</param>
/// <param name="At">The last look.</param>
public sealed record ProbeResult(string Check, ProbeState State, string Says, IReadOnlyList<ProbeFigure> Figures, DateTimeOffset Since, DateTimeOffset At);

/// <summary>Something that happened to a probe: it failed, it is well again, something was done about it.</summary>
/// <param name="Text">A sentence for the host's time line and its agent's log.</param>
public sealed record ProbeEvent(Guid Id, string Check, DateTimeOffset At, string Text);
