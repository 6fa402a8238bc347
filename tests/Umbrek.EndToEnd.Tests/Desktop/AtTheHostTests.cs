using System.Diagnostics;
using System.Globalization;
using System.Net.Sockets;
using System.Text.RegularExpressions;
using Microsoft.Playwright;
using Umbrek.Core.Access;
using Umbrek.Core.Desktop;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Enrolment;

namespace Umbrek.EndToEnd.Tests.Desktop;

/// <summary>What a person who sits at a host sees of a technician, and can do about it.</summary>
public sealed class AtTheHostTests : OnAScreen
{
    private const string Host = "quay-office-02";
    private const string Question = $"Umbrek: {World.Name} asks to act on this computer";
    private const string Sign = $"Umbrek: {World.Name} is on this computer";
    private const string Taken = $"Umbrek: {World.Name} has taken the keyboard and the mouse of this computer";

    private Browser Browser { get; set; } = null!;
    private TestPrograms Agent { get; set; } = null!;
    private IPage Page => Browser.Page;

    protected override async Task SetUpAsync()
    {
        await Screen.ManageAsync();
        // Whoever has a program there is there.
        Screen.Run("xterm", "-title", "work", "-geometry", "60x12+40+500");
        await Wait.UntilAsync(() => Screen.ShowsAsync("work"), "somebody to be there");
        await World.SignInClientAsync();
    }

    public override async ValueTask DisposeAsync()
    {
        if (Browser is not null)
        {
            await Browser.DisposeAsync();
        }
        await base.DisposeAsync();
    }

    [Fact]
    public async Task They_are_asked_who_it_is_and_may_refuse_agree_and_end_it()
    {
        await BeginAsync(HostPolicy.Everything with { Consent = ConsentRule.WhenSomebodyIsLoggedIn, Notice = NoticeRule.During });
        await OpenAsync("watch");
        await Page.GetByText("A person at the host is asked first").WaitForAsync();
        await PressAsync(Question, agrees: false);
        await Page.GetByText("root, who is logged in there, has refused it.").WaitForAsync();

        await Page.GetByRole(AriaRole.Button, new() { Name = "Open it again" }).ClickAsync();
        await PressAsync(Question, agrees: true);
        await Page.GetByText($"screen {Screen.Display}, of root").WaitForAsync();

        // As long as it goes on they see that, and may end it.
        await Wait.UntilAsync(() => Screen.ShowsAsync(Sign), "the sign");
        await ClickAsync(Sign, fromRight: 40, fromBottom: 18);
        await Page.GetByText("root, who is at this host, has ended it.").WaitForAsync();
        await Wait.UntilAsync(async () => !await Screen.ShowsAsync(Sign), "the sign to go");
        await Wait.UntilAsync(async () => (await AuditAsync("desktop.end-there")).Length == 1, "it to be written down");
        (await AuditAsync("desktop.end-there")).ShouldBe([$"root at {Host}"]);
        (await AuditAsync("consent")).ShouldBe([$"root at {Host}", $"root at {Host}"]);
        Browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_technician_who_has_the_mouse_agrees_to_nothing_with_it()
    {
        await BeginAsync(HostPolicy.Everything with { Consent = ConsentRule.WhenSomebodyIsLoggedIn });
        await OpenAsync("control");
        await PressAsync(Question, agrees: true);
        await Page.GetByText($"screen {Screen.Display}, of root").WaitForAsync();
        await Page.Locator(".glass canvas").WaitForAsync();

        // Another act, another question: what he presses there with the host's own mouse counts for nothing.
        var ran = World.ClientAsync(null, "run", "--on", Host, "--", "echo ran");
        await Wait.UntilAsync(() => Screen.ShowsAsync(Question), "the question");
        var (x, y) = await PlaceAsync(Question, agrees: true);
        var box = (await Page.Locator(".glass").BoundingBoxAsync())!;
        var canvas = (await Page.Locator(".glass canvas").BoundingBoxAsync())!;
        box.Width.ShouldBeGreaterThanOrEqualTo(canvas.Width - 1);
        await Page.Mouse.ClickAsync(canvas.X + canvas.Width * (x + 0.5f) / 1280, canvas.Y + canvas.Height * (y + 0.5f) / 800);
        await Wait.UntilAsync(async () => (await Screen.AskAsync("xdotool", "getmouselocation")).StartsWith($"x:{x} y:{y} ", StringComparison.Ordinal), "his mouse to be there");
        await ClickAsync(Question, 60, 38);
        (await Screen.ShowsAsync(Question)).ShouldBeTrue();
        ran.IsCompleted.ShouldBeFalse();

        // Without him there, the same press is a person's.
        await Page.GetByRole(AriaRole.Link, new() { Name = "Leave" }).ClickAsync();
        await Wait.UntilAsync(async () =>
        {
            await ClickAsync(Question, 60, 38);
            return !await Screen.ShowsAsync(Question);
        }, "the question to be answered");
        (await ran).Stdout.ShouldContain("ran");
    }

    [Fact]
    public async Task It_is_said_who_logs_in_meanwhile()
    {
        await BeginAsync(HostPolicy.Everything);
        await OpenAsync("watch");
        await Page.GetByText($"screen {Screen.Display}, of root").WaitForAsync();
        var (name, program) = await AnotherAsync();
        await Page.GetByText($"screen {Screen.Display}, of {name}").WaitForAsync();
        await Page.GetByText($"{name} has logged in there.").WaitForAsync();
        program.Kill(entireProcessTree: true);
        await Page.GetByText($"screen {Screen.Display}, of root").WaitForAsync();
        Browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task Whoever_logs_in_meanwhile_is_asked_before_the_screen_is_shown_on()
    {
        await BeginAsync(HostPolicy.Everything with { Consent = ConsentRule.WhenSomebodyIsLoggedIn });
        await OpenAsync("control");
        await PressAsync(Question, agrees: true);
        await Page.GetByText($"screen {Screen.Display}, of root").WaitForAsync();
        await HoldAsync("Take their keyboard");
        await Page.GetByRole(AriaRole.Button, new() { Name = "Keyboard taken" }).WaitForAsync();

        // A keyboard for the answer is theirs again.
        var (name, program) = await AnotherAsync();
        await Page.GetByText("A person at the host is asked first").WaitForAsync();
        await Wait.UntilAsync(async () => !await Screen.ShowsAsync(Taken), "them to have it back");
        await PressAsync(Question, agrees: true);
        await Page.GetByText($"screen {Screen.Display}, of {name}").WaitForAsync();
        await Page.GetByRole(AriaRole.Button, new() { Name = "At the desk" }).WaitForAsync();
        program.Kill(entireProcessTree: true);
        await PressAsync(Question, agrees: false);
        await Page.GetByText("root, who is logged in there, has refused it.").WaitForAsync();
        await Wait.UntilAsync(async () => (await AuditAsync("consent")).Length == 3, "it to be written down");
        (await AuditAsync("consent")).Order().ShouldBe([$"{name} at {Host}", $"root at {Host}", $"root at {Host}"]);
        Browser.Complaints.ShouldBeEmpty();
    }

    /// <summary>Somebody else logs in at the screen.</summary>
    private async Task<(string Name, Process Program)> AnotherAsync()
    {
        var program = Screen.Run("setpriv", "--reuid=65534", "--clear-groups", "xclock", "-geometry", "120x120+900+40");
        await Wait.UntilAsync(() => Screen.ShowsAsync("xclock"), "somebody else to be there");
        return ((await TestPrograms.RunAsync("/usr/bin/id", ["-nu", "65534"])).Stdout.Trim(), program);
    }

    [Fact]
    public async Task A_technician_takes_their_keyboard_and_they_are_told_and_have_it_back_when_he_goes()
    {
        await BeginAsync(HostPolicy.Everything);
        await OpenAsync("control");
        await HoldAsync("Take their keyboard");
        await Page.GetByRole(AriaRole.Button, new() { Name = "Keyboard taken" }).WaitForAsync();
        await Wait.UntilAsync(() => Screen.ShowsAsync(Taken), "them to be told");
        (await Browser.ViolationsAsync()).ShouldBe("");
        await HoldAsync("Take their keyboard");
        await Page.GetByRole(AriaRole.Button, new() { Name = "At the desk" }).WaitForAsync();
        await HoldAsync("Take their keyboard");
        await Page.GetByRole(AriaRole.Button, new() { Name = "Keyboard taken" }).WaitForAsync();
        await Page.GetByRole(AriaRole.Link, new() { Name = "Leave" }).ClickAsync();
        await Wait.UntilAsync(async () => !await Screen.ShowsAsync(Taken), "them to have it back");
        await Wait.UntilAsync(async () => (await AuditAsync("desktop.give-input-back")).Length == 2, "it to be written down");
        (await AuditAsync("desktop.take-input")).ShouldBe([World.Name, World.Name]);
        Browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_technician_works_behind_a_message_and_leaves_the_screen_locked()
    {
        var file = World.In("written");
        Screen.Run("xterm", "-title", "private", "-bg", "#c05010", "-geometry", "60x12+500+120", "-e", $"cat > {file}");
        await Wait.UntilAsync(() => Screen.ShowsAsync("private"), "what nobody is to see");
        await Wait.UntilAsync(async () => Brown(await Screen.PictureAsync()) > 10_000, "its colour");
        await BeginAsync(HostPolicy.Everything);
        await OpenAsync("control");
        await HoldAsync("Hide the screen from them");
        await Page.GetByRole(AriaRole.Button, new() { Name = "Screen hidden" }).WaitForAsync();
        (await Browser.ViolationsAsync()).ShouldBe("");
        Brown(await Screen.PictureAsync()).ShouldBe(0);

        // He sees it as before, as does whoever else looks on from afar, and what he types arrives.
        var canvas = (await Page.Locator(".glass canvas").BoundingBoxAsync())!;
        await Page.Keyboard.PressAsync("Escape");
        await Page.Mouse.ClickAsync(canvas.X + canvas.Width * 600 / 1280, canvas.Y + canvas.Height * 200 / 800);
        await Page.Keyboard.TypeAsync("unseen\n");
        await Wait.UntilAsync(() => File.Exists(file) && File.ReadAllText(file) == "unseen\n", "what was typed to arrive");
        var (status, _, stderr) = await World.ClientAsync(null, "desktop", Host, "--screen", Screen.Display, "--snapshot", World.In("seen.png"));
        status.ShouldBe(0, stderr);
        var seen = (await Screen.AskAsync("convert", World.In("seen.png"), "-format", "%[pixel:p{800,250}]", "info:")).Trim();
        seen.ShouldBe("srgb(192,80,16)");

        await HoldAsync("Lock it when I leave");
        await Page.GetByRole(AriaRole.Button, new() { Name = "Screen hidden locked when I leave" }).WaitForAsync();
        await Page.Keyboard.PressAsync("Escape");
        await Page.GetByRole(AriaRole.Link, new() { Name = "Leave" }).ClickAsync();
        await Wait.UntilAsync(async () => (await AuditAsync("desktop.lock")).Length == 1, "it to be locked");
        await Wait.UntilAsync(async () => (await AuditAsync("desktop.show-again")).Length == 1, "it to be shown again");
        // The screen is back, and the locker is before it: nobody types on where he has left off.
        (await Screen.AskAsync("xdotool", "search", "--class", "i3lock")).Trim().ShouldNotBeEmpty();
        Brown(await Screen.PictureAsync()).ShouldBe(0);
        await Screen.AskAsync("xdotool", "type", "more");
        await Screen.AskAsync("xdotool", "key", "Return");
        (await File.ReadAllTextAsync(file)).ShouldBe("unseen\n");
        (await AuditAsync("desktop.hide")).ShouldBe([World.Name]);
        Browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task Nothing_counts_as_hidden_while_one_of_their_screens_is_seen()
    {
        var other = await World.OpenScreenAsync("800x600x24", null, "-extension", "COMPOSITE");
        other.Run("xterm", "-title", "other work");
        await Wait.UntilAsync(() => other.ShowsAsync("other work"), "somebody to be at the other screen");
        Screen.Run("xterm", "-title", "private", "-bg", "#c05010", "-geometry", "60x12+500+120");
        await Wait.UntilAsync(async () => Brown(await Screen.PictureAsync()) > 10_000, "what nobody is to see");
        await BeginAsync(HostPolicy.Everything);
        await OpenAsync("control");
        await Page.GetByText($"screen {Screen.Display}, of root").WaitForAsync();
        await HoldAsync("Hide the screen from them");
        await Page.GetByText($"{other.Display}: ").WaitForAsync();
        await Page.GetByRole(AriaRole.Button, new() { Name = "Screen hidden" }).WaitForAsync(new() { State = WaitForSelectorState.Detached });
        await Wait.UntilAsync(async () => Brown(await Screen.PictureAsync()) > 10_000, "the first one to be seen again");
    }

    [Fact]
    public async Task A_cover_whose_process_ends_is_back_before_anybody_sees_much()
    {
        Screen.Run("xterm", "-title", "private", "-bg", "#c05010", "-geometry", "60x12+500+120");
        await Wait.UntilAsync(async () => Brown(await Screen.PictureAsync()) > 10_000, "what nobody is to see");
        await BeginAsync(HostPolicy.Everything);
        await OpenAsync("control");
        await HoldAsync("Hide the screen from them");
        await Page.GetByRole(AriaRole.Button, new() { Name = "Screen hidden" }).WaitForAsync();
        Brown(await Screen.PictureAsync()).ShouldBe(0);
        var before = await CoverAsync();
        await TestPrograms.RunAsync("/bin/kill", ["-KILL", $"{before}"]);
        await Wait.UntilAsync(async () => await CoverAsync() is { } now && now != before && Brown(await Screen.PictureAsync()) == 0, "another cover");
        await Page.GetByRole(AriaRole.Button, new() { Name = "Screen hidden" }).WaitForAsync();
    }

    /// <summary>The process that covers the screen: the last that the agent has begun for a window there.</summary>
    private async Task<int?> CoverAsync()
    {
        var found = await TestPrograms.RunAsync("/usr/bin/pgrep", ["--parent", $"{Agent.Pid}", "--newest", "--full", "placard"]);
        return int.TryParse(found.Stdout, CultureInfo.InvariantCulture, out var pid) ? pid : null;
    }

    /// <summary>Pixels of the colour that nobody is to see.</summary>
    private static int Brown((int Width, int Height, byte[] Rgb) shown)
    {
        var count = 0;
        for (var i = 0; i < shown.Rgb.Length; i += 3)
        {
            count += shown.Rgb[i] == 0xC0 && shown.Rgb[i + 1] == 0x50 && shown.Rgb[i + 2] == 0x10 ? 1 : 0;
        }
        return count;
    }

    /// <summary>Says what is to be with the desk.</summary>
    private async Task HoldAsync(string what)
    {
        var choice = Page.GetByRole(AriaRole.Menuitemcheckbox, new() { Name = what });
        var desk = Page.GetByRole(AriaRole.Button, new() { NameRegex = new("^(At the desk|Keyboard taken|Screen hidden)") });
        await Wait.UntilAsync(async () =>
        {
            // Whatever arrives meanwhile may move the button away from under the mouse.
            if (await desk.GetAttributeAsync("aria-expanded") != "true")
            {
                await desk.ClickAsync();
            }
            return await choice.IsVisibleAsync();
        }, "the menu");
        await choice.ClickAsync();
    }

    [Fact]
    public async Task Whoever_is_there_sees_who_comes_and_is_told_before_the_session_ends_by_itself()
    {
        await BeginAsync(HostPolicy.Everything);
        await Page.Clock.InstallAsync();
        await OpenAsync("control");
        await Page.GetByText($"screen {Screen.Display}, of root").WaitForAsync();
        await using (var second = TestPrograms.Start("umbrek", ["desktop", Host, "--screen", Screen.Display, "--listen", "127.0.0.1:0", "--watch"], new Dictionary<string, string> { ["UMBREK_HOME"] = World.In("client") }))
        {
            await Wait.UntilAsync(() => second.Lines.Any(l => l.Contains("watches", StringComparison.Ordinal)), "the client to listen");
            var port = int.Parse(Regex.Match(second.Lines.First(l => l.Contains("watches", StringComparison.Ordinal)), @"127\.0\.0\.1:(\d+)").Groups[1].Value, CultureInfo.InvariantCulture);
            using var tcp = new TcpClient();
            await tcp.ConnectAsync("127.0.0.1", port);
            await Page.GetByText($"Also here: {World.Name} watches").WaitForAsync();
        }
        await Page.GetByText("Also here").WaitForAsync(new() { State = WaitForSelectorState.Detached });

        await Page.Clock.FastForwardAsync("26:00");
        await Page.GetByText("Nobody has done anything here for 25 minutes.").WaitForAsync();
        (await Browser.ViolationsAsync()).ShouldBe("");
        await Page.GetByRole(AriaRole.Button, new() { Name = $"Stay at {Host}" }).ClickAsync();
        await Page.GetByText("Nobody has done anything here").WaitForAsync(new() { State = WaitForSelectorState.Detached });
        await Page.GetByText("You control").WaitForAsync();
    }

    [Fact]
    public async Task A_file_that_is_dropped_onto_the_screen_lies_on_their_desktop()
    {
        await BeginAsync(HostPolicy.Everything);
        await OpenAsync("control");
        await Page.GetByText($"screen {Screen.Display}, of root").WaitForAsync();
        var name = $"berths {Guid.NewGuid():N}.txt";
        var home = (await TestPrograms.RunAsync("/bin/sh", ["-c", "getent passwd root | cut -d: -f6"])).Stdout.Trim();
        await Page.EvaluateAsync("(name) => { const t = new DataTransfer(); t.items.add(new File(['Plover 7:45'], name)); window.dropped = t; }", name);
        var onto = Page.Locator(".desktop-drop");
        foreach (var (what, then) in (ValueTuple<string, string>[])[("dragover", ".desktop-drop.over"), ("drop", ".desktop-drop")])
        {
            await onto.EvaluateAsync("(e, what) => e.dispatchEvent(new DragEvent(what, { bubbles: true, cancelable: true, dataTransfer: window.dropped }))", what);
            await Page.Locator(then).WaitForAsync();
        }
        await Page.GetByText($"{name} is on the desktop of whoever is logged in at {Host}.").WaitForAsync();
        (await Browser.ViolationsAsync()).ShouldBe("");
        var file = Directory.GetFiles(home, name, new EnumerationOptions { RecurseSubdirectories = true, MaxRecursionDepth = 2 }).ShouldHaveSingleItem();
        (await File.ReadAllTextAsync(file)).ShouldBe("Plover 7:45");
        File.Delete(file);
        Browser.Complaints.ShouldBeEmpty();
    }

    private async Task BeginAsync(HostPolicy policy)
    {
        var installer = await World.NewInstallerAsync(new NewInstaller(World.Group, Policy: policy));
        Agent = await World.JoinAsync(Host, installer.Token);
        Browser = await Browser.OpenAsync();
        await Browser.SignInAsync(World);
    }

    private async Task OpenAsync(string door) =>
        await Page.GotoAsync($"{World.Address}hosts/{(await World.HostAsync(Host)).Id}/desktop?as={door}&screen={Uri.EscapeDataString(Screen.Display)}");

    private async Task<string[]> AuditAsync(string action) => [.. (await World.Api.GetAsync($"audit?action={action}", WireJson.Default.PageAuditInfo, default)).Items.Select(l => l.Actor)];

    /// <summary>Presses a button of a question, as a person would.</summary>
    private async Task PressAsync(string title, bool agrees)
    {
        await Wait.UntilAsync(() => Screen.ShowsAsync(title), "the question");
        var (x, y) = await PlaceAsync(title, agrees);
        await Screen.AskAsync("xdotool", "mousemove", $"{x}", $"{y}", "click", "1");
        await Wait.UntilAsync(async () => !await Screen.ShowsAsync(title), "the question to go");
    }

    private async Task ClickAsync(string title, int fromRight, int fromBottom)
    {
        if (await WindowAsync(title) is var (x, y, width, height))
        {
            await Screen.AskAsync("xdotool", "mousemove", $"{x + width - fromRight}", $"{y + height - fromBottom}", "click", "1");
        }
    }

    /// <summary>The buttons lie at the lower right; the one that agrees is the last.</summary>
    private async Task<(int X, int Y)> PlaceAsync(string title, bool agrees)
    {
        var (x, y, width, height) = (await WindowAsync(title))!.Value;
        return (x + width - 60 - (agrees ? 0 : LetterFace.Plain.Measure("Agree for 10 minutes") + 40), y + height - 38);
    }

    private async Task<(int X, int Y, int Width, int Height)?> WindowAsync(string title)
    {
        if (await Screen.TryAskAsync("xwininfo", "-name", title) is not { } said)
        {
            return null;
        }
        int Number(string what) => int.Parse(Regex.Match(said, what + @":\s+(-?\d+)").Groups[1].Value, CultureInfo.InvariantCulture);
        return (Number("Absolute upper-left X"), Number("Absolute upper-left Y"), Number("Width"), Number("Height"));
    }
}
