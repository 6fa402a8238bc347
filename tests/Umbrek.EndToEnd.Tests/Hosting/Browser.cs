using System.Diagnostics;
using Microsoft.Playwright;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Hosting;

/// <summary>Debian's Chromium without its own windows, which trusts the service's certificate by the hash of its key and no other way.</summary>
internal sealed class Browser : IAsyncDisposable
{
    /// <summary>One browser for all tests of a run, each in a context of its own: cookies, storage and cache are kept apart.</summary>
    private static readonly Lazy<Task<IBrowser>> Shared = new(LaunchAsync);

    private IBrowserContext context = null!;

    public IPage Page { get; private set; } = null!;

    /// <summary>What the page complained about.</summary>
    public List<string> Complaints { get; } = [];

    private static async Task<IBrowser> LaunchAsync()
    {
        var pin = (await SetUpData.Get()).Pin;
        return await (await Playwright.CreateAsync()).Chromium.LaunchAsync(new()
        {
            ExecutablePath = Environment.GetEnvironmentVariable("CHROMIUM") ?? "/usr/bin/chromium-headless-shell",
            Args =
            [
                "--no-sandbox", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--no-first-run",
                $"--ignore-certificate-errors-spki-list={Convert.ToBase64String(pin.Sha256)}",
            ],
        });
    }

    public static async Task<Browser> OpenAsync(int width = 1280, int height = 800)
    {
        var browser = new Browser { context = await (await Shared.Value).NewContextAsync(new() { ViewportSize = new() { Width = width, Height = height }, ReducedMotion = ReducedMotion.Reduce }) };
        browser.context.SetDefaultTimeout(Wait.DefaultSeconds * 1000);
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

    /// <summary>Signs in by the form, as a person does.</summary>
    public async Task SignInByFormAsync(World world, string name = World.Name)
    {
        await Page.GotoAsync($"{world.Address}");
        await Page.GetByLabel("Name").FillAsync(name);
        await Page.GetByRole(AriaRole.Textbox, new() { Name = "Password" }).FillAsync(World.Password);
        await Page.Keyboard.PressAsync("Enter");
        // What needs a person comes first; from there to the hosts.
        await Page.GetByRole(AriaRole.Heading, new() { Name = "What needs a person" }).WaitForAsync();
        await GoToHostsAsync(world);
    }

    /// <summary>Signs in by the API, and hands the browser the cookie: two pages fewer for scenarios about something else.</summary>
    public async Task SignInAsync(World world, string name = World.Name)
    {
        await context.AddCookiesAsync(await world.SignInCookiesAsync(name, await Page.EvaluateAsync<string>("navigator.userAgent")));
        await GoToHostsAsync(world);
    }

    private async Task GoToHostsAsync(World world)
    {
        await Page.GotoAsync($"{world.Address}hosts");
        await Page.GetByRole(AriaRole.Heading, new() { Name = "Hosts" }).WaitForAsync();
    }

    /// <summary>Serious accessibility violations of the page as it stands, found by axe.</summary>
    public async Task<string> ViolationsAsync()
    {
        await Page.EvaluateAsync(await File.ReadAllTextAsync(Path.Combine(TestPrograms.Root, "console", "node_modules", "axe-core", "axe.min.js")));
        // What is still fading in has not its own colours yet.
        await Page.EvaluateAsync("() => Promise.allSettled(document.getAnimations().filter(a => a.effect.getComputedTiming().endTime !== Infinity).map(a => a.finished))");
        // From the top: what is scrolled half under the strip of the host's name is no smaller for that.
        return await Page.EvaluateAsync<string>("""
            async () => (window.scrollTo(0, 0), await axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'] })).violations
              .filter(v => v.impact === 'serious' || v.impact === 'critical')
              .map(v => `${v.id}: ${v.nodes.slice(0, 3).map(n => n.html + ' ' + n.any.map(a => a.message).join('; ')).join(' | ')}`).join('\n')
            """);
    }

    public async ValueTask DisposeAsync() => await context.CloseAsync();
}
