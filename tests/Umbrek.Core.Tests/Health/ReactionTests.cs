using CsCheck;
using Umbrek.Core.Health;

namespace Umbrek.Core.Tests.Health;

public sealed class ReactionTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);
    private static readonly ReactionTerms Terms = new(Noon, TimeSpan.FromMinutes(5), TimeSpan.FromHours(1));

    private static ReactedAlert Raised(double minutes, AlertState state = AlertState.Open, DateTimeOffset? quiet = null, DateTimeOffset? last = null, int lately = 0) => new(state, Noon.AddMinutes(minutes), quiet, last, lately);

    [Fact]
    public void It_runs_once_the_alert_has_been_open_for_so_long()
    {
        Terms.Judge(Raised(1), Noon.AddMinutes(5)).ShouldBe(new ReactionVerdict(ReactionStep.Wait, Noon.AddMinutes(6), "It runs when the alert has been open for 5 min."));
        Terms.Judge(Raised(1), Noon.AddMinutes(6)).ShouldBe(new ReactionVerdict(ReactionStep.Run));
        (Terms with { Wait = TimeSpan.Zero }).Judge(Raised(1), Noon.AddMinutes(1)).Step.ShouldBe(ReactionStep.Run);
    }

    [Theory]
    [InlineData(AlertState.Acknowledged, "The alert is acknowledged; a person has decided.")]
    [InlineData(AlertState.Snoozed, "The alert is snoozed; a person has decided.")]
    [InlineData(AlertState.Dismissed, "The alert is dismissed; a person has decided.")]
    public void What_a_person_has_taken_up_is_left_to_him(AlertState state, string says) =>
        Terms.Judge(Raised(1, state), Noon.AddHours(2)).ShouldBe(new ReactionVerdict(ReactionStep.Wait, null, says));

    [Fact]
    public void What_was_there_before_and_what_is_being_worked_at_is_left_alone()
    {
        Terms.Judge(Raised(-1), Noon.AddHours(2)).ShouldBe(new ReactionVerdict(ReactionStep.Wait, null, "The alert was there before it."));
        Terms.Judge(Raised(1, quiet: Noon.AddHours(3)), Noon.AddHours(2)).ShouldBe(new ReactionVerdict(ReactionStep.Wait, Noon.AddHours(3), "The host is in a maintenance window."));
        Terms.Judge(Raised(1, quiet: Noon.AddHours(3)), Noon.AddHours(3)).Step.ShouldBe(ReactionStep.Run);
    }

    [Fact]
    public void What_did_not_help_is_not_done_again_and_again()
    {
        Terms.Judge(Raised(90, last: Noon.AddMinutes(60)), Noon.AddMinutes(95)).ShouldBe(new ReactionVerdict(ReactionStep.Pass, null, "It ran on this host 35 min before, and does not run again within 1 h."));
        Terms.Judge(Raised(90, last: Noon.AddMinutes(30)), Noon.AddMinutes(95)).Step.ShouldBe(ReactionStep.Run);
        Terms.Judge(Raised(1, lately: ReactionTerms.MostOfLate - 1), Noon.AddMinutes(6)).Step.ShouldBe(ReactionStep.Run);
        Terms.Judge(Raised(1, lately: ReactionTerms.MostOfLate), Noon.AddMinutes(6)).Says.ShouldBe("It ran 50 times in 1 h, the most that it does without a person.");
    }

    /// <summary>Whatever alerts come and go, two runs on one host are never closer than the spacing.</summary>
    [Fact]
    public void Runs_on_one_host_keep_their_distance() =>
        Gen.Select(Gen.Int[0, 30].Array[1, 40], Gen.Int[0, 10], Gen.Int[1, 90]).Sample((gaps, wait, spacing) =>
        {
            var terms = new ReactionTerms(Noon, TimeSpan.FromMinutes(wait), TimeSpan.FromMinutes(spacing));
            var (raised, last) = (Noon, (DateTimeOffset?)null);
            foreach (var gap in gaps)
            {
                raised = raised.AddMinutes(gap);
                var now = raised.AddMinutes(wait);
                if (terms.Judge(new ReactedAlert(AlertState.Open, raised, null, last, 0), now).Step == ReactionStep.Run)
                {
                    (now - (last ?? DateTimeOffset.MinValue)).ShouldBeGreaterThanOrEqualTo(terms.Spacing);
                    last = now;
                }
            }
        });
}
