using System.IO.Compression;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Service.Storage;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Simulation.Links;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Jobs;

/// <summary>Folding, comparing, searching and fetching what the hosts of a job answered.</summary>
public sealed class AnswerTests : IAsyncLifetime
{
    private TestService service = null!;
    private readonly List<LightHost> hosts = [];

    public async ValueTask InitializeAsync() => service = await TestService.StartAsync();

    public async ValueTask DisposeAsync()
    {
        foreach (var host in hosts)
        {
            await host.DisposeAsync();
        }
        await service.DisposeAsync();
    }

    [Fact]
    public async Task Equal_answers_are_one_and_the_odd_one_comes_first()
    {
        await LinkAsync("quay-ticket-01", "up 14:05 on quay-ticket-01 at 10.0.0.1\nkernel 6.1\n");
        await LinkAsync("quay-ticket-02", "up 4:05 on quay-ticket-02 at 10.0.0.2\nkernel 6.1\n");
        await LinkAsync("quay-ticket-03", "up 4:05 on quay-ticket-03 at 10.0.0.3\nkernel 6.0\n");
        await LinkAsync("plover-log-01", "", 3);
        var job = await RunAsync();

        var usual = await FoldAsync(job);
        usual.PassedOver.ShouldBe("times,names,addresses");
        usual.Folds.Select(f => (Hosts(job, f), f.State, f.ExitStatus, f.Variants)).ShouldBe(
        [
            ("plover-log-01", RunState.Failed, 3, 1), ("quay-ticket-03", RunState.Succeeded, 0, 1), ("quay-ticket-01 quay-ticket-02", RunState.Succeeded, 0, 2),
        ]);
        usual.Folds[2].Lines.ShouldBe(2);
        (await FoldAsync(job, "nothing")).Folds.Count.ShouldBe(4);
        (await FoldAsync(job, "times,names,addresses,numbers")).Folds.Select(f => Hosts(job, f)).ShouldBe(["plover-log-01", "quay-ticket-01 quay-ticket-02 quay-ticket-03"]);
        (await Should.ThrowAsync<ApiException>(() => FoldAsync(job, "colours"))).Message.ShouldContain("times, names, addresses, numbers");

        var (one, odd) = (RunOf(job, "quay-ticket-01").Id, RunOf(job, "quay-ticket-03").Id);
        var comparison = await service.Api.GetAsync($"runs/{one}/comparison?with={odd}", WireJson.Default.AnswerComparison, default);
        comparison.Streams.ShouldHaveSingleItem().Lines.Select(l => (l.Kind, l.Text)).ShouldBe(
        [
            (DifferenceKind.Same, "up 14:05 on quay-ticket-01 at 10.0.0.1"), (DifferenceKind.OnlyFirst, "kernel 6.1"), (DifferenceKind.OnlySecond, "kernel 6.0"),
        ]);
    }

    [Fact]
    public async Task Runs_that_go_on_are_counted_and_not_folded()
    {
        await LinkAsync("quay-ticket-01", "x\n");
        await service.EnrolAsync("dunlin-log-01");
        var job = await service.Api.PostAsync("jobs", new NewJob("all", new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Job.Runs.Succeeded == 1, "one run");
        var answers = await service.Api.GetAsync($"jobs/{job.Id}/answers", WireJson.Default.JobAnswers, default);
        answers.Open.ShouldBe(1);
        answers.Folds.ShouldHaveSingleItem().Runs.Count.ShouldBe(1);
    }

    [Fact]
    public async Task Lines_are_found_whatever_their_letters_and_where_they_stand_is_said()
    {
        await LinkAsync("quay-ticket-01", "first\nAn ERROR here\n");
        await LinkAsync("quay-ticket-02", "no\n");
        await LinkAsync("quay-ticket-03", "an error " + new string('x', 5000) + "\nerror again");
        var job = await RunAsync();
        var found = await service.Api.GetAsync($"jobs/{job.Job.Id}/search?text=error", WireJson.Default.FoundLines, default);
        found.Lines.Select(l => (l.HostLabel, l.Line, l.Text.Length)).ShouldBe([("quay-ticket-01", 2, 13), ("quay-ticket-03", 1, 401), ("quay-ticket-03", 2, 11)]);
        (found.Hosts, found.More).ShouldBe((2, false));
        var first = await service.Api.GetAsync($"jobs/{job.Job.Id}/search?text=error&limit=1", WireJson.Default.FoundLines, default);
        (first.Lines.Count, first.More).ShouldBe((1, true));
        foreach (var wrong in new[] { "search", "search?text=", "search?text=a%0Ab", "search?text=a&limit=0" })
        {
            (await Should.ThrowAsync<ApiException>(() => service.Api.GetAsync($"jobs/{job.Job.Id}/{wrong}", WireJson.Default.FoundLines, default))).Problem.Status.ShouldBe(400);
        }
    }

    [Fact]
    public async Task All_output_is_fetched_as_lines_of_json_or_as_files()
    {
        var long1 = string.Concat(Enumerable.Range(0, 1000).Select(i => $"line {i} ü\n"));
        await LinkAsync("quay-ticket-01", long1);
        await LinkAsync("quay-ticket-02", "");
        var job = await RunAsync();
        var lines = (await service.SendAsync(HttpMethod.Get, $"/api/v1/jobs/{job.Job.Id}/output?as=ndjson")).Body.Split('\n', StringSplitOptions.RemoveEmptyEntries);
        lines.Length.ShouldBe(2);
        using var one = JsonDocument.Parse(lines[0]);
        one.RootElement.GetProperty("hostLabel").GetString().ShouldBe("quay-ticket-01");
        one.RootElement.GetProperty("state").GetString().ShouldBe("succeeded");
        one.RootElement.GetProperty("stdout").GetString().ShouldBe(long1);
        one.RootElement.GetProperty("stderr").GetString().ShouldBe("");

        var response = (await service.SendAsync(HttpMethod.Get, $"/api/v1/jobs/{job.Job.Id}/output?as=zip")).Response;
        using var zip = new ZipArchive(new MemoryStream(await response.Content.ReadAsByteArrayAsync()));
        zip.Entries.Select(e => e.FullName).ShouldBe(["runs.json", "quay-ticket-01.txt"]);
        using var reader = new StreamReader(zip.GetEntry("quay-ticket-01.txt")!.Open());
        (await reader.ReadToEndAsync()).ShouldBe(long1);
        (await service.SendAsync(HttpMethod.Get, $"/api/v1/jobs/{job.Job.Id}/output?as=tape")).Body.ShouldContain("as=ndjson");

        // It is kept packed.
        var id = RunOf(job, "quay-ticket-01").Id;
        await using var db = service.Get<IDatabase>().Open();
        var row = await db.RunOutput.AsNoTracking().SingleAsync(o => o.RunId == id);
        row.Packed.ShouldBeTrue();
        row.Data.Length.ShouldBeLessThan(long1.Length / 3);
    }

    [Fact]
    public async Task A_job_is_run_again_where_it_failed_and_nowhere_else()
    {
        await LinkAsync("quay-ticket-01", "ok\n");
        var failing = await LinkAsync("quay-ticket-02", "", 3);
        var job = await RunAsync(new CommandSpec { Line = "hostname", TimeoutSeconds = 60 });
        failing.Answer = _ => Task.FromResult(("mended\n", 0));
        var again = await AgainAsync(job.Job.Id, new NewJobAgain());
        (again.AgainOf, again.Runs.Total, again.Command.TimeoutSeconds, again.Selection).ShouldBe((job.Job.Id, 1, 60, "all"));
        var ended = await EndedAsync(again.Id);
        ended.Runs.ShouldHaveSingleItem().HostLabel.ShouldBe("quay-ticket-02");

        (await Should.ThrowAsync<ApiException>(() => AgainAsync(again.Id, new NewJobAgain()))).Message.ShouldContain("ended in trouble");
        (await AgainAsync(job.Job.Id, new NewJobAgain([RunOf(job, "quay-ticket-01").Id]))).Runs.Total.ShouldBe(1);
        (await Should.ThrowAsync<ApiException>(() => AgainAsync(job.Job.Id, new NewJobAgain([ended.Runs[0].Id])))).Message.ShouldContain("not of this job");
    }

    [Fact]
    public async Task Output_is_read_by_those_who_may_run_there()
    {
        await LinkAsync("quay-ticket-01", "x\n");
        await LinkAsync("plover-log-01", "y\n");
        var job = await RunAsync(new CommandSpec { Script = "#!/bin/sh\n# Tide table\necho $TIDE", Environment = new Dictionary<string, string> { ["TIDE"] = "ebb" }, Input = [1, 2] });
        job.Job.CommandText.ShouldBe("script of 3 lines: # Tide table");
        job.Job.Command.Environment!["TIDE"].ShouldBe("ebb");
        using var viewer = await service.JoinedByAsync("Odile Marsh", role: "viewer");
        foreach (var seen in new[] { (await viewer.GetAsync($"jobs/{job.Job.Id}", WireJson.Default.JobDetail, default)).Job, (await viewer.GetAsync("jobs", WireJson.Default.PageJobInfo, default)).Items[0] })
        {
            (seen.Command.Script, seen.Command.Environment!["TIDE"], seen.Command.Input!.Length).ShouldBe(("", "", 0));
        }
        foreach (var path in new[] { $"jobs/{job.Job.Id}/answers", $"jobs/{job.Job.Id}/search?text=x", $"jobs/{job.Job.Id}/output?as=zip", $"runs/{job.Runs[0].Id}/comparison?with={job.Runs[1].Id}" })
        {
            (await Should.ThrowAsync<ApiException>(() => viewer.GetAsync(path, WireJson.Default.JobAnswers, default))).Problem.Status.ShouldBe(403, path);
        }
    }

    [Fact]
    public async Task Another_user_and_a_wrong_command_are_asked_about_before_anything_runs()
    {
        var host = await LinkAsync("quay-ticket-01", "x\n");
        await service.Api.PostAsync("roles", new NewRole("runner", [Permission.See, Permission.Run]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var operating = await service.JoinedByAsync("Odile Marsh", role: "runner");
        var asRoot = new NewJob("all", new CommandSpec { Line = "id", User = "root" });
        (await Should.ThrowAsync<ApiException>(() => operating.PostAsync("jobs", asRoot, WireJson.Default.NewJob, WireJson.Default.JobInfo, default))).Problem.Status.ShouldBe(403);
        foreach (var (command, word) in new[]
        {
            (new CommandSpec { Line = "id", User = "no such user" }, "system user"),
            (new CommandSpec { Line = "id", Script = "id" }, "one of these"),
            (new CommandSpec { Script = " \n" }, "empty"),
            (new CommandSpec { Line = "id", Niceness = 20 }, "Niceness"),
            (new CommandSpec { Line = "id", Environment = new Dictionary<string, string> { ["1x"] = "" } }, "name of a variable"),
            (new CommandSpec { Script = new string('x', CommandSpec.MaxTextBytes + 1) }, "is the most"),
            (new CommandSpec { Line = "id", OutputLimitBytes = -1 }, "output limit"),
        })
        {
            (await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("jobs", new NewJob("all", command), WireJson.Default.NewJob, WireJson.Default.JobInfo, default))).Message.ShouldContain(word);
        }
        host.Executions.ShouldBe(0);
        await RunAsync(asRoot.Command);
        (await service.Api.GetAsync("audit?action=job.create", WireJson.Default.PageAuditInfo, default)).Items[0].Detail.ShouldContain("\"as\":\"root\"");
    }

    private async Task<LightHost> LinkAsync(string name, string output, int status = 0)
    {
        var host = await service.LinkAsync(name);
        host.Answer = _ => Task.FromResult((output, status));
        hosts.Add(host);
        return host;
    }

    private async Task<JobDetail> RunAsync(CommandSpec? command = null) =>
        await EndedAsync((await service.Api.PostAsync("jobs", new NewJob("all", command ?? new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default)).Id);

    private Task<JobInfo> AgainAsync(Guid jobId, NewJobAgain wish) => service.Api.PostAsync($"jobs/{jobId}/again", wish, WireJson.Default.NewJobAgain, WireJson.Default.JobInfo, default);

    private async Task<JobDetail> EndedAsync(Guid id)
    {
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"jobs/{id}", WireJson.Default.JobDetail, default)).Job.Runs is var runs && runs.Ended == runs.Total, "the job to end");
        return await service.Api.GetAsync($"jobs/{id}", WireJson.Default.JobDetail, default);
    }

    private Task<JobAnswers> FoldAsync(JobDetail job, string? passOver = null) =>
        service.Api.GetAsync($"jobs/{job.Job.Id}/answers{(passOver is null ? "" : $"?passOver={passOver}")}", WireJson.Default.JobAnswers, default);

    private static RunInfo RunOf(JobDetail job, string host) => job.Runs.Single(r => r.HostLabel == host);

    private static string Hosts(JobDetail job, FoldedAnswer fold) => string.Join(' ', fold.Runs.Select(id => job.Runs.Single(r => r.Id == id).HostLabel));
}
