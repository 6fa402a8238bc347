using System.Net.NetworkInformation;
using System.Net.Sockets;
using Microsoft.Playwright;
using Umbrek.Core.Access;
using Umbrek.Core.Inventory;
using Umbrek.Core.Jobs;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Jobs;

namespace Umbrek.EndToEnd.Tests.Jobs;

/// <summary>Hosts of the test's own really go down, and come back when the test, in place of their firmware, starts them.</summary>
public sealed class PowerTests
{
    [Fact]
    public async Task A_host_is_restarted_shut_down_and_woken_by_a_neighbour()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        await world.SignInClientAsync();
        var (host, neighbour) = (await lan.AddAsync("quay-office-01"), await lan.AddAsync("quay-office-02"));
        var installer = await world.NewInstallerAsync(new NewInstaller(World.Group, MaxUses: 2, Policy: HostPolicy.Everything));
        foreach (var one in new[] { host, neighbour })
        {
            (await one.RunAsync(world.SilentLine(installer))).Status.ShouldBe(0);
            await world.UntilAsync(one.Name, "linked");
        }

        (await world.ClientAsync("", "power", "restart", "--on", "quay-office-01")).Stderr.ShouldBe("Restart quay-office-01 of Saltmarsh Ferry: add --yes to say that you are sure.\n");
        var restart = world.ClientAsync(null, "power", "restart", "--on", "quay-office-01", "--yes");
        await host.DownAsync();
        await world.UntilAsync("quay-office-01", "away");
        restart.IsCompleted.ShouldBeFalse();
        await host.RestartAsync();
        var back = await restart;
        back.Stdout.ShouldContain("quay-office-01 | The computer restarts now.\n");
        back.Stdout.ShouldMatch(@"quay-office-01 \| It is back after \d+ s\.\n");
        back.Status.ShouldBe(0, back.Stderr);

        (await world.ClientAsync(null, "power", "wake", "--on", "quay-office-01")).Stderr.ShouldContain("quay-office-01 is awake");
        var off = await world.ClientAsync(null, "power", "shut-down", "--on", "quay-office-01", "--yes", "--plain");
        await host.DownAsync();
        await world.UntilAsync("quay-office-01", "away");
        (off.Status, off.Stdout).ShouldBe((0, "The computer shuts down now.\n"), off.Stderr);

        var cards = (await world.Api.GetAsync($"hosts/{(await world.HostAsync("quay-office-01")).Id}", WireJson.Default.HostDetail, default)).Facts.Single(f => f.Name == FactNames.NetworkCards).Value.EnumerateArray().Select(c => NetworkCard.Read(c.GetString())!).ToList();
        cards.Select(c => $"{c.Address} {c.Network}").ShouldBe([$"{host.Address} 198.51.100.0/24", "2001:db8:77::11 2001:db8:77::/64"], ignoreOrder: true);
        using var firmware = lan.Within(() => new UdpClient(MagicPacket.Port));
        var wake = world.ClientAsync(null, "power", "wake", "--on", "quay-office-01");
        PhysicalAddress? woken = null;
        while (woken is null)
        {
            woken = MagicPacket.Read((await firmware.ReceiveAsync().WaitAsync(TimeSpan.FromMinutes(1))).Buffer);
        }
        woken.ShouldBe(cards[0].Hardware);
        await host.RestartAsync();
        var up = await wake;
        up.Stderr.ShouldContain("quay-office-01: quay-office-02 sends the packet.");
        up.Stderr.ShouldMatch(@"quay-office-01 of Saltmarsh Ferry is up after \d+ s\.");
        up.Status.ShouldBe(0, up.Stderr);
        await world.UntilAsync("quay-office-01", "linked");

        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GotoAsync($"{world.Address}hosts/{(await world.HostAsync("quay-office-01")).Id}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Restart …" }).ClickAsync();
        (await browser.ViolationsAsync()).ShouldBe("");
        await page.GetByRole(AriaRole.Button, new() { Name = "Restart quay-office-01 of Saltmarsh Ferry" }).ClickAsync();
        await host.DownAsync();
        await page.GetByText("quay-office-01 restarts; below it says when it is back. If it stays away, quay-office-02 can send the packet that wakes it.").WaitForAsync();
        await host.RestartAsync();
        await page.GetByText("It is back after").First.WaitForAsync();
        // What the page asks of a host that goes down meanwhile is refused (409), which the browser notes.
        browser.Complaints.ShouldAllBe(c => c.Contains("409", StringComparison.Ordinal));
        (await world.Api.GetAsync("audit?action=job.create", WireJson.Default.PageAuditInfo, default)).Items.ShouldContain(l => l.Detail.Contains("wake quay-office-01", StringComparison.Ordinal));
    }

    [Fact]
    public async Task Nobody_wakes_a_host_that_has_no_neighbour()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        await world.SignInClientAsync();
        var host = await lan.AddAsync("quay-office-01");
        (await host.RunAsync(world.SilentLine(await world.NewInstallerAsync()))).Status.ShouldBe(0);
        await world.UntilAsync("quay-office-01", "linked");
        await host.DisposeAsync();
        await world.UntilAsync("quay-office-01", "away");
        var wake = await world.ClientAsync(null, "power", "wake", "--on", "quay-office-01");
        (wake.Status, wake.Stderr).ShouldBe((1, "quay-office-01 can't be woken now: no other host of Saltmarsh Ferry that you may restart is linked in 198.51.100.0/24 or 2001:db8:77::/64.\n"));
        (await world.Api.GetAsync("jobs", WireJson.Default.PageJobInfo, default)).Items.ShouldBeEmpty();
    }
}
