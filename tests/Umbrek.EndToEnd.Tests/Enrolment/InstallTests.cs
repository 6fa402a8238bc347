using System.Text.Json;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Enrolment;

namespace Umbrek.EndToEnd.Tests.Enrolment;

/// <summary>Installing on hosts of their own, by what an installer hands out.</summary>
public sealed class InstallTests
{
    [Fact]
    public async Task One_line_installs_joins_and_keeps_the_agent_over_a_crash_and_a_restart_and_uninstalling_leaves_nothing()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        var host = await lan.AddAsync("quay-ticket-01");
        var installer = await world.NewInstallerAsync();

        var (status, stdout, stderr) = await host.RunAsync(world.ForLan(installer.Command).Replace("sudo ", ""));
        status.ShouldBe(0, stderr);
        stdout.ShouldContain("This computer is quay-ticket-01 in Saltmarsh Ferry ▸ Quay, and linked.");
        (await world.HostAsync("quay-ticket-01")).GroupPath.ShouldBe(World.Group);
        var said = await host.RunAsync("umbrek-agent status");
        said.Status.ShouldBe(0, said.Stdout);
        said.Stdout.ShouldContain("linked since");
        said.Stdout.ShouldContain("run commands");
        said.Stdout.ShouldContain("Nothing is wrong.");
        (await host.WrittenAsync("*umbrek*")).ShouldContain("/opt/u/umbrek-agent");

        (await host.RunAsync("pkill -KILL -f '[u]mbrek-agent run'")).Status.ShouldBe(0);
        await IsBackAsync(world, "quay-ticket-01");
        await host.RestartAsync();
        await IsBackAsync(world, "quay-ticket-01");

        var removed = await host.RunAsync("umbrek-agent uninstall");
        removed.Status.ShouldBe(0, removed.Stderr);
        removed.Stdout.ShouldContain("The service knows");
        await Wait.UntilAsync(async () => (await world.HostAsync("quay-ticket-01")).Presence.Reason == AwayReason.AgentRemoved, "the service to know that the agent left");
        (await host.RunAsync("pgrep -fa '[u]mbrek-agent'")).Stdout.ShouldBeEmpty();
        (await host.WrittenAsync("*umbrek*")).ShouldBe("");
    }

    [Fact]
    public async Task A_package_carries_its_settings_and_installs_and_removes_itself()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        var host = await lan.AddAsync("quay-office-01");
        var installer = await world.NewInstallerAsync(new NewInstaller(World.Group, Policy: new HostPolicy([HostAct.Watch], ConsentRule.Always), AccessKey: AccessKeyRule.Generate));
        var secret = installer.Link.Split('/')[^1];

        var got = await host.RunAsync($"cd /root && curl -fsSk -OJ {world.LanAddress}/get/{secret}/package && dpkg-deb -c umbrek-agent_*.deb && dpkg -i umbrek-agent_*.deb");
        got.Status.ShouldBe(0, got.Stderr + got.Stdout);
        got.Stdout.ShouldMatch(@"-rw------- root/root +\d+ .*\./etc/umbrek-agent/installer\.json");
        got.Stdout.ShouldContain("./lib/systemd/system/umbrek-agent.service");
        await world.UntilAsync("quay-office-01", "linked");
        var status = await host.RunAsync("umbrek-agent status --output json");
        var said = JsonDocument.Parse(status.Stdout).RootElement;
        said.GetProperty("hasAccessKey").GetBoolean().ShouldBeTrue();
        said.GetProperty("policy").GetProperty("allowed").GetRawText().ShouldContain("watch");

        // The agent keeps to its policy, whatever the service orders.
        var job = await world.EndedAsync((await world.MakeJobAsync("quay-office-01", "touch /root/was-here")).Id);
        job.Runs[0].State.ShouldBe(Core.Jobs.RunState.Refused);
        job.Runs[0].Reason.ShouldNotBeNull().ShouldContain("does not allow commands");
        (await host.RunAsync("test -e /root/was-here")).Status.ShouldBe(1);

        (await host.RunAsync("systemd-analyze verify /lib/systemd/system/umbrek-agent.service 2>&1 | grep -i umbrek")).Stdout.ShouldBeEmpty();
        var purged = await host.RunAsync("dpkg --purge umbrek-agent");
        purged.Status.ShouldBe(0, purged.Stderr);
        (await host.RunAsync("ls -d /etc/umbrek-agent /opt/umbrek-agent /var/lib/umbrek-agent /usr/lib/umbrek-agent 2>/dev/null")).Stdout.ShouldBeEmpty();
        await Wait.UntilAsync(async () => (await world.HostAsync("quay-office-01")).Presence.Reason == AwayReason.AgentRemoved, "the service to know that the agent left");
    }

    [Fact]
    public async Task A_copied_disk_on_a_second_machine_is_noticed_and_becomes_a_host_of_its_own()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        var installer = await world.NewInstallerAsync();
        var original = await lan.AddAsync("orrin-desk-01");
        (await original.RunAsync(world.SilentLine(installer))).Status.ShouldBe(0);
        await world.UntilAsync("orrin-desk-01", "linked");
        var copy = await lan.CopyAsync(original, "orrin-desk-02");
        await copy.RunAsync("rm -f /opt/umbrek-agent/launch.pid; /etc/init.d/umbrek-agent start");
        await Wait.UntilAsync(async () => (await world.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items.Count(h => h.Presence.State == PresenceState.Linked) == 2, "both to be linked under entries of their own");
        var job = await world.EndedAsync((await world.MakeJobAsync("all", "hostname")).Id);
        foreach (var run in job.Runs)
        {
            (await world.OutputAsync(run.Id)).Trim().ShouldBe(run.HostLabel);
        }
        (await world.Api.GetAsync("enrolments", WireJson.Default.PageEnrolmentInfo, default)).Items[0].Detail.ShouldNotBeNull().ShouldContain("copy of orrin-desk-01's");
    }

    [Fact]
    public async Task An_access_key_is_asked_for_on_the_terminal_also_when_the_script_comes_through_a_pipe()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        var host = await lan.AddAsync("visitor-screen-01");
        var installer = await world.NewInstallerAsync(new NewInstaller(World.Group, AccessKey: AccessKeyRule.AskAtInstall));
        var nobody = await host.RunAsync(world.SilentLine(installer));
        nobody.Status.ShouldBe(1);
        nobody.Stderr.ShouldContain("nobody to ask");
        await File.WriteAllTextAsync(world.In("line.sh"), world.ForLan(installer.Command).Replace("sudo ", "") + "\n");
        // A terminal of its own (script(1)); a weak key first, then a good one, twice.
        var asked = await host.RunAsync($"script -qec 'sh {world.In("line.sh")}' /dev/null", "short\nlantern over the quay\nlantern over the quay\n");
        asked.Status.ShouldBe(0, asked.Stdout);
        asked.Stdout.ShouldContain("it needs 12 at least");
        asked.Stdout.ShouldContain("and linked");
        (await host.RunAsync("cat /var/lib/umbrek-agent/access-key.json")).Stdout.ShouldContain("storedKey");
    }

    [Fact]
    public async Task An_installation_waits_for_a_service_that_is_down_and_says_so()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        var host = await lan.AddAsync("quay-ticket-02");
        var installer = await world.NewInstallerAsync();
        await world.StopServiceAsync();
        await using var installing = host.Start(world.SilentLine(installer));
        await installing.UntilSaidAsync("Trying again for up to");
        await world.StartServiceAsync();
        await installing.UntilSaidAsync("and linked");

        var impatient = await lan.AddAsync("quay-ticket-03");
        await world.StopServiceAsync();
        var (status, _, stderr) = await impatient.RunAsync($"{world.SilentLine(installer)} --wait 1s");
        status.ShouldBe(1);
        stderr.ShouldContain("can't be reached");
        (await impatient.RunAsync("ls -d /opt/umbrek-agent /etc/init.d/umbrek-agent 2>/dev/null")).Stdout.ShouldBeEmpty();
        await world.StartServiceAsync();
    }

    [Theory]
    [InlineData("mount -t tmpfs -o ro tmpfs /opt", "Read-only file system")]
    [InlineData("mount -t tmpfs -o noexec tmpfs /opt", "noexec")]
    [InlineData("mount -t tmpfs -o size=2m tmpfs /opt", "space")]
    public async Task A_place_that_can_not_hold_the_agent_is_named_and_nothing_is_enrolled(string mount, string word)
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        var host = await lan.AddAsync("quay-ticket-01", adjust: mount);
        var installer = await world.NewInstallerAsync();
        var silent = world.SilentLine(installer);
        var (status, _, stderr) = await host.RunAsync(silent);
        status.ShouldBe(1);
        stderr.ShouldContain(word);
        stderr.ShouldContain("--directory");
        (await world.Api.GetAsync($"installers/{installer.Info.Id}", WireJson.Default.InstallerDetail, default)).Info.Uses.ShouldBe(0);
        var elsewhere = await host.RunAsync(silent + " --directory /var/umbrek");
        elsewhere.Status.ShouldBe(0, elsewhere.Stderr);
    }

    /// <summary>A new link may take the place of the old before anybody has missed that; what is done now, the new agent does.</summary>
    private static async Task IsBackAsync(World world, string label)
    {
        var run = (await world.EndedAsync((await world.MakeJobAsync(label, "echo back")).Id)).Runs[0];
        run.State.ShouldBe(Core.Jobs.RunState.Succeeded, run.Reason);
        await world.UntilAsync(label, "linked");
    }

    [Fact]
    public async Task A_host_with_ipv6_alone_a_wrong_clock_or_a_proxy_in_between_joins_like_any_other()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        var installer = await world.NewInstallerAsync();
        string Silent(string address) => $"{TestPrograms.PathOf("umbrek-agent")} install --service {address} --token {installer.Token}";

        var six = await lan.AddAsync("plover-log-01", onlyIpv6: true);
        var (status, stdout, stderr) = await six.RunAsync(Silent($"https://[{Lan.Address6}]:{world.Address.Port}"));
        status.ShouldBe(0, stderr);
        stdout.ShouldContain("and linked");

        await using var proxy = new ConnectProxy(lan);
        var behind = await lan.AddAsync("plover-log-02");
        (await behind.RunAsync($"ip route add blackhole default && nft add table inet f && nft 'add chain inet f o {{ type filter hook output priority 0; }}' && nft add rule inet f o tcp dport {world.Address.Port} reject")).Status.ShouldBe(0);
        var blocked = await behind.RunAsync(Silent(world.LanAddress) + " --wait 1s");
        blocked.Status.ShouldBe(1);
        var through = await behind.RunAsync(Silent(world.LanAddress) + $" --proxy http://{Lan.Address}:{proxy.Port}");
        through.Status.ShouldBe(0, through.Stderr);
        through.Stdout.ShouldContain("and linked");
        proxy.Targets.ShouldContain($"{Lan.Address}:{world.Address.Port}");
        await behind.RestartAsync();
        await behind.RunAsync("true");
        await IsBackAsync(world, "plover-log-02");

        var early = await lan.AddAsync("plover-log-03");
        var faked = await early.RunAsync("faketime '-370 days' " + Silent(world.LanAddress));
        faked.Status.ShouldBe(0, faked.Stderr);
        await world.UntilAsync("plover-log-03", "linked");
        var job = await world.EndedAsync((await world.MakeJobAsync("plover-log-03", "date +%Y")).Id);
        job.Runs[0].State.ShouldBe(Core.Jobs.RunState.Succeeded, job.Runs[0].Reason);
        (await world.OutputAsync(job.Runs[0].Id)).Trim().ShouldBe($"{DateTimeOffset.UtcNow.AddDays(-370).Year}");
        await Wait.UntilAsync(async () => (await world.HostAsync("plover-log-03")).SampledAt is { } at && (DateTimeOffset.UtcNow - at).Duration() < TimeSpan.FromMinutes(2), "a sample in the service's time");
    }
}
