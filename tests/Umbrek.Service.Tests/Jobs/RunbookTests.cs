using System.Net;
using Umbrek.Core.Jobs;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Simulation.Links;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Audit;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Jobs;

/// <summary>Runbooks of the library, and jobs that are made from them.</summary>
public sealed class RunbookTests : IAsyncLifetime
{
    private const string Document = """
        # Bring a unit back

        For quays.

        - parameter: UNIT: text = ticket-print -- the unit

        ## Look
        - may fail
        ```
        systemctl is-active "$UNIT"
        ```
        ## Start it
        - when: "Look" failed
        - tries: 3, 10 s apart
        ```
        systemctl restart "$UNIT"
        ```
        """;

    private TestService service = null!;
    private LightHost host = null!;

    public async ValueTask InitializeAsync()
    {
        service = await TestService.StartAsync();
        host = await service.LinkAsync("quay-ticket-01");
    }

    public async ValueTask DisposeAsync()
    {
        await host.DisposeAsync();
        await service.DisposeAsync();
    }

    [Fact]
    public async Task A_job_is_made_from_a_runbook_and_tells_of_its_steps()
    {
        CommandSpec? got = null;
        host.Steps = order =>
        {
            got = order.Command;
            return [new(0, StepState.Running), new(0, StepState.Failed, 1, 3), new(1, StepState.Running), new(1, StepState.Running, 2), new(1, StepState.Succeeded, 2, 0)];
        };
        var kept = await KeepAsync();
        kept.Script.Steps.ShouldBe(2);
        kept.Versions.ShouldHaveSingleItem().Steps.ShouldBe(2);
        kept.Versions[0].Lines.ShouldBe(2);
        var job = await RunAsync(new NewJob("all", Script: new ScriptUse(kept.Script.Id, null, new Dictionary<string, string> { ["UNIT"] = "cups" })));
        await Wait.UntilAsync(async () => (await JobAsync(job.Id)).Job.Runs.Succeeded == 1, "the run to end");
        got!.Steps!.ShouldBe(kept.Shown.Command.Steps!);
        got.Environment!["UNIT"].ShouldBe("cups");
        var detail = await JobAsync(job.Id);
        detail.Job.CommandText.ShouldBe("Bring a unit back (version 1)");
        detail.Runs[0].Steps!.Select(s => (s.Index, s.State, s.Tries, s.ExitStatus)).ShouldBe([(0, StepState.Failed, 1, 3), (1, StepState.Succeeded, 2, 0)]);
        (await AuditAsync()).ShouldContain(e => e.Action == "job.create" && e.Detail.Contains("script-sha256"));

        // What is stored says the same.
        await service.RestartAsync();
        (await JobAsync(job.Id)).Runs[0].Steps.ShouldBe(detail.Runs[0].Steps);

        // Again on the same hosts is again the runbook.
        var again = await service.Api.PostAsync($"jobs/{job.Id}/again", new NewJobAgain(Runs: [detail.Runs[0].Id]), WireJson.Default.NewJobAgain, WireJson.Default.JobInfo, default);
        again.Command.Steps!.ShouldBe(kept.Shown.Command.Steps!);
    }

    [Fact]
    public async Task A_command_beside_a_runbook_must_be_that_runbook()
    {
        var kept = await KeepAsync();
        var use = new ScriptUse(kept.Script.Id);
        var filled = await service.Api.PostAsync("scripts/fill", use, WireJson.Default.ScriptUse, WireJson.Default.FilledScript, default);
        (await RunAsync(new NewJob("all", filled.Command with { TimeoutSeconds = 60 }, Script: use))).Command.TimeoutSeconds.ShouldBe(60);
        foreach (var other in new[] { filled.Command with { Steps = [.. filled.Command.Steps!.Take(1)] }, filled.Command with { Steps = [filled.Command.Steps![0], filled.Command.Steps[1] with { When = null }] }, filled.Command with { Steps = null, Line = "true" } })
        {
            (await RefusedAsync(() => RunAsync(new NewJob("all", other, Script: use)), HttpStatusCode.Conflict)).ShouldContain("Nothing was run");
        }
    }

    [Fact]
    public async Task It_is_read_and_written_as_a_document()
    {
        var kept = await KeepAsync();
        var (_, text, answered) = await service.SendAsync(HttpMethod.Get, $"api/v1/scripts/{kept.Script.Id}/document");
        answered.Content.Headers.ContentType!.MediaType.ShouldBe("text/markdown");
        answered.Content.Headers.ContentDisposition!.FileName!.Trim('"').ShouldBe("Bring a unit back.md");
        text.ShouldBe(Document.Replace("## Look\n-", "## Look\n\n-").Replace("it\n-", "it\n\n-").Replace("fail\n```\n", "fail\n\n```sh\n").Replace("apart\n```\n", "apart\n\n```sh\n").Replace("```\n## ", "```\n\n## ") + "\n");
        (await ReadAsync(text)).Command.Steps!.ShouldBe(kept.Shown.Command.Steps!);
        (await RefusedAsync(() => ReadAsync("## Look\n- if: x"), HttpStatusCode.BadRequest)).ShouldStartWith("Line 2: 'if' is nothing that a step has");
        (await RefusedAsync(() => ReadAsync(new string('x', 300_000)), HttpStatusCode.BadRequest)).ShouldContain("at most 262144 characters");
        var script = await service.Api.PostAsync("scripts", new NewScript("Free space", new CommandSpec { Line = "df -h" }), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, default);
        script.Script.Steps.ShouldBeNull();
        var (status, why, _) = await service.SendAsync(HttpMethod.Get, $"api/v1/scripts/{script.Script.Id}/document");
        status.ShouldBe(HttpStatusCode.BadRequest);
        why.ShouldContain("is a script and has no steps");
    }

    [Fact]
    public async Task A_runbook_stays_one_and_what_changed_is_shown_line_by_line()
    {
        var kept = await KeepAsync();
        Task<ScriptDetail> Next(CommandSpec command) => service.Api.PostAsync($"scripts/{kept.Script.Id}/versions", new NewScriptVersion(command, kept.Shown.Parameters), kept.Script.Version, WireJson.Default.NewScriptVersion, WireJson.Default.ScriptDetail, default);
        (await RefusedAsync(() => Next(new CommandSpec { Script = "true\n" }), HttpStatusCode.BadRequest)).ShouldBe("'Bring a unit back' is a runbook; keep the script under a name of its own.");
        (await RefusedAsync(() => Next(kept.Shown.Command), HttpStatusCode.BadRequest)).ShouldContain("is already");
        await Next(kept.Shown.Command with { Steps = [kept.Shown.Command.Steps![0], kept.Shown.Command.Steps[1] with { Tries = 5 }] });
        var comparison = await service.Api.GetAsync($"scripts/{kept.Script.Id}/comparison?from=1", WireJson.Default.ScriptComparison, default);
        comparison.Text.Where(l => l.Kind != Core.Text.DifferenceKind.Same).Select(l => l.Text).ShouldBe(["- tries: 3, 10 s apart", "- tries: 5, 10 s apart"]);
    }

    [Fact]
    public async Task What_makes_no_sense_is_not_kept()
    {
        async Task Refused(CommandSpec command, string why) =>
            (await RefusedAsync(() => service.Api.PostAsync("scripts", new NewScript("A", command), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, default), HttpStatusCode.BadRequest)).ShouldContain(why);
        await Refused(new CommandSpec { Steps = [] }, "no steps");
        await Refused(new CommandSpec { Steps = [new("Look", " ")] }, "nothing to run");
        await Refused(new CommandSpec { Steps = [new("Look", "true", When: [new(ConditionKind.Failed, "Then")])] }, "no step before it");
        await Refused(new CommandSpec { Steps = [new("Look", "true", When: [new(ConditionKind.Is, "MODE", null, "x")])] }, "MODE, which is no parameter of the runbook");
        await Refused(new CommandSpec { Steps = [new("Look", "true")], Script = "true" }, "beside its steps");
        (await RefusedAsync(() => RunAsync(new NewJob("all", new CommandSpec { Steps = [new("", "true")] })), HttpStatusCode.BadRequest)).ShouldContain("step 1 is empty");
        (await service.Api.GetAsync("scripts", WireJson.Default.PageScriptInfo, default)).Items.ShouldBeEmpty();
    }

    [Fact]
    public async Task Who_may_not_run_commands_sees_what_the_steps_are_called_and_not_what_they_do()
    {
        using var viewer = await service.JoinedByAsync("Odile Marsh", "viewer");
        var kept = await KeepAsync();
        var job = await RunAsync(new NewJob("all", Script: new ScriptUse(kept.Script.Id)));
        var seen = await viewer.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default);
        seen.Job.Command.Steps!.Select(s => (s.Name, s.Text, s.When)).ShouldBe([("Look", "", null), ("Start it", "", null)]);
        seen.Job.Command.Environment!["UNIT"].ShouldBe("");
    }

    private Task<ScriptDetail> KeepAsync()
    {
        var book = RunbookText.Read(Document, out _)!;
        return service.Api.PostAsync("scripts", new NewScript(book.Title!, book.Command, book.Description, book.Parameters), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, default);
    }

    private Task<RunbookDocument> ReadAsync(string text) =>
        service.Api.PostAsync("scripts/document", new RunbookDraft(text), WireJson.Default.RunbookDraft, WireJson.Default.RunbookDocument, default);

    private Task<JobInfo> RunAsync(NewJob wish) => service.Api.PostAsync("jobs", wish, WireJson.Default.NewJob, WireJson.Default.JobInfo, default);

    private Task<JobDetail> JobAsync(Guid id) => service.Api.GetAsync($"jobs/{id}", WireJson.Default.JobDetail, default);

    private async Task<IReadOnlyList<AuditInfo>> AuditAsync() => (await service.Api.GetAsync("audit?limit=100", WireJson.Default.PageAuditInfo, default)).Items;

    private static async Task<string> RefusedAsync(Func<Task> act, HttpStatusCode status)
    {
        var refused = await Should.ThrowAsync<ApiException>(act);
        refused.Problem.Status.ShouldBe((int)status);
        return refused.Message;
    }
}
