using System.Text.Json;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Jobs;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;
using Umbrek.Wire.Jobs;

namespace Umbrek.Wire.Tests.Api;

/// <summary>Field names that scripts rely on: a change here is a change for all of them.</summary>
public sealed class ApiBodyTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);
    private static readonly Guid Id = Guid.Parse("01a20755-f119-7cdf-96db-925628507f7a");

    [Fact]
    public void A_host_has_its_documented_fields() => Fields(
        JsonSerializer.SerializeToElement(
            new HostSummary(Id, "kx-77a", "quay-ticket-01", "Saltmarsh Ferry/Quay", new PresenceInfo(PresenceState.Away, AwayReason.LostContact, Noon), Noon, "Debian", "0.1.0", "192.0.2.1", ["elin.marlow"], Noon, 1, 2, 3, "/"),
            WireJson.Default.HostSummary),
        "id systemName label groupPath presence lastSeenAt os agentVersion address users sampledAt processorPercent memoryUsedPercent storageUsedPercent storageMount tags enrolledAt alerts");

    [Fact]
    public void An_alert_has_its_documented_fields_and_words()
    {
        var alert = JsonSerializer.SerializeToElement(
            new AlertInfo(Id, Id, "quay-ticket-01", "kx-77a", "Saltmarsh Ferry/Quay", "storage-high", "Storage nearly full", Subsystem.Storage, Severity.Warning, AlertState.Snoozed, Noon, "It is full.", "It stops.", "Empty it.", Noon, "Ines Okafor", Noon, "at noon"),
            WireJson.Default.AlertInfo);
        Fields(alert, "id hostId label systemName groupPath check checkName subsystem severity state raisedAt what follows fix stateAt stateBy snoozedUntil note");
        (alert.GetProperty("severity").GetString(), alert.GetProperty("state").GetString(), alert.GetProperty("subsystem").GetString()).ShouldBe(("warning", "snoozed", "storage"));
    }

    [Fact]
    public void A_run_has_its_documented_fields_and_words()
    {
        var run = JsonSerializer.SerializeToElement(
            new RunInfo(Id, Id, Id, "quay-ticket-01", "kx-77a", "Saltmarsh Ferry/Quay", RunState.TimedOut, Noon, Noon, Noon, 143, "late", "root", 1, 2, true), WireJson.Default.RunInfo);
        Fields(run, "id jobId hostId hostLabel systemName groupPath state createdAt startedAt endedAt exitStatus reason user stdoutBytes stderrBytes held outputGone");
        run.GetProperty("state").GetString().ShouldBe("timed-out");
    }

    [Fact]
    public void A_job_counts_its_runs()
    {
        var counts = new RunCounts(1, 2, 3, 4, 5, 6, 7, 8, 9, 10);
        counts.Ended.ShouldBe(49);
        counts.Total.ShouldBe(55);
        var job = JsonSerializer.SerializeToElement(new JobInfo(Id, Noon, "Ines Okafor", "all", new CommandSpec { Line = "df -h" }, "df -h", Noon, Noon, "Tomasz Vail", counts), WireJson.Default.JobInfo);
        Fields(job, "id createdAt createdBy selection command commandText expiresAt cancelledAt cancelledBy runs");
        Fields(job.GetProperty("runs"), "waiting sent running succeeded failed timedOut refused cancelled expired interrupted total ended");
    }

    [Fact]
    public void A_problem_keeps_its_word_in_its_type()
    {
        var problem = JsonSerializer.Deserialize("""{"type":"urn:umbrek:problem:selection-unreadable","title":"x","status":400,"detail":"y","position":4}""", WireJson.Default.Problem)!;
        (problem.Word, problem.Position).ShouldBe((ProblemTypes.SelectionUnreadable, 4));
        new Problem("about:blank", null, 500, null).Word.ShouldBe("");
    }

    [Fact]
    public void Numbers_for_words_are_refused() =>
        Should.Throw<JsonException>(() => JsonSerializer.Deserialize("""{"state":1,"reason":0,"since":"2026-11-23T12:00:00Z"}""", WireJson.Default.PresenceInfo));

    private static void Fields(JsonElement element, string expected) =>
        string.Join(' ', element.EnumerateObject().Select(p => p.Name)).ShouldBe(expected);
}
