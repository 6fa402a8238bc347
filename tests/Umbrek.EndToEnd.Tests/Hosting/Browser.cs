using System.Diagnostics;
using Microsoft.Playwright;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Hosting;

/// <summary>Debian's Chromium, which trusts the service's certificate by the hash of its key and no other way.</summary>
internal sealed class Browser : IAsyncDisposable
{
    /// <summary>Its driver is a process of its own, one for all tests; it goes with them.</summary>
    private static readonly Lazy<Task<IPlaywright>> Driver = new(Playwright.CreateAsync);

    private readonly TestDirectory profile = new();
    private IBrowserContext context = null!;

    public IPage Page { get; private set; } = null!;

    /// <summary>What the page complained about.</summary>
    public List<string> Complaints { get; } = [];

    public static async Task<Browser> OpenAsync(World world, int width = 1280, int height = 800)
    {
        var browser = new Browser();
        browser.context = await (await Driver.Value).Chromium.LaunchPersistentContextAsync(browser.profile.Path, new()
        {
            ExecutablePath = Environment.GetEnvironmentVariable("CHROMIUM") ?? "/usr/bin/chromium",
            Args =
            [
                "--no-sandbox", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--no-first-run",
                $"--ignore-certificate-errors-spki-list={Convert.ToBase64String(world.Pin.Sha256)}",
            ],
            ViewportSize = new() { Width = width, Height = height },
        });
        // A busy machine takes its time; whoever waits for what never comes waits as long.
        browser.context.SetDefaultTimeout(120_000);
        browser.Page = await browser.context.NewPageAsync();
        browser.Page.Console += (_, m) =>
        {
            // The first question, who is signed in, is answered 401 by design.
            if (m.Type == "error" && !m.Text.Contains("401", StringComparison.Ordinal))
            {
                browser.Complaints.Add($"{m.Text} ({m.Location})");
            }
        };
        browser.Page.PageError += (_, e) => browser.Complaints.Add(e);
        return browser;
    }

    public async Task SignInAsync(World world, string name = World.Name)
    {
        await GoAsync($"{world.Address}");
        await Page.GetByLabel("Name").FillAsync(name);
        await Page.GetByRole(AriaRole.Textbox, new() { Name = "Password" }).FillAsync(World.Password);
        await Page.Keyboard.PressAsync("Enter");
        // What needs a person comes first; from there to the hosts.
        await Page.GetByRole(AriaRole.Heading, new() { Name = "What needs a person" }).WaitForAsync();
        await GoAsync($"{world.Address}hosts");
        await Page.GetByRole(AriaRole.Heading, new() { Name = "Hosts" }).WaitForAsync();
    }

    /// <summary>Goes to a page, again where the browser takes an interface that comes or goes for a change of its network.</summary>
    private Task GoAsync(string address) => Wait.UntilAsync(async () =>
    {
        try
        {
            return await Page.GotoAsync(address) is not null;
        }
        catch (PlaywrightException e) when (e.Message.Contains("ERR_NETWORK_CHANGED", StringComparison.Ordinal) || e.Message.Contains("chrome-error:", StringComparison.Ordinal))
        {
            // Interfaces of an earlier test go a moment behind it; the page that says so comes a moment behind that.
            return false;
        }
    }, "the console");

    /// <summary>Serious accessibility violations of the page as it stands, found by axe.</summary>
    public async Task<string> ViolationsAsync()
    {
        var root = Directory.GetParent(TestPrograms.Bin)!.Parent!.FullName;
        await Page.EvaluateAsync(await File.ReadAllTextAsync(Path.Combine(root, "console", "node_modules", "axe-core", "axe.min.js")));
        // What is still fading in has not its own colours yet.
        await Page.EvaluateAsync("() => Promise.allSettled(document.getAnimations().filter(a => a.effect.getComputedTiming().endTime !== Infinity).map(a => a.finished))");
        // From the top: what is scrolled half under the strip of the host's name is no smaller for that.
        return await Page.EvaluateAsync<string>("""
            async () => (window.scrollTo(0, 0), await axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'] })).violations
              .filter(v => v.impact === 'serious' || v.impact === 'critical')
              .map(v => `${v.id}: ${v.nodes.slice(0, 3).map(n => n.html + ' ' + n.any.map(a => a.message).join('; ')).join(' | ')}`).join('\n')
            """);
    }

    public async ValueTask DisposeAsync()
    {
        await context.CloseAsync();
        profile.Dispose();
    }
}
