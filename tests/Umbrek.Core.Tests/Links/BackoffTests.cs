using CsCheck;
using Umbrek.Core.Links;

namespace Umbrek.Core.Tests.Links;

public sealed class BackoffTests
{
    [Fact]
    public void Waits_grow_to_a_cap_and_never_end() => Gen.Select(Gen.Int[0, 1_000_000], Gen.Double[0, 0.999]).Sample((attempt, random) =>
    {
        var wait = Backoff.Delay(attempt, random);
        wait.ShouldBeGreaterThanOrEqualTo(TimeSpan.Zero);
        wait.ShouldBeLessThanOrEqualTo(Backoff.Cap);
        if (attempt >= 6)
        {
            wait.ShouldBeGreaterThanOrEqualTo(Backoff.Cap / 2);
        }
    });

    [Fact]
    public void The_first_wait_is_short_and_spread()
    {
        Backoff.Delay(0, 0).ShouldBe(TimeSpan.Zero);
        Backoff.Delay(0, 0.5).ShouldBe(Backoff.First / 2);
    }
}
