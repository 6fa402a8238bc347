using Microsoft.Playwright;
using Umbrek.Wire.Links;

namespace Umbrek.Bench.Hosting;

/// <summary>Debian's Chromium, which trusts the service's certificate by the hash of its key and no other way.</summary>
internal sealed class ConsoleBrowser : IAsyncDisposable
{
    private readonly IPlaywright playwright;
    private readonly IBrowser chromium;

    private ConsoleBrowser(IPlaywright playwright, IBrowser chromium) => (this.playwright, this.chromium) = (playwright, chromium);

    public IPage Page { get; private set; } = null!;

    /// <param name="begin">What every page runs first; null is nothing.</param>
    public static async Task<ConsoleBrowser> OpenAsync(ServicePin pin, string? begin = null)
    {
        var playwright = await Playwright.CreateAsync();
        var chromium = await playwright.Chromium.LaunchAsync(new()
        {
            ExecutablePath = Environment.GetEnvironmentVariable("CHROMIUM") ?? "/usr/bin/chromium",
            Args =
            [
                "--no-sandbox", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--no-first-run", "--enable-precise-memory-info",
                $"--ignore-certificate-errors-spki-list={Convert.ToBase64String(pin.Sha256)}",
            ],
        });
        var browser = new ConsoleBrowser(playwright, chromium) { Page = await chromium.NewPageAsync(new() { ViewportSize = new() { Width = 1280, Height = 800 } }) };
        browser.Page.SetDefaultTimeout(120_000);
        if (begin is not null)
        {
            await browser.Page.AddInitScriptAsync(begin);
        }
        return browser;
    }

    public async Task SignInAsync(Uri address, string name, string password)
    {
        await Page.GotoAsync($"{address}");
        await Page.GetByLabel("Name").FillAsync(name);
        await Page.GetByRole(AriaRole.Textbox, new() { Name = "Password" }).FillAsync(password);
        await Page.Keyboard.PressAsync("Enter");
        await Page.GetByRole(AriaRole.Heading, new() { Name = "What needs a person" }).WaitForAsync();
    }

    public async ValueTask DisposeAsync()
    {
        await chromium.DisposeAsync();
        playwright.Dispose();
    }
}
