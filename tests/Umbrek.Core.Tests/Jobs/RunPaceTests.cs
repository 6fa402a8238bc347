using CsCheck;
using Umbrek.Core.Jobs;

namespace Umbrek.Core.Tests.Jobs;

public sealed class RunPaceTests
{
    private static readonly Gen<RunPace> Paces = Gen.Select(Gen.Int[1, 4].Nullable(), Gen.Bool, Gen.Int[1, 3].Nullable()).Select((atOnce, perGroup, stop) => new RunPace(atOnce, perGroup, stop));

    private static readonly Gen<PacedRun[]> Runs = Gen.Select(Gen.Int[0, 3], Gen.Bool, Gen.Bool).Array[0, 20]
        .Select(all => all.Select(r => new PacedRun(Guid.NewGuid(), $"group {r.Item1}", r.Item2, r.Item3)).ToArray());

    [Fact]
    public void Never_more_than_allowed_run_at_once_and_a_free_place_is_taken() =>
        Gen.Select(Paces, Runs, Gen.Int[0, 3]).Sample((pace, open, failures) =>
        {
            var next = pace.Next(open, failures);
            (next is null).ShouldBe(failures >= pace.StopAfterFailures);
            if (next is null)
            {
                return;
            }
            var begun = open.Where(r => next.Contains(r.RunId)).ToList();
            begun.ShouldAllBe(r => r.Held && r.Reachable);
            var running = open.Where(r => !r.Held).ToList();
            if (begun.Count > 0)
            {
                (running.Count + begun.Count).ShouldBeLessThanOrEqualTo(pace.AtOnce ?? int.MaxValue);
            }
            if (pace.OnePerGroup)
            {
                begun.Select(r => r.Group).ShouldBeUnique();
                begun.ShouldAllBe(r => !running.Exists(o => o.Group == r.Group));
            }
            // Whoever is left could not have begun.
            foreach (var left in open.Where(r => r.Held && r.Reachable && !next.Contains(r.RunId)))
            {
                (running.Count + begun.Count >= (pace.AtOnce ?? int.MaxValue) || (pace.OnePerGroup && running.Concat(begun).Any(r => r.Group == left.Group))).ShouldBeTrue();
            }
        });

    [Fact]
    public void A_pace_that_can_begin_nothing_is_refused()
    {
        new RunPace(0).Check()!.ShouldContain("At once");
        new RunPace(StopAfterFailures: 0).Check()!.ShouldContain("Stop after");
        new RunPace(3, true, 1).Check().ShouldBeNull();
    }
}
