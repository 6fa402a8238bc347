using System.Text.Json;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Core.Jobs;
using Umbrek.Tests;
using Umbrek.Wire;

namespace Umbrek.Agent.Tests.Jobs;

/// <summary>Services as systemctl tells of them, and what is done with them: with a stand-in for systemctl, for no systemd runs here, and with init scripts.</summary>
public sealed class ServiceTests : IDisposable
{
    private readonly TestDirectory directory = new();

    public void Dispose() => directory.Dispose();

    [Fact]
    public void Units_are_read_as_systemctl_shows_them()
    {
        var services = LinuxServiceList.ReadUnits(
            """
            Id=cups.service
            Description=CUPS Scheduler
            LoadState=loaded
            ActiveState=active
            SubState=running
            Type=notify
            UnitFileState=enabled
            MainPID=812
            MemoryCurrent=4096
            StateChangeTimestamp=@1774742400

            Id=ticket-print.service
            Description=Ticket printing = paper
            LoadState=loaded
            ActiveState=failed
            SubState=failed
            UnitFileState=disabled
            MainPID=0
            MemoryCurrent=[not set]
            StateChangeTimestamp=

            Id=keyboard.service
            LoadState=loaded
            ActiveState=active
            SubState=exited
            UnitFileState=static

            Id=gone.service
            LoadState=not-found
            ActiveState=inactive

            Id=nfs.service
            LoadState=masked
            ActiveState=inactive
            SubState=dead
            UnitFileState=masked
            """,
            """
            cups.service       enabled  enabled
            rsync.service      disabled enabled
            getty@.service     enabled  enabled
            dbus-org.service   alias    -
            tidy.timer         enabled  enabled
            """);
        services.ShouldBe(
        [
            new HostService("cups", "CUPS Scheduler", ServiceState.Runs, ServiceStart.WithSystem, "running", DateTimeOffset.FromUnixTimeSeconds(1774742400), 812, 4096),
            new HostService("keyboard", null, ServiceState.Done, ServiceStart.ByOthers, "exited"),
            new HostService("nfs", null, ServiceState.Stopped, ServiceStart.Never, "dead"),
            new HostService("rsync", null, ServiceState.Stopped, ServiceStart.ByHand, "not loaded"),
            new HostService("ticket-print", "Ticket printing = paper", ServiceState.Failed, ServiceStart.ByHand, "failed"),
        ]);
        LinuxServiceList.ReadUnits("", "").ShouldBeEmpty();
    }

    [Fact]
    public async Task What_is_done_with_a_unit_is_said_as_systemctl_says_it()
    {
        using var units = new StandInUnits(directory, "ticket-print");
        (await units.ActAsync("ticket-print", ServiceAct.Start)).ShouldBe((0, "ticket-print.service is active (running), disabled.\n", ""));
        (await units.ActAsync("ticket-print.service", ServiceAct.Enable)).Stdout.ShouldBe("ticket-print.service is active (running), enabled.\n");
        (await units.ActAsync("ticket-print", ServiceAct.Stop)).Stdout.ShouldBe("ticket-print.service is inactive (dead), enabled.\n");
        var shown = await units.ActAsync("ticket-print", ServiceAct.Show);
        shown.Stdout.ShouldContain("ActiveState=inactive");
        shown.Stdout.ShouldContain("Last lines of its log:\nthe paper is out");
        (await units.ActAsync("cups", ServiceAct.Restart)).ShouldBe((4, "There is no service cups.service on this host.\n", ""));

        // What systemctl refuses, and what fails a moment later.
        units.Break("ticket-print", refuses: true);
        var refused = await units.ActAsync("ticket-print", ServiceAct.Restart);
        (refused.Status, refused.Stderr).ShouldBe((1, "Job for ticket-print.service failed.\n"));
        units.Break("ticket-print", refuses: false);
        (await units.ActAsync("ticket-print", ServiceAct.Start)).ShouldBe((1, "ticket-print.service is failed (failed), enabled.\n", ""));
        (await units.ActAsync("umbrek-agent", ServiceAct.Stop)).Stdout.ShouldContain("without which nobody reaches it");
        units.Said.ShouldNotContain("umbrek-agent");
    }

    [Theory]
    [InlineData("--help")]
    [InlineData("../../etc/passwd")]
    [InlineData("a b")]
    [InlineData("")]
    [InlineData("cups;reboot")]
    public void A_name_that_is_none_is_refused(string name) =>
        new CommandSpec { Action = new HostAction { Service = new ServiceWish(name, ServiceAct.Stop) } }.Check()!.ShouldContain("is no name of a service");

    [Fact]
    public async Task Where_there_is_no_systemd_init_scripts_are_asked()
    {
        using var scripts = new StandInScripts(directory);
        (await scripts.ActAsync("tide", ServiceAct.Start)).ShouldBe((0, "started\nruns\n", ""));
        (await scripts.ActAsync("tide", ServiceAct.Stop)).ShouldBe((0, "stopped\ndoes not run\n", ""));
        (await scripts.ActAsync("tide", ServiceAct.Show)).Stdout.ShouldContain("Short-Description: Counts tides");
        (await scripts.ActAsync("ebb", ServiceAct.Start)).ShouldBe((4, "There is no service ebb on this host.\n", ""));
    }
}

/// <summary>The agent's program with another /run and /etc/init.d than this machine's: in a mount namespace of its own.</summary>
internal abstract class StandIn(TestDirectory directory) : IDisposable
{
    protected TestDirectory Directory => directory;

    /// <summary>Shell lines that put the stand-in into its place.</summary>
    protected abstract string Prepare { get; }

    public Task<(int Status, string Stdout, string Stderr)> ActAsync(string name, ServiceAct act) =>
        TestPrograms.RunAsync("/usr/bin/unshare", ["--mount", "/bin/sh", "-ec", $"{Prepare}\nexec {TestPrograms.PathOf("umbrek-agent")} act"], JsonSerializer.Serialize(new HostAction { Service = new ServiceWish(name, act) }, LinkJson.Default.HostAction));

    public void Dispose()
    {
    }

    protected void Write(string name, string text)
    {
        File.WriteAllText(directory.In(name), text);
        if (OperatingSystem.IsLinux())
        {
            File.SetUnixFileMode(directory.In(name), (UnixFileMode)0b111_101_101);
        }
    }
}

/// <summary>With a stand-in for systemctl, and a directory that says that systemd runs (sd_booted(3)).</summary>
internal sealed class StandInUnits : StandIn
{
    private readonly string[] units;

    public StandInUnits(TestDirectory directory, params string[] units) : base(directory)
    {
        this.units = units;
        Write("systemctl", StandInSystemctl.Script(directory.In("units")));
        Write("journalctl", "#!/bin/sh\necho the paper is out\n");
    }

    /// <summary>What it was told, a line for each time.</summary>
    public string Said => File.ReadAllText(Directory.In("units/said"));

    protected override string Prepare => $"mount -t tmpfs none /run; mkdir -p /run/systemd/system; export PATH={Directory.In("")}:$PATH; {string.Join("; ", units.Where(u => !File.Exists(Directory.In($"units/{u}.service.active"))).Select(u => StandInSystemctl.Unit(Directory.In("units"), u)))}";

    public void Break(string unit, bool refuses)
    {
        File.Delete(Directory.In($"units/{unit}.service.refuses"));
        File.WriteAllText(Directory.In($"units/{unit}.service.{(refuses ? "refuses" : "fails")}"), "");
    }
}

internal sealed class StandInScripts : StandIn
{
    public StandInScripts(TestDirectory directory) : base(directory)
    {
        System.IO.Directory.CreateDirectory(directory.In("init.d"));
        Write("init.d/tide", $$"""
            #!/bin/sh
            ### BEGIN INIT INFO
            # Provides:          tide
            # Short-Description: Counts tides
            ### END INIT INFO
            case "$1" in
              start) touch {{directory.In("runs")}}; echo started;;
              stop) rm {{directory.In("runs")}}; echo stopped;;
              status) if [ -f {{directory.In("runs")}} ]; then echo runs; else echo does not run; exit 3; fi;;
            esac

            """);
    }

    protected override string Prepare => $"mount -t tmpfs none /run; mount --bind {Directory.In("init.d")} /etc/init.d";
}
