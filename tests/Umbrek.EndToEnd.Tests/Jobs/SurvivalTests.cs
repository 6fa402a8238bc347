using Umbrek.Core.Jobs;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;

namespace Umbrek.EndToEnd.Tests.Jobs;

/// <summary>No result lost, nothing run twice.</summary>
public sealed class SurvivalTests
{
    private const int Real = 8;
    private const int Simulated = 192;

    [Fact]
    public async Task Killing_service_and_agents_in_the_middle_of_a_job_on_two_hundred_hosts_loses_and_doubles_nothing()
    {
        await using var world = await World.StartAsync(ownProcess: true);
        var token = await world.NewTokenAsync();
        await using var others = TestPrograms.Start("umbrek-sim", ["hosts", "--count", $"{Simulated}", "--service", $"{world.Address}", "--token", token, "--data", world.In("simulated")]);
        var agents = new Dictionary<string, TestPrograms>();
        foreach (var label in Enumerable.Range(1, Real).Select(i => $"berth-{i:00}"))
        {
            // One after the other: a machine that enrols again while its entry is away would be taken for the same one.
            agents[label] = await world.JoinAsync(label, token);
        }
        await Wait.UntilAsync(async () => (await world.Api.GetAsync("hosts?limit=1&selection=is%20linked", WireJson.Default.PageHostSummary, default)).Total == Real + Simulated, "all to be linked", 300);
        // Each execution on a real host leaves a line there; a simulated shell prints it instead.
        var executions = world.In("executions");
        var job = await world.MakeJobAsync("all", $"echo $$ >> {executions}; sleep 20; echo done");
        await Wait.UntilAsync(async () => (await world.JobAsync(job.Id)).Runs.All(r => r.StartedAt is not null), "all to have begun");

        await world.Service.KillAsync();
        foreach (var (label, agent) in agents.Take(Real / 2))
        {
            await agent.KillAsync();
        }
        await world.StartServiceAsync();
        foreach (var (label, _) in agents.Take(Real / 2))
        {
            world.StartAgent(label);
        }

        var ended = await world.EndedAsync(job.Id);
        ended.Runs.Count.ShouldBe(Real + Simulated);
        ended.Runs.ShouldAllBe(r => r.State == RunState.Succeeded);
        foreach (var run in ended.Runs)
        {
            (await world.OutputAsync(run.Id)).ShouldBe(agents.ContainsKey(run.HostLabel) ? "done\n" : $"$$ >> {executions}\ndone\n");
        }
        File.ReadAllLines(executions).Length.ShouldBe(Real);
        File.ReadAllLines(executions).Distinct().Count().ShouldBe(Real);
    }

    [Fact, Trait("Journey", "Worst")]
    public async Task Killing_an_agent_does_not_touch_its_run_and_the_result_comes_when_it_returns()
    {
        await using var world = await World.StartAsync();
        var agent = await world.JoinAsync("plover-log-01");
        var (gate, executions) = (world.In("gate"), world.In("executions"));
        var job = await world.MakeJobAsync("plover-log-01", $"echo x >> {executions}; echo before; while ! [ -e {gate} ]; do sleep 0.05; done; echo after");
        await Wait.UntilAsync(async () => (await world.JobAsync(job.Id)).Runs[0].StdoutBytes == 7, "the first output");

        await agent.KillAsync();
        await world.UntilAsync("plover-log-01", "away");
        (await world.JobAsync(job.Id)).Runs[0].State.ShouldBe(RunState.Running);
        await File.WriteAllTextAsync(gate, "");
        world.StartAgent("plover-log-01");

        var run = (await world.EndedAsync(job.Id)).Runs[0];
        run.State.ShouldBe(RunState.Succeeded);
        (await world.OutputAsync(run.Id)).ShouldBe("before\nafter\n");
        File.ReadAllText(executions).ShouldBe("x\n");
    }

    [Fact]
    public async Task Cancelling_ends_what_runs_and_says_who_did_it()
    {
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        var job = await world.MakeJobAsync("plover-log-01", "echo started; sleep 300");
        await Wait.UntilAsync(async () => (await world.JobAsync(job.Id)).Runs[0].StdoutBytes > 0, "the command to run");
        await world.Api.ActAsync(HttpMethod.Post, $"jobs/{job.Id}/cancel", default);
        var ended = await world.EndedAsync(job.Id);
        ended.Runs[0].State.ShouldBe(RunState.Cancelled);
        ended.Job.CancelledBy.ShouldBe(World.Name);
        (await world.OutputAsync(ended.Runs[0].Id)).ShouldBe("started\n");
    }

    [Fact]
    public async Task Ten_megabytes_of_output_come_through_whole()
    {
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        var job = await world.MakeJobAsync("plover-log-01", "seq 1 1400000");
        var run = (await world.EndedAsync(job.Id)).Runs[0];
        var output = await world.OutputAsync(run.Id);
        output.Length.ShouldBe((int)run.StdoutBytes);
        output.ShouldBe(string.Concat(Enumerable.Range(1, 1_400_000).Select(i => $"{i}\n")));
    }

    [Fact]
    public async Task A_full_disk_under_the_journal_refuses_the_order_with_the_reason()
    {
        await using var world = await World.StartAsync();
        await world.EnrolAsync("plover-log-01");
        var state = world.StateOf("plover-log-01");
        var disk = world.In("disk");
        Directory.CreateDirectory(disk);
        string[] enter = Environment.IsPrivilegedProcess ? ["--mount"] : ["--mount", "--map-root-user", "--user"];
        var script = $"mount -t tmpfs -o size=64k tmpfs {disk} && cp -r {state}/. {disk}/ && cat /dev/zero > {disk}/ballast; exec {TestPrograms.PathOf("umbrek-agent")} run --state {disk}";
        await using var agent = TestPrograms.Start("/usr/bin/unshare", [.. enter, "sh", "-c", script]);
        await world.UntilAsync("plover-log-01", "linked");
        var marker = world.In("marker");
        var run = (await world.EndedAsync((await world.MakeJobAsync("plover-log-01", $"touch {marker}")).Id)).Runs[0];
        run.State.ShouldBe(RunState.Refused);
        run.Reason!.ShouldContain("Nothing was run");
        File.Exists(marker).ShouldBeFalse();
    }
}
