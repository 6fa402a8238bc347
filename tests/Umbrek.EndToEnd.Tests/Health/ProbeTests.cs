using Microsoft.Playwright;
using Umbrek.Core.Health;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.EndToEnd.Tests.Health;

/// <summary>A real service on a real host: stopped, started again by its check, and broken for good until a person mends it.</summary>
public sealed class ProbeTests
{
    /// <summary>Ticket printing as a host without systemd has it; a file makes it refuse to start.</summary>
    private const string InitScript = """
        mkdir -p /etc/init.d && cat >/etc/init.d/ticket-print <<'END'
        #!/bin/sh
        pid=/var/ticket-print.pid
        case "$1" in
        status) [ -e $pid ] && kill -0 "$(cat $pid)" 2>/dev/null || exit 3 ;;
        stop) kill "$(cat $pid)"; rm -f $pid ;;
        start|restart)
          [ -e /etc/no-paper ] && echo "there is no paper" && exit 1
          setsid sh -c "echo \$\$ >$pid; exec sleep 100000" </dev/null >/dev/null 2>&1 &
          ;;
        esac
        END
        chmod 755 /etc/init.d/ticket-print && /etc/init.d/ticket-print start
        """;

    [Fact]
    public async Task A_stopped_service_is_started_again_and_one_that_can_t_be_reaches_people_by_mail_web_hook_and_console()
    {
        await using var told = new Told();
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan, options: _ => ["--hooks-may-reach", "127.0.0.1/32"]);
        await world.SignInClientAsync();
        await told.TellAsync(world);
        var host = await lan.AddAsync("quay-ticket-03");
        (await host.RunAsync(InitScript)).Status.ShouldBe(0);
        var installed = await host.RunAsync(world.SilentLine(await world.NewInstallerAsync()));
        installed.Status.ShouldBe(0, installed.Stderr);
        await world.UntilAsync("quay-ticket-03", "linked");
        var id = (await world.HostAsync("quay-ticket-03")).Id;

        var tried = await world.ClientAsync(null, "check", "look", "--service", "ticket-print", "--on", "quay-ticket-03");
        (tried.Status, tried.Stdout).ShouldSatisfyAllConditions(t => t.Status.ShouldBe(0, tried.Stderr), t => t.Stdout.ShouldContain("Service ticket-print runs."), t => t.Stdout.ShouldContain("It would be bad on 0 of 1 host."));
        var made = await world.ClientAsync(null, "check", "new", "Ticket printing runs", "--service", "ticket-print", "--restart", "--every", "10s", "--grace", "0s", "--hold", "10s",
            "--severity", "critical", "--about", "services", "--group", World.Group, "--follows", "Passengers get no tickets.");
        made.Status.ShouldBe(0, made.Stderr);
        await UntilStandsAsync(ProbeState.Well);

        (await host.RunAsync("/etc/init.d/ticket-print stop")).Status.ShouldBe(0);
        await Wait.UntilAsync(async () => (await host.RunAsync("/etc/init.d/ticket-print status")).Status == 0, "the service to be started again");
        await Wait.UntilAsync(async () => (await TimelineAsync()).Any(e => e.Text.StartsWith("Ticket printing runs: Well again", StringComparison.Ordinal)), "the time line to tell");
        (await TimelineAsync()).ShouldContain(e => e.Text == "Ticket printing runs: service ticket-print was started again.");
        told.Events("ticket-printing-runs").ShouldBe(0);

        // Now it can't start: the agent tries, and people hear of it.
        (await host.RunAsync("touch /etc/no-paper; /etc/init.d/ticket-print stop")).Status.ShouldBe(0);
        await Wait.UntilAsync(() => told.Events("umbrek.alert.raised", "Service ticket-print does not run.") > 0 && told.Mails("Service ticket-print does not run") > 0, "the event and the mail", 300);
        (await TimelineAsync()).ShouldContain(e => e.Text == "Ticket printing runs: service ticket-print could not be started again (1): there is no paper");
        await using var browser = await Browser.OpenAsync(1280, 800);
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GetByRole(AriaRole.Link, new() { Name = "Now" }).ClickAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Service ticket-print does not run" }).ClickAsync();
        await page.GetByText("Passengers get no tickets.").WaitForAsync();
        await page.GotoAsync($"{world.Address}hosts/{id}");
        await page.GetByRole(AriaRole.Heading, new() { Name = "What its agent looks at" }).WaitForAsync();
        await page.GetByText("Service ticket-print does not run.").First.WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBeEmpty();

        await page.GotoAsync($"{world.Address}rules");
        await page.GetByRole(AriaRole.Button, new() { Name = "Ticket printing runs, host by host" }).ClickAsync();
        // The agent looks every 10 s, tries to start it, looks again, and reports every 15 s.
        await page.GetByRole(AriaRole.Dialog).GetByText("failed", new() { Exact = true }).WaitForAsync(new() { Timeout = 60_000 });
        await page.Keyboard.PressAsync("Escape");
        (await world.ClientAsync(null, "check", "hosts", "ticket-printing-runs", "--output", "csv")).Stdout.ShouldContain("quay-ticket-03");

        // A check made in the console, first tried there.
        await page.GetByRole(AriaRole.Button, new() { Name = "New check …" }).ClickAsync();
        var dialog = page.GetByRole(AriaRole.Dialog);
        await dialog.GetByLabel("What it is called").FillAsync("Service answers");
        await dialog.GetByText("what agents look at").ClickAsync();
        await dialog.GetByLabel("What has to be so").ClickAsync();
        await page.GetByRole(AriaRole.Option, new() { Name = "a port takes connections" }).ClickAsync();
        await dialog.GetByLabel("Host and TCP port").FillAsync($"{Lan.Address}");
        await dialog.GetByLabel("Hosts that look now, as a selection").FillAsync("quay-ticket-03");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Look once, now" }).ClickAsync();
        await dialog.GetByText("Name a host and its port").WaitForAsync();
        await dialog.GetByLabel("Host and TCP port").FillAsync($"{Lan.Address}:{world.Address.Port}");
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Look once, now" }).ClickAsync();
        await dialog.GetByText("It would be bad on 0 of 1 host.").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBeEmpty();
        await dialog.GetByRole(AriaRole.Button, new() { Name = "Let it count" }).ClickAsync();
        await page.GetByText($"port {Lan.Address}:{world.Address.Port} takes no connection").WaitForAsync();

        (await host.RunAsync("rm /etc/no-paper; /etc/init.d/ticket-print start")).Status.ShouldBe(0);
        await Wait.UntilAsync(async () => (await world.Api.GetAsync("alerts", WireJson.Default.PageAlertLine, default)).Items.All(l => l.Alerts.All(a => a.Check != "ticket-printing-runs")), "the alert to clear");

        async Task UntilStandsAsync(ProbeState state) => await Wait.UntilAsync(
            async () => (await world.Api.GetAsync("checks/ticket-printing-runs/hosts", WireJson.Default.PageProbeOnHost, default)).Items.Single().Result?.State == state, $"the probe to be {state}");

        async Task<IReadOnlyList<TimelineEntry>> TimelineAsync() => (await world.Api.GetAsync($"hosts/{id}/timeline", WireJson.Default.PageTimelineEntry, default)).Items;
    }
}
