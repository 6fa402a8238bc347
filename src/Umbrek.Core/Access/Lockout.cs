namespace Umbrek.Core.Access;

/// <summary>How long wrong attempts bar further ones: five are free, then a minute, doubled by each further one up to an hour.</summary>
public sealed record Lockout(int Failures, DateTimeOffset? Until)
{
    public const int Free = 5;
    private static readonly TimeSpan First = TimeSpan.FromMinutes(1);
    private static readonly TimeSpan Longest = TimeSpan.FromHours(1);

    public static Lockout None { get; } = new(0, null);

    public bool Bars(DateTimeOffset now) => Until > now;

    public Lockout Fail(DateTimeOffset now) => new(Failures + 1, Failures + 1 < Free ? null : now + Length(Failures + 1));

    /// <summary>How long so many failures in a row bar the next attempt.</summary>
    public static TimeSpan Length(int failures) => failures < Free ? TimeSpan.Zero : TimeSpan.FromTicks(Math.Min(Longest.Ticks, First.Ticks << Math.Min(failures - Free, 20)));
}
