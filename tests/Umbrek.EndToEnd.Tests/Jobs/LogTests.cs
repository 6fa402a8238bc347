using System.Diagnostics;
using System.Text.Json;
using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Jobs;

/// <summary>The journal of a host with a real journal daemon, and a file there: read and followed with the client and in the console.</summary>
public sealed class LogTests
{
    private const string Daemon = """
        mount -t tmpfs none /run && mount -t tmpfs none /var/log && mkdir -p /run/systemd/journal /run/log/journal
        /usr/lib/systemd/systemd-journald </dev/null >/dev/null 2>&1 &
        until [ -S /run/systemd/journal/socket ]; do sleep 0.05; done
        """;

    [Fact]
    public async Task The_journal_and_a_file_are_read_filtered_exported_and_followed()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        await world.SignInClientAsync();
        var host = await lan.AddAsync("quay-ticket-01");
        (await host.RunAsync(world.SilentLine(await world.NewInstallerAsync()))).Status.ShouldBe(0);
        await world.UntilAsync("quay-ticket-01", "linked");
        (await world.ClientAsync(null, "log", "show", "quay-ticket-01")).Stderr.ShouldContain("keeps no journal; read one of its log files");

        await using var daemon = host.Start($"{Daemon}\nwait");
        await Wait.UntilAsync(async () => (await host.RunAsync("test -S /run/systemd/journal/socket && journalctl -q -n 1")).Status == 0, "the journal");
        await WriteAsync(host, "MESSAGE=no paper\nPRIORITY=3\nSYSLOG_IDENTIFIER=kiosk");
        await WriteAsync(host, "MESSAGE=the tide \"turns\", again\nPRIORITY=4\nSYSLOG_IDENTIFIER=tide");
        await WriteAsync(host, "MESSAGE=a ticket was sold\nPRIORITY=6\nSYSLOG_IDENTIFIER=kiosk");
        await Wait.UntilAsync(async () => (await host.RunAsync("journalctl -q -t kiosk -o cat")).Stdout.Contains("sold", StringComparison.Ordinal), "the last line");

        // Their own marks tell ours from what this machine's kernel says.
        (await world.ClientAsync(null, "log", "show", "quay-ticket-01", "--text", "kiosk", "--output", "csv")).Stdout.ShouldMatch(@"\Aat,severity,source,pid,text\r\n[^,]+Z,error,kiosk,\d+,no paper\r\n[^,]+Z,information,kiosk,\d+,a ticket was sold\r\n\z");
        using (var json = JsonDocument.Parse((await world.ClientAsync(null, "log", "show", "quay-ticket-01", "--text", "tide", "--severity", "warning", "--output", "json")).Stdout))
        {
            json.RootElement.EnumerateArray().ShouldHaveSingleItem().GetProperty("text").GetString().ShouldBe("the tide \"turns\", again");
        }
        (await world.ClientAsync(null, "log", "show", "quay-ticket-01", "--text", "kiosk", "--severity", "error")).Stdout.ShouldMatch(@"\A\d{4}-\d\d-\d\d \d\d:\d\d:\d\d  error        kiosk\[\d+\]: no paper\n\z");
        await WriteAsync(host, $"MESSAGE={new string('x', 5000)}\nPRIORITY=6\nSYSLOG_IDENTIFIER=ebb");
        await Wait.UntilAsync(async () => (await world.ClientAsync(null, "log", "show", "quay-ticket-01", "--text", "ebb")).Stdout.Contains("a text of more than 4 KiB", StringComparison.Ordinal), "the long line to be told of");
        (await world.ClientAsync(null, "log", "show", "quay-ticket-01", "--text", "lantern")).ShouldSatisfyAllConditions(r => r.Status.ShouldBe(4), r => r.Stderr.ShouldBe("The journal of quay-ticket-01 has no such line.\n"));
        (await world.ClientAsync(null, "log", "show", "quay-ticket-01", "--severity", "loud")).Stderr.ShouldContain("'loud' is no severity");
        (await host.RunAsync("printf '2026-11-26T08:00:00Z quay kiosk[3]: ERROR no ink\\nwhat follows\\n' >/var/log/kiosk.log")).Status.ShouldBe(0);
        (await world.ClientAsync(null, "log", "list", "quay-ticket-01", "--output", "csv")).Stdout.ShouldContain("/var/log/kiosk.log,62,");
        (await world.ClientAsync(null, "log", "show", "quay-ticket-01", "--file", "/var/log/kiosk.log")).Stdout.ShouldBe($"2026-11-26 08:00:00  error        kiosk[3]: ERROR no ink\n{new string(' ', 19)}               what follows\n");

        var order = new ProcessStartInfo("/usr/bin/script", ["-qefc", $"exec env --default-signal=INT {TestPrograms.PathOf("umbrek")} log follow quay-ticket-01 --text kiosk --lines 1", world.In("screen")]) { RedirectStandardInput = true, RedirectStandardOutput = true };
        order.Environment["UMBREK_HOME"] = world.In("client");
        using var following = Process.Start(order)!;
        following.BeginOutputReadLine();
        string Screen() => File.Exists(world.In("screen")) ? File.ReadAllText(world.In("screen")) : "";
        await Wait.UntilAsync(() => Screen().Contains("a ticket was sold", StringComparison.Ordinal), "the line that was there");
        await WriteAsync(host, "MESSAGE=paper is back\nPRIORITY=5\nSYSLOG_IDENTIFIER=kiosk");
        await Wait.UntilAsync(() => Screen().Contains("paper is back", StringComparison.Ordinal), "the line that came");
        await following.StandardInput.WriteAsync('\u0003');
        await following.StandardInput.FlushAsync();
        await following.WaitForExitAsync();
        following.ExitCode.ShouldBe(0, Screen());
        Screen().ShouldNotContain("no paper");

        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GotoAsync($"{world.Address}hosts/{(await world.HostAsync("quay-ticket-01")).Id}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Look into the logs of quay-ticket-01" }).ClickAsync();
        // Asked for one after another, before the first ones have opened: what was wanted last is shown, and nothing is complained of.
        foreach (var text in (string[])["lantern", "ebb", "kiosk"])
        {
            await page.GetByLabel("Lines that hold").FillAsync(text);
            await page.GetByLabel("Lines that hold").PressAsync("Enter");
        }
        var log = page.GetByRole(AriaRole.Log, new() { Name = "the journal of quay-ticket-01" });
        await page.GetByText("3 lines; new ones come by themselves.").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("");
        await WriteAsync(host, "MESSAGE=the lid is open\nPRIORITY=3\nSYSLOG_IDENTIFIER=kiosk");
        await log.GetByText("the lid is open").WaitForAsync();
        var saving = page.WaitForDownloadAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Save as CSV" }).ClickAsync();
        var saved = await saving;
        saved.SuggestedFilename.ShouldBe("quay-ticket-01-log.csv");
        (await File.ReadAllTextAsync((await saved.PathAsync())!)).ShouldContain(",the lid is open\r\n");
        await page.GetByRole(AriaRole.Combobox, new() { Name = "Which log" }).FillAsync("/var/log/kiosk.log");
        await page.GetByLabel("Lines that hold").FillAsync("");
        await page.GetByRole(AriaRole.Button, new() { Name = "Show", Exact = true }).ClickAsync();
        await page.GetByRole(AriaRole.Log, new() { Name = "/var/log/kiosk.log of quay-ticket-01" }).GetByText("ERROR no ink").WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }

    private static async Task WriteAsync(LanHost host, string fields) => (await host.RunAsync("logger --journald", fields + "\n")).Status.ShouldBe(0);
}
