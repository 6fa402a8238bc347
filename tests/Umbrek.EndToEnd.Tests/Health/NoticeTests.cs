using Microsoft.Playwright;
using Umbrek.Core.Health;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Simulation.Health;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Health;

namespace Umbrek.EndToEnd.Tests.Health;

/// <summary>From a real host's figures to a mail and a web hook, set up in Chromium and by the client.</summary>
public sealed class NoticeTests
{
    [Fact]
    public async Task An_alert_of_a_real_host_reaches_a_mailbox_and_a_web_hook_that_were_set_up_in_the_console()
    {
        await using var mailbox = new Mailbox();
        await using var receiver = new HookReceiver();
        await using var world = await World.StartAsync(options: _ => ["--sample-interval", "1", "--hooks-may-reach", "127.0.0.1/32"]);
        await world.SignInClientAsync();
        await world.JoinAsync("plover-log-01");
        await using var browser = await Browser.OpenAsync(1280, 800);
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GetByRole(AriaRole.Link, new() { Name = "Rules" }).ClickAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Notices" }).ClickAsync();
        await page.GetByText("Nobody is told of anything").WaitForAsync();

        // The mail server, with what is wrong said where it is typed.
        await page.GetByRole(AriaRole.Button, new() { Name = "Change how mail goes out …" }).ClickAsync();
        await page.GetByLabel("Mail server").FillAsync("127.0.0.1");
        await page.GetByText("in clear").ClickAsync();
        await page.GetByLabel("Port", new() { Exact = true }).FillAsync($"{mailbox.Port}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Send mail this way" }).ClickAsync();
        await page.GetByText("Say which address the mails come from").WaitForAsync();
        await page.GetByLabel("Mails come from").FillAsync("umbrek@halyard.example");
        await page.GetByRole(AriaRole.Button, new() { Name = "Send mail this way" }).ClickAsync();
        await page.GetByText($"127.0.0.1:{mailbox.Port}").WaitForAsync();

        await page.GetByRole(AriaRole.Button, new() { Name = "New notice …" }).ClickAsync();
        await page.GetByLabel("What it is called").FillAsync("Ines");
        await page.GetByLabel("And to these addresses").FillAsync("ines@halyard.example");
        await page.GetByLabel("Quiet hours", new() { Exact = true }).FillAsync("nights");
        await page.GetByRole(AriaRole.Button, new() { Name = "Let it tell" }).ClickAsync();
        await page.GetByText("'nights' is no period").WaitForAsync();
        await page.GetByLabel("Quiet hours", new() { Exact = true }).FillAsync("");
        await page.GetByRole(AriaRole.Button, new() { Name = "Let it tell" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Try Ines" }).ClickAsync();
        await page.GetByText("A trial has arrived at ines@halyard.example.").WaitForAsync();
        mailbox.Mails.ShouldHaveSingleItem().Message.ShouldContain("tries the notice 'Ines'. Nothing is wrong.");

        await page.GetByRole(AriaRole.Button, new() { Name = "New notice …" }).ClickAsync();
        await page.GetByLabel("What it is called").FillAsync("Desk");
        await page.GetByText("by web hook").ClickAsync();
        await page.GetByLabel("Web address").FillAsync($"{receiver.Address}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Let it tell" }).ClickAsync();
        var secret = (await page.GetByLabel("Secret, in base 64", new() { Exact = true }).TextContentAsync())!.Trim();
        await page.Keyboard.PressAsync("Escape");

        // A check that is raised on any host, and nothing else to do.
        (await world.ClientAsync(null, "check", "new", "Memory in use", "--when", "memory.used > 0 %", "--hold", "10s", "--severity", "warning", "--about", "memory")).Status.ShouldBe(0);
        await Wait.UntilAsync(() => mailbox.Mails.Count == 2, "the mail", 90);
        mailbox.Mails.Last().Message.ShouldContain("Subject: warning: plover-log-01: Memory in use");
        await Wait.UntilAsync(() => !receiver.Calls.IsEmpty, "the event");
        receiver.IsSigned(receiver.Calls.First(), secret).ShouldBeTrue();
        await page.GetByText("raised: Memory in use on plover-log-01").WaitForAsync(new() { Timeout = 60_000 });
        await page.GetByRole(AriaRole.Button, new() { Name = "warning: plover-log-01: Memory in use" }).ClickAsync();
        await page.GetByLabel("What it says").GetByText("Look at it: " + world.Address.GetLeftPart(UriPartial.Authority)).WaitForAsync();
        await page.Keyboard.PressAsync("Escape");

        var (status, stdout, stderr) = await world.ClientAsync(null, "notice", "sent");
        (status, stdout.Contains("raised: Memory in use on plover-log-01", StringComparison.Ordinal)).ShouldBe((0, true), stdout + stderr);
        (await world.ClientAsync(null, "notice", "try", "desk")).Stdout.ShouldContain("It has arrived at");
        (await world.ClientAsync(null, "notice", "off", "Desk")).Stdout.ShouldContain("tells nobody until it is switched on");
        (status, _, stderr) = await world.ClientAsync(null, "notice", "show", "Dsk");
        (status, stderr.Contains("Did you mean 'Desk'?", StringComparison.Ordinal)).ShouldBe((4, true), stderr);

        // In a maintenance window it is shown as quiet; the receiver that was switched off hears nothing more.
        (await world.ClientAsync(null, "maintenance", "new", "New disk", "--host", "plover-log-01", "--for", "1h")).Stdout.ShouldContain("Alerts of 1 host make no noise from now until");
        await page.GetByRole(AriaRole.Link, new() { Name = "Maintenance" }).ClickAsync();
        await page.GetByText("now, until").WaitForAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Now" }).ClickAsync();
        await page.GetByText("maintenance for").WaitForAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "plover-log-01: Memory in use" }).ClickAsync();
        await page.GetByText("told ines@halyard.example").WaitForAsync();
        (status, stdout, stderr) = await world.ClientAsync(null, "maintenance", "end", "New disk");
        (status, stdout.Contains("is over", StringComparison.Ordinal)).ShouldBe((0, true), stdout + stderr);

        // The same on a wall, and on a terminal.
        await page.GotoAsync($"{world.Address}wall");
        await page.GetByText("plover-log-01: Memory in use").WaitForAsync();
        await page.GetByText("1 of 1 linked").First.WaitForAsync();
        stdout = (await world.ClientAsync(null, "watch", "--once")).Stdout;
        stdout.ShouldContain("1 host  1 linked  0 lost");
        stdout.ShouldContain("plover-log-01: Memory in use");
        (await world.ClientAsync(null, "watch", "--once", "--output", "json")).Stdout.ShouldContain("\"overview\":{\"whole\":{\"path\":\"\",\"hosts\":1");
        browser.Complaints.ShouldAllBe(c => c.Contains("400", StringComparison.Ordinal));
    }
}
