using Microsoft.Playwright;
using Umbrek.Core.Access;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Enrolment;

namespace Umbrek.EndToEnd.Tests.Access;

/// <summary>A host that asks for its key: chosen as it was installed, proven with the client and in Chromium, exchanged, and kept in the vault.</summary>
public sealed class KeyTests
{
    private const string Key = "harbour lamp seven gulls";
    private static readonly HostPolicy Guarded = HostPolicy.Everything with { KeyFor = [HostAct.Run] };

    [Fact]
    public async Task A_host_of_its_own_refuses_wrong_keys_and_takes_the_right_one_and_a_passcode()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        await world.SignInClientAsync();
        var host = await lan.AddAsync("quay-ticket-01");
        var installer = await world.NewInstallerAsync(new NewInstaller(World.Group, Policy: Guarded, AccessKey: AccessKeyRule.AskAtInstall));
        await host.RunAsync($"umask 077; echo '{Key}' >/root/key");
        var installed = await host.RunAsync($"{world.SilentLine(installer)} --access-key-file /root/key");
        installed.Status.ShouldBe(0, installed.Stderr);
        await File.WriteAllTextAsync(world.In("right"), Key + "\n");
        await File.WriteAllTextAsync(world.In("wrong"), "harbour lamp eight gulls\n");

        var (status, _, stderr) = await RunAsync(world, "touch /root/unproven");
        (status, stderr.Contains("asks for its access key to run commands", StringComparison.Ordinal)).ShouldBe((3, true), stderr);
        (status, _, stderr) = await RunAsync(world, "touch /root/unproven", "--access-key-file", world.In("wrong"));
        (status, stderr.Trim()).ShouldBe((1, "The access key is wrong."));
        (await host.RunAsync("ls /root/unproven")).Status.ShouldNotBe(0);
        var (done, stdout, _) = await RunAsync(world, "touch /root/proven && hostname", "--access-key-file", world.In("right"));
        (done, stdout.Trim()).ShouldBe((0, "quay-ticket-01 | quay-ticket-01"));
        (await host.RunAsync("ls /root/proven")).Status.ShouldBe(0);
        // The key is on the host as a verifier alone, and nowhere at the service.
        (await host.RunAsync($"grep -r '{Key}' /var/lib/umbrek-agent /etc/umbrek-agent")).Status.ShouldBe(1);
        (await Umbrek.Tests.TestPrograms.RunAsync("/bin/grep", ["-ra", Key, world.In("service")])).Status.ShouldBe(1);

        // A visitor's passcode opens once.
        var made = await host.RunAsync("umbrek-agent passcode --for 30min --once");
        made.Status.ShouldBe(0, made.Stderr);
        await File.WriteAllTextAsync(world.In("visit"), made.Stdout.Split('\n')[0]);
        (await RunAsync(world, "hostname", "--passcode", "--access-key-file", world.In("visit"))).Status.ShouldBe(0);
        (await RunAsync(world, "hostname", "--passcode", "--access-key-file", world.In("visit"))).Stderr.ShouldContain("used up or over");

        // Its owner's side: what there is, another one, none.
        (await host.RunAsync("umbrek-agent access-key show")).Stdout.Trim().ShouldBe("An access key is set.");
        (await host.RunAsync("echo short >/root/key; umbrek-agent access-key set --file /root/key")).Stderr.ShouldContain("at least");
        var set = await host.RunAsync("umbrek-agent access-key set --generate --end-sessions");
        set.Stdout.ShouldContain("shown this once");
        (await RunAsync(world, "hostname", "--access-key-file", world.In("right"))).Stderr.Trim().ShouldBe("The access key is wrong.");
        await File.WriteAllTextAsync(world.In("right"), set.Stdout.Trim().Split('\n')[^1]);
        // One that is opened before the service has heard of the change ends with those of before; the next is let in.
        await Umbrek.Tests.Wait.UntilAsync(async () => (await RunAsync(world, "hostname", "--access-key-file", world.In("right"))).Status == 0, "the new key to open");
        (await host.RunAsync("umbrek-agent access-key remove")).Status.ShouldBe(0);
        (await RunAsync(world, "hostname", "--access-key-file", world.In("right"))).Stderr.ShouldContain("This host has no access key");
    }

    [Fact, Trait("Journey", "Worst")]
    public async Task In_Chromium_a_key_is_proven_chosen_and_made_for_the_vault_and_the_vault_is_put_in_order()
    {
        await using var world = await World.StartAsync();
        await world.SignInClientAsync();
        await world.JoinAsync("quay-ticket-01", (await world.NewInstallerAsync(new NewInstaller(World.Group, Policy: Guarded))).Token);
        var host = (await world.HostAsync("quay-ticket-01")).Id;
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GotoAsync($"{world.Address}hosts/{host}");

        // The first key, chosen in the browser; the service does not see it.
        await page.GetByText("quay-ticket-01 has no access key.").WaitForAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Set the first …" }).ClickAsync();
        await page.GetByText("Chosen by me").ClickAsync();
        await page.GetByLabel("The new key").FillAsync(Key);
        await page.GetByLabel("The same again").FillAsync("something else altogether");
        (await browser.ViolationsAsync()).ShouldBeEmpty();
        await page.GetByRole(AriaRole.Button, new() { Name = "Set the first key on quay-ticket-01" }).ClickAsync();
        await page.GetByText("The two differ").WaitForAsync();
        await page.GetByLabel("The same again").FillAsync(Key);
        await page.GetByRole(AriaRole.Button, new() { Name = "Set the first key on quay-ticket-01" }).ClickAsync();
        await page.GetByText("quay-ticket-01 has an access key.").WaitForAsync();
        (await Umbrek.Tests.TestPrograms.RunAsync("/bin/grep", ["-ra", Key, world.In("service")])).Status.ShouldBe(1);

        // Proven in the browser: wrong, then right.
        var key = page.GetByLabel("Access key of quay-ticket-01 of Saltmarsh Ferry");
        await key.FillAsync("harbour lamp eight gulls");
        await page.GetByRole(AriaRole.Button, new() { Name = "Prove it" }).ClickAsync();
        await page.GetByText("The access key is wrong.").WaitForAsync();
        await RunInPageAsync(page, "echo without $((1+1))");
        await page.GetByText("asks for its access key to run commands").First.WaitForAsync();
        await key.FillAsync(Key);
        await page.GetByRole(AriaRole.Button, new() { Name = "Prove it" }).ClickAsync();
        await page.GetByText("The key of quay-ticket-01 is proven").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBeEmpty();
        await RunInPageAsync(page, "echo proven $((20+1))");
        await page.GetByText("proven 21").WaitForAsync();

        // Another one, made for the vault; it can't be, as long as the vault has not the one there is.
        await page.GetByRole(AriaRole.Button, new() { Name = "Set another …" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Set another key on quay-ticket-01" }).ClickAsync();
        await page.GetByText("quay-ticket-01 keeps its key: The vault has no access key").WaitForAsync();
        await page.GetByRole(AriaRole.Dialog).GetByText("Close", new() { Exact = true }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Keep a secret of quay-ticket-01" }).ClickAsync();
        await page.GetByText("The access key that it has").ClickAsync();
        await page.GetByRole(AriaRole.Textbox, new() { Name = "Access key" }).Last.FillAsync(Key);
        await page.GetByRole(AriaRole.Button, new() { Name = "Keep it for quay-ticket-01" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Show the access key of quay-ticket-01" }).WaitForAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Set another …" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Set another key on quay-ticket-01" }).ClickAsync();
        await page.GetByText("quay-ticket-01 has another access key. The vault keeps it.").WaitForAsync();
        // That ended the session in which the old one was proven.
        await page.GotoAsync($"{world.Address}sessions");
        await page.GetByText("the host's access key was changed").WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBeEmpty();

        // The vault: shown with a reason, and used without being seen.
        await page.GotoAsync($"{world.Address}people/vault");
        await page.GetByRole(AriaRole.Button, new() { Name = "Show the access key of quay-ticket-01" }).ClickAsync();
        (await browser.ViolationsAsync()).ShouldBeEmpty();
        await page.GetByLabel("Why it has to be seen").FillAsync("to stand at the kiosk");
        await page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Show the access key of quay-ticket-01" }).ClickAsync();
        var shown = await page.GetByLabel("Access key", new() { Exact = true }).InnerTextAsync();
        AccessKey.Check(shown.Trim()).ShouldBeNull();
        await page.Keyboard.PressAsync("Escape");
        (await browser.ViolationsAsync()).ShouldBeEmpty();
        (await RunAsync(world, "echo used", "--from-vault")).Stdout.ShouldContain("used");
        (await world.Api.GetAsync("audit?action=secret.reveal", WireJson.Default.PageAuditInfo, default)).Items.Single().Detail.ShouldContain("to stand at the kiosk");
        browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task The_client_keeps_secrets_rotates_keys_and_backs_the_vault_up()
    {
        await using var world = await World.StartAsync();
        await world.SignInClientAsync();
        await world.JoinAsync("quay-ticket-01");
        await File.WriteAllTextAsync(world.In("secret"), "ebb-lantern-9-moorings\n");
        await File.WriteAllTextAsync(world.In("passphrase"), "a long passphrase of words\n");
        (await DoneAsync(world, "secret", "keep", "Saltmarsh Ferry", "--logon", "local administrator", "--user", "quayadmin", "--file", world.In("secret"))).ShouldContain("keeps the logon 'local administrator' of Saltmarsh Ferry");
        (await DoneAsync(world, "secret", "keep", "Saltmarsh Ferry", "--logon", "local administrator", "--file", world.In("secret"))).ShouldContain("the one before is in its history");
        var id = (await world.Api.GetAsync("secrets", WireJson.Default.PageSecretInfo, default)).Items.Single().Id.ToString();
        (await DoneAsync(world, "secret", "show", id[^8..])).ShouldContain("counts");
        (await DoneAsync(world, "secret", "reveal", id[^8..], "--why", "at the kiosk")).Trim().ShouldBe("ebb-lantern-9-moorings");
        (await world.ClientAsync(null, "secret", "reveal", "00000000", "--why", "at the kiosk")).Stderr.ShouldContain("There is no secret '00000000'");
        (await DoneAsync(world, "access-key", "rotate", "--on", "all", "--wait")).ShouldContain("1 of 1 host have another access key");
        (await DoneAsync(world, "access-key", "rotations")).ShouldContain("1 of 1");

        (await DoneAsync(world, "vault", "backup", world.In("vault.json"), "--passphrase-file", world.In("passphrase"))).ShouldContain("encrypted");
        File.GetUnixFileMode(world.In("vault.json")).ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite);
        (await world.ClientAsync(null, "vault", "backup", world.In("vault.json"), "--passphrase-file", world.In("passphrase"))).Stderr.ShouldContain("is there already");
        await DoneAsync(world, "secret", "remove", id[^8..]);
        (await world.ClientAsync(null, "vault", "restore", world.In("vault.json"), "--passphrase-file", world.In("secret"))).Stderr.ShouldContain("passphrase is not the one");
        (await DoneAsync(world, "vault", "restore", world.In("vault.json"), "--passphrase-file", world.In("passphrase"))).ShouldContain("Restored 1, left 1");
        (await DoneAsync(world, "vault", "rotate-key")).ShouldContain("Secrets");
        (await DoneAsync(world, "secret", "list", "--output", "csv")).ShouldContain("local administrator");
        (await DoneAsync(world, "session", "list")).ShouldContain("another access key");
    }

    private static Task RunInPageAsync(IPage page, string line) => Task.Run(async () =>
    {
        await page.GetByLabel("Command line for quay-ticket-01").FillAsync(line);
        await page.GetByRole(AriaRole.Button, new() { Name = "Run on quay-ticket-01 of Saltmarsh Ferry" }).ClickAsync();
    });

    private static Task<(int Status, string Stdout, string Stderr)> RunAsync(World world, string line, params string[] options) =>
        world.ClientAsync(null, ["run", "--on", "quay-ticket-01", .. options, "--", line]);

    private static async Task<string> DoneAsync(World world, params string[] arguments)
    {
        var (status, stdout, stderr) = await world.ClientAsync(null, arguments);
        status.ShouldBe(0, stderr);
        return stdout;
    }
}
