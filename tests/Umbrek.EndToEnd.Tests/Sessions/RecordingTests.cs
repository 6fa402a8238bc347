using Microsoft.Playwright;
using Umbrek.Core.Shell;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;

namespace Umbrek.EndToEnd.Tests.Sessions;

/// <summary>Shells of a real host, recorded because its policy says so, and looked at again.</summary>
public sealed class RecordingTests : IAsyncLifetime
{
    private World world = null!;

    public async ValueTask InitializeAsync()
    {
        world = await World.StartAsync();
        await world.JoinAsync("quay-ticket-01");
        await world.SignInClientAsync();
    }

    public ValueTask DisposeAsync() => world.DisposeAsync();

    private async Task<List<string>> IdsAsync(int count)
    {
        var ids = new List<string>();
        await Wait.UntilAsync(async () =>
        {
            var found = (await world.Api.GetAsync("recordings", WireJson.Default.PageRecordingInfo, default)).Items;
            ids = [.. found.Reverse().Select(r => $"{r.Id}")];
            return found.Count == count && found.All(r => r.EndedAt is not null);
        }, "the recordings to end");
        return ids;
    }

    [Fact]
    public async Task The_client_lists_shows_saves_and_removes_them_and_a_killed_service_loses_nothing()
    {
        await world.TakeOwnProcessAsync();
        (await world.ClientAsync(null, "recording", "list")).Stdout.ShouldContain("umbrek policy set PLACE --record screen");
        (await world.ClientAsync(null, "policy", "set", "everything", "--record", "screen")).Stdout.ShouldContain("what shells and desktops show is recorded   (said here)");

        // The service is killed while a shell says much: more than the host says ahead.
        var running = world.ClientAsync(null, "shell", "quay-ticket-01", "--", $"seq 300000; touch {world.In("half")}; while [ ! -e {world.In("again")} ]; do sleep 0.05; done; seq 300001 400000");
        await Wait.UntilAsync(() => File.Exists(world.In("half")), "half of it to be said");
        await world.Service.KillAsync();
        await world.StartServiceAsync();
        await File.WriteAllTextAsync(world.In("again"), "");
        var (status, stdout, stderr) = await running;
        status.ShouldBe(0, stderr);
        var whole = string.Concat(Enumerable.Range(1, 400_000).Select(n => $"{n}\n"));
        stdout.ShouldBe(whole);
        var ids = await IdsAsync(2);
        var first = (await world.ClientAsync(null, "recording", "watch", ids[0])).Stdout;
        var second = (await world.ClientAsync(null, "recording", "watch", ids[1])).Stdout;
        whole.ShouldStartWith(first);
        whole.ShouldEndWith(second);
        (first.Length + second.Length).ShouldBeGreaterThanOrEqualTo(whole.Length);
        (await world.ClientAsync(null, "recording", "list", "--output", "csv")).Stdout.Split("\r\n")[0].ShouldBe("id,began,lasted,technician,host,customer,runs,as,holds,size");

        (await world.ClientAsync(null, "recording", "save", ids[0][^8..], world.In("ebb.cast"))).Stdout.ShouldContain("unchanged since it was recorded");
        CastReader.ReadHeader(File.ReadLines(world.In("ebb.cast")).First()).Command!.ShouldStartWith("seq 300000");
        (await world.ClientAsync(null, "recording", "save", ids[0], world.In("ebb.cast"))).Stderr.ShouldContain("exists; give another name");
        // What was changed in the service's directory is seen.
        var file = Directory.GetFiles(world.In("service/recordings"), $"{ids[0].Replace("-", "")}*").ShouldHaveSingleItem();
        await using (var packed = new System.IO.Compression.GZipStream(File.Create(file), System.IO.Compression.CompressionLevel.Fastest))
        {
            await packed.WriteAsync(File.ReadAllBytes(world.In("ebb.cast")).Select(b => b == '7' ? (byte)'8' : b).ToArray());
        }
        (await world.ClientAsync(null, "recording", "save", ids[0], world.In("flood.cast"))).Stderr.ShouldContain("is not what was recorded");
        File.Exists(world.In("flood.cast")).ShouldBeFalse();

        (await world.ClientAsync("", "recording", "delete", ids[0])).Stderr.ShouldContain($"Remove for good what {World.Name} did on quay-ticket-01");
        (await world.ClientAsync(null, "recording", "delete", ids[0], "--yes")).Stdout.ShouldBe("It is removed.\n");
        (await world.ClientAsync(null, "recording", "watch", ids[0])).Status.ShouldBe(1);
        await IdsAsync(1);
    }

    [Fact]
    public async Task The_console_says_that_it_is_recorded_and_shows_it_again()
    {
        (await world.ClientAsync(null, "policy", "set", "everything", "--record", "keys")).Status.ShouldBe(0);
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GotoAsync($"{world.Address}hosts/{(await world.HostAsync("quay-ticket-01")).Id}?panel=shell");
        await page.GetByRole(AriaRole.Button, new() { NameRegex = new("^Open a shell on quay-ticket-01") }).ClickAsync();
        await page.GetByText("What it shows and what you type is recorded").WaitForAsync();
        var rows = page.Locator(".xterm-rows");
        async Task UntilShownAsync(string text) => await Wait.UntilAsync(async () => (await rows.TextContentAsync())!.Contains(text, StringComparison.Ordinal), $"'{text}' on the terminal");
        await page.Keyboard.TypeAsync("PS1=; clear; echo tide-$((6*7))\n");
        await UntilShownAsync("tide-42");
        await page.Keyboard.TypeAsync("exit\n");
        await page.GetByText("The shell has ended.").WaitForAsync();
        await IdsAsync(1);

        await page.GotoAsync($"{world.Address}sessions/recordings");
        await page.GetByRole(AriaRole.Link, new() { Name = $"Watch what {World.Name} did on quay-ticket-01" }).ClickAsync();
        await page.GetByText("16×", new() { Exact = true }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Play" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Again" }).WaitForAsync();
        await UntilShownAsync("tide-42");
        await page.GetByLabel("What was typed last").GetByText("echo tide-$((6*7))↵").WaitForAsync();
        await page.GetByText("ended with exit status 0").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("");
        // At its beginning it shows nothing of that.
        await page.GetByRole(AriaRole.Slider, new() { Name = "Where in the recording" }).PressAsync("Home");
        await Wait.UntilAsync(async () => !(await rows.TextContentAsync())!.Contains("tide-42", StringComparison.Ordinal), "the beginning");

        var saving = page.WaitForDownloadAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Save", Exact = true }).ClickAsync();
        (await File.ReadAllTextAsync((await (await saving).PathAsync())!)).ShouldContain("tide-42");
        await page.GetByRole(AriaRole.Button, new() { Name = "Remove …" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Remove the recording" }).ClickAsync();
        await page.GetByText("Nothing is recorded").WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }
}
