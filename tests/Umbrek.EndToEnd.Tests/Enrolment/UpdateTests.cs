using Umbrek.Core.Enrolment;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;

namespace Umbrek.EndToEnd.Tests.Enrolment;

/// <summary>A customer's first day: hosts join by one command, one waits, all are updated in waves, and a bad version goes back.</summary>
public sealed class UpdateTests
{
    private static readonly string[] Quay = ["quay-ticket-01", "quay-ticket-02", "quay-ticket-03"];
    private static readonly string[] Office = ["quay-office-01", "quay-office-02", "quay-office-03"];

    [Fact]
    public async Task Six_hosts_join_two_groups_one_waits_all_are_updated_in_two_waves_and_a_broken_version_goes_back_everywhere()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        await world.Api.PostAsync("groups", new NewGroup("Office", World.Group), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        var quay = await world.NewInstallerAsync();
        var office = await world.NewInstallerAsync(new NewInstaller(World.Group + "/Office", MaxUses: 2));
        var approved = await world.NewInstallerAsync(new NewInstaller(World.Group + "/Office", ApprovalNeeded: true));

        var installing = new List<Task<(int Status, string Stdout, string Stderr)>>();
        foreach (var name in Quay.Concat(Office))
        {
            var host = await lan.AddAsync(name);
            var installer = name == "quay-office-03" ? approved : Quay.Contains(name) ? quay : office;
            installing.Add(host.RunAsync(world.SilentLine(installer)));
        }
        foreach (var done in await Task.WhenAll(installing))
        {
            done.Status.ShouldBe(0, done.Stderr);
        }
        (await installing[5]).Stdout.ShouldContain("waits to be let in");
        await world.SignInClientAsync();
        (await world.ClientAsync(null, "enrolment", "list", "--waiting", "--output", "csv")).Stdout.ShouldContain("quay-office-03");
        (await world.ClientAsync(null, "enrolment", "approve", "quay-office-03")).Stdout.ShouldContain("is let into Saltmarsh Ferry/Quay/Office");
        foreach (var name in Quay.Concat(Office))
        {
            await world.UntilAsync(name, "linked");
            (await world.HostAsync(name)).GroupPath.ShouldBe(Quay.Contains(name) ? World.Group : World.Group + "/Office");
        }

        // A command that runs through it all: an update is no end of what runs on the host.
        var long_ = await world.MakeJobAsync("quay-ticket-01", "sleep 8; echo survived");
        await AddAsync(world, "0.1.1", Next(world, "0.1.1"));
        var updated = await world.ClientAsync(null, "update", "start", "--on", "all", "--waves", "2, rest", "--wait");
        updated.Status.ShouldBe(0, updated.Stdout + updated.Stderr);
        updated.Stdout.ShouldContain("6 hosts are updated to version 0.1.1 in 2 waves");
        updated.Stdout.ShouldContain("done: 6 of 6 run version 0.1.1");
        (await world.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items.ShouldAllBe(h => h.AgentVersion == "0.1.1");
        var run = (await world.EndedAsync(long_.Id)).Runs[0];
        run.State.ShouldBe(Core.Jobs.RunState.Succeeded, run.Reason);
        (await world.OutputAsync(run.Id)).ShouldBe("survived\n");

        // It answers --version and dies when it is run.
        var broken = world.In("broken");
        await File.WriteAllTextAsync(broken, "#!/bin/sh\n[ \"$1\" = --version ] && echo 0.2.0 && exit 0\nexit 7\n");
        await AddAsync(world, "0.2.0", broken);
        var failed = await world.ClientAsync(null, "update", "start", "--on", "all", "--waves", "100%", "--failures-allowed", "6", "--wait");
        failed.Status.ShouldBe(1, failed.Stdout);
        failed.Stdout.ShouldContain("0 of 6 run version 0.2.0");
        failed.Stdout.Split("went back: the new version ended 3 times").Length.ShouldBe(7, failed.Stdout);
        var hosts = (await world.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items;
        hosts.ShouldAllBe(h => h.AgentVersion == "0.1.1" && h.Presence.State == Core.Estate.PresenceState.Linked);

        // And with no failure allowed it stops at the first wave by itself.
        var stopped = await world.ClientAsync(null, "update", "start", "--on", "all", "--waves", "1, rest", "--wait");
        stopped.Status.ShouldBe(1);
        stopped.Stdout.ShouldContain("stopped:");
        var detail = (await world.Api.GetAsync("rollouts", WireJson.Default.PageRolloutInfo, default)).Items[0];
        var members = (await world.Api.GetAsync($"rollouts/{detail.Id}", WireJson.Default.RolloutDetail, default)).Hosts;
        members.Count(m => m.State == UpdateState.WentBack).ShouldBe(1);
        members.Count(m => m.State == UpdateState.Cancelled).ShouldBe(5);
    }

    private static async Task AddAsync(World world, string version, string file)
    {
        var added = await world.ClientAsync(null, "release", "add", file, "--version", version);
        added.Status.ShouldBe(0, added.Stderr);
    }

    /// <summary>The same program under the next version's name: the version's text in its metadata has as many letters.</summary>
    private static string Next(World world, string version)
    {
        var program = File.ReadAllBytes(TestPrograms.PathOf("umbrek-agent"));
        var before = System.Text.Encoding.UTF8.GetBytes("\n0.1.0");
        var at = program.AsSpan().IndexOf(before);
        at.ShouldBeGreaterThan(0);
        System.Text.Encoding.UTF8.GetBytes("\n" + version).CopyTo(program, at);
        var file = world.In("next");
        File.WriteAllBytes(file, program);
        return file;
    }
}
