namespace Umbrek.Core.Estate;

/// <summary>A link that is lost and found again and again is one state, "unsteady", not a change each time.</summary>
/// <param name="Losses">When contact was lost, of late, oldest first.</param>
public sealed record Steadiness(IReadOnlyList<DateTimeOffset> Losses, bool IsUnsteady)
{
    /// <summary>So many losses within <see cref="Window"/> make a link unsteady.</summary>
    public const int LossesThatCount = 3;
    public static readonly TimeSpan Window = TimeSpan.FromMinutes(15);

    /// <summary>So long without a loss makes it steady again.</summary>
    public static readonly TimeSpan Calm = TimeSpan.FromMinutes(10);
    private const int MostKept = 50;

    public static Steadiness Steady { get; } = new([], false);

    public Steadiness Lost(DateTimeOffset now)
    {
        var late = Losses.Where(at => at > now - Window && at <= now).Append(now).TakeLast(MostKept).ToList();
        return new(late, IsUnsteady || late.Count >= LossesThatCount);
    }

    /// <summary>What time alone changes.</summary>
    public Steadiness At(DateTimeOffset now) => IsUnsteady && (Losses.Count == 0 || Losses[^1] + Calm <= now || Losses[^1] > now) ? Steady : this;
}
