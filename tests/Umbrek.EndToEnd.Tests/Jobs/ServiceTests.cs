using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Jobs;

/// <summary>Services of a host of its own, with a stand-in for systemd: seen and moved with the client and in the console.</summary>
public sealed class ServiceTests
{
    private const string Units = "/var/lib/units";

    [Fact]
    public async Task A_service_is_seen_stopped_started_and_enabled()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        await world.SignInClientAsync();
        var host = await lan.AddAsync("quay-ticket-01");
        (await host.RunAsync(world.SilentLine(await world.NewInstallerAsync()))).Status.ShouldBe(0);
        await world.UntilAsync("quay-ticket-01", "linked");
        var prepared = await host.RunAsync($"""
            mount -t tmpfs none /run && mkdir -p /run/systemd/system
            {StandInSystemctl.Unit(Units, "ticket-print")}
            {StandInSystemctl.Unit(Units, "kiosk")}
            cat >/usr/bin/systemctl <<'END'
            {StandInSystemctl.Script(Units)}
            END
            chmod 755 /usr/bin/systemctl; printf '#!/bin/sh\necho the paper is out\n' >/usr/bin/journalctl; chmod 755 /usr/bin/journalctl
            """);
        prepared.Status.ShouldBe(0, prepared.Stderr);

        (await world.ClientAsync(null, "service", "list", "quay-ticket-01", "--output", "csv")).Stdout.ShouldContain("ticket-print,stopped,by hand,2026-03-29T00:00:00Z,,Stands in for ticket-print.service");
        (await world.ClientAsync(null, "service", "start", "ticket-print", "--on", "quay-ticket-01", "--plain")).Stdout.ShouldBe("ticket-print.service is active (running), disabled.\n");
        (await world.ClientAsync(null, "service", "list", "quay-ticket-01", "ticket", "--state", "runs", "--output", "csv")).Stdout.ShouldContain("ticket-print,runs");
        (await world.ClientAsync(null, "service", "restart", "lantern", "--on", "quay-ticket-01", "--plain")).ShouldSatisfyAllConditions(r => r.Status.ShouldBe(3), r => r.Stdout.ShouldBe("There is no service lantern.service on this host.\n"));
        (await world.ClientAsync(null, "service", "stop", "--", "-rf", "--on", "all")).Status.ShouldNotBe(0);
        (await world.ClientAsync(null, "service", "list", "quay-ticket-01", "--state", "asleep")).Stderr.ShouldContain("'asleep' is no state");

        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GotoAsync($"{world.Address}hosts/{(await world.HostAsync("quay-ticket-01")).Id}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Look at the services of quay-ticket-01" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "ticket-print Stands in" }).ClickAsync();
        var acts = page.GetByRole(AriaRole.Group, new() { Name = "ticket-print on quay-ticket-01 of Saltmarsh Ferry" });
        (await acts.GetByRole(AriaRole.Button, new() { Name = "Start", Exact = true }).IsDisabledAsync()).ShouldBeTrue();
        (await browser.ViolationsAsync()).ShouldBe("");
        await acts.GetByRole(AriaRole.Button, new() { Name = "Stop" }).ClickAsync();
        await page.GetByText("ticket-print.service is inactive (dead), disabled.").WaitForAsync();
        // The list says so by itself.
        await acts.GetByRole(AriaRole.Button, new() { Name = "Start with the system" }).ClickAsync();
        await page.GetByText("ticket-print.service is inactive (dead), enabled.").WaitForAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "ticket-print Stands in for ticket-print.service stopped with the system" }).WaitForAsync();
        await acts.GetByRole(AriaRole.Button, new() { Name = "What it needs, and its log" }).ClickAsync();
        await page.GetByText("the paper is out").WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }
}
