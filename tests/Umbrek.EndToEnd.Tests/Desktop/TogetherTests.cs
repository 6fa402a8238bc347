using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Desktop;

/// <summary>Two technicians at one desktop, each with a browser of his own.</summary>
public sealed class TogetherTests : OnAScreen
{
    private const string Host = "quay-office-02";
    private const string Tomasz = "Tomasz Vail";

    private string Written => World.In("written");

    protected override async Task SetUpAsync()
    {
        Screen.Run("xterm", "-title", "work", "-geometry", "100x30+40+40", "-e", $"cat > {Written}");
        await Wait.UntilAsync(() => Screen.ShowsAsync("work"), "somebody to be there");
        await World.JoinAsync(Host);
        await World.SignInClientAsync();
        await DoneAsync(World.Password + "\n", "technician", "new", Tomasz, "--password-stdin");
        await DoneAsync(null, "access", "grant", "technician", "--to", Tomasz, "--on", World.Group);
    }

    [Fact]
    public async Task One_acts_at_a_time_and_control_passes_from_hand_to_hand()
    {
        await using var hers = await OpenAsync(World.Name);
        await using var his = await OpenAsync(Tomasz);
        await his.Page.GetByText($"{World.Name} controls {Host} now.").WaitForAsync();
        await hers.Page.GetByText($"Also here: {Tomasz} may control").WaitForAsync();
        (await his.ViolationsAsync()).ShouldBe("");
        await TypeAsync(his, "flood");

        await Button(his, "Ask to control").ClickAsync();
        await his.Page.GetByText($"{World.Name} is asked.").WaitForAsync();
        await hers.Page.GetByText($"{Tomasz} asks to control {Host}.").WaitForAsync();
        (await hers.ViolationsAsync()).ShouldBe("");
        await Button(hers, "Keep control").ClickAsync();
        await Button(his, "Ask to control").ClickAsync();
        await Button(hers, $"Let {Tomasz} control").ClickAsync();
        await hers.Page.GetByText($"{Tomasz} controls {Host} now.").WaitForAsync();
        await his.Page.GetByText($"{World.Name} controls {Host} now.").WaitForAsync(new() { State = WaitForSelectorState.Detached });
        await TypeAsync(his, "ebb");
        await ArrivedAsync("ebb\n");

        // Whoever has it may pass it on unasked, and it passes by itself when he goes.
        await Button(his, $"Let {World.Name} control").ClickAsync();
        await his.Page.GetByText($"{World.Name} controls {Host} now.").WaitForAsync();
        await TypeAsync(hers, "flow");
        await ArrivedAsync("ebb\nflow\n");
        await Button(hers, $"Let {Tomasz} control").ClickAsync();
        await hers.Page.GetByText($"{Tomasz} controls {Host} now.").WaitForAsync();
        await his.Page.GetByRole(AriaRole.Link, new() { Name = "Leave" }).ClickAsync();
        await hers.Page.GetByText($"{Tomasz} controls {Host} now.").WaitForAsync(new() { State = WaitForSelectorState.Detached });
        await TypeAsync(hers, "still");
        await ArrivedAsync("ebb\nflow\nstill\n");
        hers.Complaints.ShouldBeEmpty();
        his.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_colleague_is_asked_to_come_and_comes_with_one_click()
    {
        await using var his = await Browser.OpenAsync();
        await his.SignInAsync(World, Tomasz);
        await using var hers = await OpenAsync(World.Name);
        async Task AskAsync(string note)
        {
            await Button(hers, "Ask a colleague").ClickAsync();
            await hers.Page.GetByText("is here, may watch and control").WaitForAsync();
            (await hers.ViolationsAsync()).ShouldBe("");
            await hers.Page.GetByLabel("What it is about").FillAsync(note);
            await Button(hers, $"Ask {Tomasz}").ClickAsync();
            await hers.Page.GetByText($"{Tomasz} is asked to come.").WaitForAsync();
        }
        await AskAsync("the till hangs");
        await his.Page.GetByText($"{World.Name} asks you to the desktop of {Host}").WaitForAsync();
        (await his.ViolationsAsync()).ShouldBe("");
        await Button(his, $"Not now, {World.Name}").ClickAsync();
        await hers.Page.GetByText($"{Tomasz} does not come now.").WaitForAsync();
        await Button(hers, "Put this word away").ClickAsync();

        await AskAsync("now it does not start");
        await his.Page.GetByText("now it does not start").WaitForAsync();
        await Button(his, "Come and look").ClickAsync();
        await his.Page.GetByText("You watch").WaitForAsync();
        await hers.Page.GetByText($"{Tomasz} comes.").WaitForAsync();
        await hers.Page.GetByText($"Also here: {Tomasz} watches").WaitForAsync();
        hers.Complaints.ShouldBeEmpty();
        his.Complaints.ShouldBeEmpty();

        // The same by the client.
        await World.SignInClientAsync(Tomasz);
        await DoneAsync(null, "invitation", "send", Host, Tomasz, "--note", "a third time", "--screen", Screen.Display);
        var (_, stdout, _) = await World.ClientOfAsync(Tomasz, null, "invitation", "list", "--output", "csv");
        var line = stdout.Split('\n')[1].Split(',');
        line[1..4].ShouldBe([World.Name, Tomasz, Host]);
        stdout.ShouldContain(",open,a third time");
        (await World.ClientOfAsync(Tomasz, null, "invitation", "accept", line[0])).Stdout.ShouldBe($"{World.Name} knows that you come. To look on: umbrek desktop {Host} --listen 127.0.0.1:5900 --screen {Screen.Display}\n");
        await DoneAsync(null, "invitation", "withdraw", line[0]);
        (await World.ClientOfAsync(Tomasz, null, "invitation", "decline", line[0])).Stderr.ShouldContain("There is no invitation");
    }

    private static ILocator Button(Browser browser, string name) => browser.Page.GetByRole(AriaRole.Button, new() { Name = name, Exact = true });

    private async Task DoneAsync(string? input, params string[] arguments)
    {
        var (status, _, stderr) = await World.ClientAsync(input, arguments);
        status.ShouldBe(0, stderr);
    }

    private async Task<Browser> OpenAsync(string who)
    {
        var browser = await Browser.OpenAsync();
        await browser.SignInAsync(World, who);
        await browser.Page.GotoAsync($"{World.Address}hosts/{(await World.HostAsync(Host)).Id}/desktop?as=control&screen={Uri.EscapeDataString(Screen.Display)}");
        await browser.Page.GetByText($"screen {Screen.Display}, of root").WaitForAsync();
        await browser.Page.Locator(".glass canvas").WaitForAsync();
        return browser;
    }

    /// <summary>Clicks into the terminal and types a line there.</summary>
    private static async Task TypeAsync(Browser browser, string line)
    {
        var canvas = (await browser.Page.Locator(".glass canvas").BoundingBoxAsync())!;
        await browser.Page.Mouse.ClickAsync(canvas.X + canvas.Width * 200 / 1280, canvas.Y + canvas.Height * 200 / 800);
        await browser.Page.Keyboard.TypeAsync(line + "\n");
    }

    private Task ArrivedAsync(string text) => Wait.UntilAsync(() => File.Exists(Written) && File.ReadAllText(Written) == text, $"'{text}' to arrive");
}
