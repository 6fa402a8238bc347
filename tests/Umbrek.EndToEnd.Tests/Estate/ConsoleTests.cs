using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Core.Access;
using Umbrek.Core.Health;
using Umbrek.Core.Jobs;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Health;
using Umbrek.Wire.Jobs;

namespace Umbrek.EndToEnd.Tests.Estate;

public sealed class ConsoleTests
{
    [Fact]
    public async Task A_host_appears_when_it_enrols_and_goes_grey_with_the_reason_when_its_agent_stops()
    {
        await using var world = await World.StartAsync();
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GetByText("No host has joined yet").WaitForAsync();

        await world.EnrolAsync("plover-log-01");
        await page.GetByText("plover-log-01").WaitForAsync();
        var agent = world.StartAgent("plover-log-01");
        var row = page.Locator(".hosts-row.host", new() { HasText = "plover-log-01" });
        await row.Locator(".presence", new() { HasTextString = "linked" }).And(page.Locator(":not(.away)")).WaitForAsync();
        await agent.StopAsync();
        await row.GetByText("agent stopped").WaitForAsync();
        (await row.GetAttributeAsync("class")).ShouldBe("hosts-row host away");
        browser.Complaints.ShouldBeEmpty();
    }

    [Fact, Trait("Journey", "Worst")]
    public async Task A_command_is_run_on_a_hosts_page_by_keyboard_and_its_output_arrives_while_it_runs()
    {
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GetByText("plover-log-01").WaitForAsync();

        // "/" finds, Enter opens.
        await page.Locator("body").PressAsync("/");
        await page.Keyboard.TypeAsync("plover");
        await page.Keyboard.PressAsync("Enter");
        await page.GetByRole(AriaRole.Heading, new() { Name = "plover-log-01", Exact = true }).WaitForAsync();
        await page.GetByText("Saltmarsh Ferry ▸ Quay").First.WaitForAsync();
        await page.GetByLabel("Processor: now").Or(page.GetByLabel("Processor: no reading")).WaitForAsync();

        var gate = world.In("gate");
        await page.GetByLabel("Command line for plover-log-01").FillAsync($"echo first; while ! [ -e {gate} ]; do sleep 0.05; done; printf 'last\\033[31m\\n'; exit 4");
        await page.Keyboard.PressAsync("Enter");
        var output = page.GetByLabel("Output of plover-log-01");
        await output.GetByText("first").WaitForAsync();
        (await output.InnerTextAsync()).ShouldNotContain("last");
        await File.WriteAllTextAsync(gate, "");
        await output.GetByText("last␛[31m").WaitForAsync();
        await page.GetByText("failed (4)").First.WaitForAsync();

        await page.GetByRole(AriaRole.Link, new() { Name = "Open the job" }).ClickAsync();
        await page.GetByText("1 failed").WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_job_elsewhere_shows_up_in_the_list_of_jobs_and_can_be_ended_there()
    {
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GetByRole(AriaRole.Link, new() { Name = "Work" }).ClickAsync();
        await page.GetByText("No job yet").WaitForAsync();
        await world.MakeJobAsync("all", "sleep 300");
        await page.GetByText("sleep 300").ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "End it on 1 host" }).ClickAsync();
        await page.GetByText("1 cancelled").WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task The_first_technician_is_made_in_the_console_with_the_code_from_the_terminal()
    {
        using var directory = new TestDirectory();
        var port = TestPorts.Next();
        await using var service = TestPrograms.Start("umbrekd", ["serve", "--data", directory.Path, "--listen", $"http://127.0.0.1:{port}"]);
        await service.UntilSaidAsync("ready", Wait.StartSeconds);
        await using var browser = await Browser.OpenAsync();
        var page = browser.Page;
        await page.GotoAsync($"http://127.0.0.1:{port}");
        await page.GetByLabel("Set-up code").FillAsync("WRON-GCOD-EEEE");
        await page.GetByLabel("Name").FillAsync(World.Name);
        await page.GetByRole(AriaRole.Textbox, new() { Name = "Password" }).FillAsync(World.Password);
        await page.GetByRole(AriaRole.Button, new() { Name = "Make the first technician" }).ClickAsync();
        await page.GetByText("The set-up code is wrong").WaitForAsync();
        await page.GetByLabel("Set-up code").FillAsync(service.Said("set-up code")!.ToLowerInvariant());
        await page.GetByRole(AriaRole.Button, new() { Name = "Make the first technician" }).ClickAsync();
        await page.GetByText("No host has joined yet").WaitForAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "sign out" }).ClickAsync();
        await page.GetByRole(AriaRole.Heading, new() { Name = "Sign in" }).WaitForAsync();
    }

    [Theory]
    [InlineData(1280, 800, ColorScheme.Dark)]
    [InlineData(390, 844, ColorScheme.Light)]
    public async Task Every_page_is_accessible_and_fits_its_screen(int width, int height, ColorScheme scheme)
    {
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        var job = await world.MakeJobAsync("plover-log-01", "echo hello; exit 3");
        await world.EndedAsync(job.Id);
        var installer = await world.NewInstallerAsync(new NewInstaller(World.Group, "for the kiosks", ApprovalNeeded: true));
        await world.EnrolAsync("quay-ticket-01", installer.Token);
        var group = (await world.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items[0].Id;
        await world.Api.PostAsync("secrets", new NewSecret(SecretKind.Logon, "ebb-lantern-9-moorings", GroupId: group, Name: "local administrator of all kiosks", UserName: "quayadmin"), WireJson.Default.NewSecret, WireJson.Default.SecretInfo, default);
        var rotation = await world.Api.PostAsync("key-rotations", new NewKeyRotation("plover-log-01"), WireJson.Default.NewKeyRotation, WireJson.Default.KeyRotationDetail, default);
        await Wait.UntilAsync(async () => (await world.Api.GetAsync($"key-rotations/{rotation.Info.Id}", WireJson.Default.KeyRotationDetail, default)).Info.IsOver, "the host to have its key");
        await world.Api.PostAsync("checks", new NewCheck("Memory in use", Subsystem.Memory, Severity.Information, "memory.used > 0 %", HoldSeconds: 10), WireJson.Default.NewCheck, WireJson.Default.CheckInfo, default);
        var notice = (await world.Api.PostAsync("notices", new NewNotice("Observatory's own desk", NoticeWay.Hook, Severity.Information, GroupId: group, Url: "http://127.0.0.1:9/a-path-that-is-rather-long-for-a-telephone/alerts"), WireJson.Default.NewNotice, WireJson.Default.NoticeMade, default)).Notice;
        (await world.Api.ActAsync($"notices/{notice.Id}/try", WireJson.Default.DeliveryInfo, default)).Problem!.ShouldContain("--hooks-may-reach");
        await world.Api.PostAsync("maintenance", new NewMaintenance("Updates on Sunday night", 180, GroupId: group, On: "tidewell-*", Note: "the libraries are closed"), WireJson.Default.NewMaintenance, WireJson.Default.MaintenanceInfo, default);
        var runbook = (await world.Api.PostAsync("scripts", new NewScript("Look at the kiosk of the ticket office", new CommandSpec { Steps = [new RunbookStep("Ask whether it sells tickets", "true", MayFail: true), new RunbookStep("Start what sells them", "echo started", When: [new StepCondition(ConditionKind.Failed, "Ask whether it sells tickets")])] }), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, default)).Script;
        await world.Api.PostAsync("reactions", new NewReaction("Kiosks that stopped selling", "service-failed", runbook.Id, GroupId: group, WaitSeconds: 300), WireJson.Default.NewReaction, WireJson.Default.ReactionInfo, default);
        var alert = Guid.Empty;
        await Wait.UntilAsync(async () => (await world.Api.GetAsync("alerts?check=memory-in-use", WireJson.Default.PageAlertLine, default)).Items is [{ Alerts: [var one, ..] }, ..] && (alert = one.Id) != default, "an alert");
        await using var browser = await Browser.OpenAsync(width, height);
        await browser.Page.EmulateMediaAsync(new() { ColorScheme = scheme });
        await browser.SignInAsync(world);
        var host = await world.HostAsync("plover-log-01");
        foreach (var (path, sign) in new[] { ("hosts", "plover-log-01"), ("hosts?as=tiles", "plover-log-01"), ("hosts/groups", "New customer"), ("hosts/customers", "nobody named"), ($"hosts/{host.Id}", "Kernel"), ("work", "echo hello"), ($"work/{job.Id}", "1 failed"), ($"work/{job.Id}?view=answers", "count as equal"), ($"work/{job.Id}?view=search", "Text in the output"), ("work/new", "A script"), ("work/runbooks", "Look at the kiosk"), ("work/runbooks/new", "As it is read"), ($"work/runbooks/{runbook.Id}", "Start what sells them"), ($"work/runbooks/{runbook.Id}/edit", "Keep version 2"), ("people", "lead on everything"), ("people/reach", "Saltmarsh Ferry"), ("people/roles", "reveal-secrets"), ("people/audit", "technician.create"), ("people/vault", "The vault itself"), ("sessions", "another access key"), ("now", "Every customer"), ($"now/{alert}", "What happened in the day before"), ("rules", "Storage fills up"), ("rules/notices", "raised: Memory in use"), ("rules/reactions", "Kiosks that stopped selling"), ("rules/maintenance", "now, until"), ("wall", "Memory in use"), ($"hosts/compare?hosts={host.Id}", "Up to 6"), ("rules/policies", "What hosts allow at all"), ("account", "Passkeys"), ("join", "to be let in"), ($"join/{installer.Info.Id}", "Hand it out"),
            ("join/find", "Nobody has looked around"), ("join/agents", "Update agents"), (installer.Link[$"{world.Address}".Length..], "What it allows"), ("nowhere", "no such page") })
        {
            await browser.Page.GotoAsync($"{world.Address}{path}");
            await browser.Page.GetByText(sign).First.WaitForAsync();
            (await browser.ViolationsAsync()).ShouldBe("", path);
            (await browser.Page.EvaluateAsync<int>("document.documentElement.scrollWidth - window.innerWidth")).ShouldBeLessThanOrEqualTo(0, $"{path} is wider than {width}");
        }
        browser.Complaints.ShouldBeEmpty();
    }
}
