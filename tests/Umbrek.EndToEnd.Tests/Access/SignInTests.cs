using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;

namespace Umbrek.EndToEnd.Tests.Access;

/// <summary>Ways of signing in, in Chromium: a passkey of an authenticator that Chromium itself plays, a provider, a device that is new.</summary>
public sealed class SignInTests
{
    [Fact]
    public async Task A_passkey_is_made_signs_in_without_a_password_and_opens_nothing_once_it_is_removed()
    {
        await using var world = await World.StartAsync();
        await using var browser = await Browser.OpenAsync();
        var page = browser.Page;
        var devtools = await page.Context.NewCDPSessionAsync(page);
        await devtools.SendAsync("WebAuthn.enable");
        await devtools.SendAsync("WebAuthn.addVirtualAuthenticator", new()
        {
            ["options"] = new Dictionary<string, object> { ["protocol"] = "ctap2", ["transport"] = "internal", ["hasResidentKey"] = true, ["hasUserVerification"] = true, ["isUserVerified"] = true },
        });
        await browser.SignInByFormAsync(world);
        await page.GotoAsync($"{world.Address}account");
        await page.GetByRole(AriaRole.Button, new() { Name = "Add one" }).ClickAsync();
        await page.GetByLabel("What to call it").FillAsync("phone");
        await page.GetByLabel("Your password, again").FillAsync("not the password");
        await page.GetByRole(AriaRole.Button, new() { Name = "Make the passkey" }).ClickAsync();
        await page.GetByText("The password is wrong.").WaitForAsync();
        await page.GetByLabel("Your password, again").FillAsync(World.Password);
        (await browser.ViolationsAsync()).ShouldBeEmpty();
        await page.GetByRole(AriaRole.Button, new() { Name = "Make the passkey" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Remove the passkey phone" }).WaitForAsync();

        await page.GetByRole(AriaRole.Button, new() { Name = "sign out" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Sign in with a passkey" }).ClickAsync();
        await page.GetByRole(AriaRole.Heading, new() { Name = World.Name }).WaitForAsync();
        (await world.Api.GetAsync("audit?action=sign-in", WireJson.Default.PageAuditInfo, default)).Items.First(l => l.Action == "sign-in").Detail.ShouldContain("passkey phone");
        await world.SignInClientAsync();
        (await world.ClientAsync(null, "passkey", "list")).Stdout.ShouldContain("phone");
        (await world.ClientAsync(null, "passkey", "remove", "phone")).Stdout.ShouldContain("opens nothing any more");

        await page.GetByRole(AriaRole.Button, new() { Name = "sign out" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Sign in with a passkey" }).ClickAsync();
        await page.GetByText("This passkey opens nothing here").WaitForAsync();
    }

    [Fact]
    public async Task A_device_that_is_new_is_asked_about_on_the_one_that_is_known()
    {
        await using var world = await World.StartAsync();
        await using var browser = await Browser.OpenAsync();
        // The test's own sign-in was the first; the browser is the second.
        await browser.SignInByFormAsync(world);
        var kept = await browser.Page.Context.CookiesAsync();
        kept.Select(c => (c.Name, c.Secure, c.HttpOnly, c.Path)).Order().ShouldBe([("__Host-umbrek", true, true, "/"), ("__Host-umbrek-device", true, true, "/")]);
        await using var other = await Browser.OpenAsync();
        await other.SignInByFormAsync(world);
        (await other.Page.GetByText("Was that you?").CountAsync()).ShouldBe(1);
        await other.Page.GetByRole(AriaRole.Button, new() { Name = "Not mine: end it" }).ClickAsync();
        await other.Page.GetByText("Was that you?").WaitForAsync(new() { State = WaitForSelectorState.Detached });
        // The service closes what the ended sign-in had open, and the console asks who is signed in.
        await browser.Page.GetByRole(AriaRole.Heading, new() { Name = "Sign in" }).WaitForAsync(new() { Timeout = 10_000 });

        await world.SignInClientAsync();
        (await world.ClientAsync(null, "device", "list")).Stdout.ShouldContain("new: is it yours?");
        var id = (await world.Api.GetAsync("me/devices", WireJson.Default.PageDeviceInfo, default)).Items.Single(d => d.Device.Contains("Chromium", StringComparison.Ordinal)).Id.ToString();
        (await world.ClientAsync(null, "device", "confirm", id[^8..])).Stdout.ShouldContain("is yours");
        (await world.ClientAsync(null, "device", "forget", id[^8..])).Stdout.ShouldContain("signed out");
        await other.Page.GetByRole(AriaRole.Heading, new() { Name = "Sign in" }).WaitForAsync(new() { Timeout = 10_000 });
    }

    [Fact]
    public async Task Somebody_links_himself_at_a_provider_and_signs_in_with_it()
    {
        await using var provider = new StandInProvider();
        await using var world = await World.StartAsync(options: secret => ["--sign-on", provider.Issuer, "--sign-on-client", StandInProvider.ClientId, "--sign-on-secret", secret(StandInProvider.Secret), "--sign-on-name", "Halyard & Wick"]);
        await using var browser = await Browser.OpenAsync();
        var page = browser.Page;
        await page.GotoAsync($"{world.Address}");
        await page.GetByRole(AriaRole.Link, new() { Name = "Sign in with Halyard & Wick" }).ClickAsync();
        await page.GetByText("nobody here is linked to that account").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBeEmpty();
        await browser.SignInByFormAsync(world);
        await page.GotoAsync($"{world.Address}account");
        await page.GetByRole(AriaRole.Button, new() { Name = "Link me" }).ClickAsync();
        await page.GetByLabel("Your password again").FillAsync("tide-lantern");
        await page.GetByRole(AriaRole.Button, new() { Name = "Go to Halyard & Wick" }).ClickAsync();
        await page.GetByText("The password is wrong.").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBeEmpty();
        await page.GetByLabel("Your password again").FillAsync(World.Password);
        await page.GetByRole(AriaRole.Button, new() { Name = "Go to Halyard & Wick" }).ClickAsync();
        await page.GetByText("You sign in as ines there.").WaitForAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "sign out" }).ClickAsync();
        await page.GetByRole(AriaRole.Link, new() { Name = "Sign in with Halyard & Wick" }).ClickAsync();
        // It leads back to where one was.
        await page.GetByRole(AriaRole.Heading, new() { Name = World.Name }).WaitForAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "sign out" }).ClickAsync();

        // A client is let in by whatever way one signs in with a browser.
        await using (var client = StartSignIn(world))
        {
            await client.UntilSaidAsync("let in the client with the code");
            var (address, code) = Asked(client);
            await page.GotoAsync(address);
            await page.GetByRole(AriaRole.Link, new() { Name = "Sign in with Halyard & Wick" }).ClickAsync();
            await page.GetByLabel("Code", new() { Exact = true }).GetByText(code).WaitForAsync();
            (await browser.ViolationsAsync()).ShouldBeEmpty();
            await page.GetByRole(AriaRole.Button, new() { NameRegex = new("^Let .* in as Ines Okafor$") }).ClickAsync();
            await client.UntilSaidAsync("as Ines Okafor.");
            await Wait.UntilAsync(() => client.HasExited, "the client to be done");
            client.ExitCode.ShouldBe(0);
            (await world.ClientAsync(null, "technician", "list")).Stdout.ShouldContain("Ines Okafor");
        }
        await using (var client = StartSignIn(world))
        {
            await client.UntilSaidAsync("let in the client with the code");
            await page.GotoAsync($"{world.Address}account/client");
            await page.GetByLabel("Code").FillAsync(Asked(client).Code.ToLowerInvariant());
            await page.GetByRole(AriaRole.Button, new() { Name = "Find the client" }).ClickAsync();
            await page.GetByRole(AriaRole.Button, new() { Name = "Refuse it" }).ClickAsync();
            await client.UntilSaidAsync("The browser refused this client.");
            await Wait.UntilAsync(() => client.HasExited, "the client to be done");
            client.ExitCode.ShouldBe(6);
        }
        await page.GotoAsync($"{world.Address}account");
        await page.GetByRole(AriaRole.Button, new() { Name = "Unlink" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Link me" }).WaitForAsync();
    }

    private static TestPrograms StartSignIn(World world) => TestPrograms.Start(
        "umbrek", ["sign-in", $"{world.Address}", "--browser", "--trust", $"{world.Pin}"], new Dictionary<string, string> { ["UMBREK_HOME"] = world.In("client") });

    private static (string Address, string Code) Asked(TestPrograms client)
    {
        var found = System.Text.RegularExpressions.Regex.Match(string.Join('\n', client.Lines), "Open (https://\\S+code=([A-Z-]{9})) in a browser");
        return (found.Groups[1].Value, found.Groups[2].Value);
    }
}
