using System.Diagnostics;
using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;

namespace Umbrek.EndToEnd.Tests.Jobs;

/// <summary>Processes of a real host, seen and ended with the client and in the console.</summary>
public sealed class ProcessTests : IDisposable
{
    private readonly TestDirectory directory = new();
    private readonly string program = $"tide-{Guid.NewGuid():N}"[..14];
    private readonly List<Process> started = [];

    public ProcessTests() => File.Copy("/bin/sleep", directory.In(program));

    public void Dispose()
    {
        foreach (var process in started)
        {
            process.Kill();
            process.WaitForExit();
            process.Dispose();
        }
        directory.Dispose();
    }

    [Fact]
    public async Task The_client_lists_finds_ranks_and_ends_them()
    {
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        await world.SignInClientAsync();
        var (one, other) = (Start(), Start());
        var listed = (await world.ClientAsync(null, "process", "list", "plover-log-01", program, "--output", "csv")).Stdout;
        listed.Split("\r\n")[0].ShouldBe("number,user,proc %,memory,used,nice,started,command line");
        listed.ShouldContain($"{one.Id},{Environment.UserName},");
        // The client itself has the word in its command line.
        listed.Split("\r\n").Count(l => l.EndsWith($"{directory.In(program)} 1000", StringComparison.Ordinal)).ShouldBe(2);
        (await world.ClientAsync(null, "process", "list", "plover-log-01", "--user", "nobody-at-all")).Status.ShouldBe(4);
        (await world.ClientAsync(null, "process", "find", program, "--on", "all")).Stdout.ShouldContain($"2 × {Environment.UserName}: {directory.In(program)} 1000");

        (await world.ClientAsync("", "process", "end", "plover-log-01", $"{one.Id}")).Stderr.ShouldBe($"End {program} ({one.Id}) on plover-log-01 of Saltmarsh Ferry: add --yes to say that you are sure.\n");
        one.HasExited.ShouldBeFalse();
        (await world.ClientAsync(null, "process", "rank", "plover-log-01", $"{one.Id}", "--niceness", "9", "--yes", "--plain")).Stdout.ShouldBe($"{program} ({one.Id}) has niceness 9 (before 0).\n");
        (await world.ClientAsync(null, "process", "end", "plover-log-01", $"{one.Id}", "--yes", "--plain")).Stdout.ShouldBe($"{program} ({one.Id}) has ended.\n");
        one.WaitForExit(60_000).ShouldBeTrue();
        (await world.ClientAsync(null, "process", "end", "plover-log-01", $"{one.Id}", "--yes")).Stderr.ShouldContain($"runs no process {one.Id}; nothing was done");
        (await world.ClientAsync(null, "process", "end", "--on", "all", "--program", program, "--kill", "--yes", "--plain")).Stdout.ShouldBe($"{program} ({other.Id}) has been killed.\n");
        other.WaitForExit(60_000).ShouldBeTrue();
        (await world.ClientAsync(null, "job", "list", "--output", "csv")).Stdout.ShouldContain($"kill every '{program}'");
    }

    [Fact]
    public async Task A_terminal_shows_them_as_they_change_until_ctrl_c()
    {
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        await world.SignInClientAsync();
        var order = new ProcessStartInfo("/usr/bin/script", ["-qefc", $"stty cols 100 rows 30; exec env --default-signal=INT {TestPrograms.PathOf("umbrek")} process watch plover-log-01 {directory.In(program)} --every 0.5", world.In("screen")]) { RedirectStandardInput = true, RedirectStandardOutput = true };
        order.Environment["UMBREK_HOME"] = world.In("client");
        order.Environment["TERM"] = "xterm-256color";
        using var watching = Process.Start(order)!;
        watching.BeginOutputReadLine();
        string Screen() => File.Exists(world.In("screen")) ? File.ReadAllText(world.In("screen")) : "";
        await Wait.UntilAsync(() => Screen().Contains("plover-log-01 of Saltmarsh Ferry", StringComparison.Ordinal), "the first screen");
        var sleeping = Start();
        await Wait.UntilAsync(() => Screen().Contains($"{sleeping.Id}  {Environment.UserName}", StringComparison.Ordinal), "it to come by itself");
        await watching.StandardInput.WriteAsync('\u0003');
        await watching.StandardInput.FlushAsync();
        await watching.WaitForExitAsync();
        watching.ExitCode.ShouldBe(0, Screen());
        // The terminal has back what stood there before.
        Screen().ShouldContain("\e[?25h\e[?1049l");
        (await world.Api.GetAsync("sessions?live=true", WireJson.Default.PageSessionInfo, default)).Items.ShouldBeEmpty();
    }

    [Fact]
    public async Task The_console_shows_them_live_and_ends_the_chosen_one()
    {
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GotoAsync($"{world.Address}hosts/{(await world.HostAsync("plover-log-01")).Id}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Look at the processes of plover-log-01" }).ClickAsync();
        await page.GetByLabel("Find among the processes").FillAsync(program);
        await page.GetByText("0 of").WaitForAsync();

        // It comes by itself.
        var sleeping = Start();
        await page.GetByLabel($"{program} ({sleeping.Id})").CheckAsync();
        (await browser.ViolationsAsync()).ShouldBe("");
        await page.GetByRole(AriaRole.Button, new() { Name = "Kill …" }).ClickAsync();
        await page.GetByText("On plover-log-01 of Saltmarsh Ferry.").WaitForAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = $"Kill {program} on plover-log-01 of Saltmarsh Ferry" }).ClickAsync();
        await page.GetByText($"{program} ({sleeping.Id}) has been killed.").WaitForAsync();
        sleeping.WaitForExit(60_000).ShouldBeTrue();
        await page.GetByText("0 of").WaitForAsync();

        await page.GetByRole(AriaRole.Button, new() { Name = "Look no more" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Look at the processes of plover-log-01" }).WaitForAsync();
        // Who else runs it is asked of many hosts.
        await page.GotoAsync($"{world.Address}work/new?on=all&program={program}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Run on 1 host" }).ClickAsync();
        await page.GetByText($"Nothing runs '{program}'.").WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }

    private Process Start()
    {
        var process = Process.Start(directory.In(program), "1000");
        started.Add(process);
        return process;
    }
}
