using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;

namespace Umbrek.EndToEnd.Tests.Access;

/// <summary>The four technicians of Halyard &amp; Wick, in the client and in Chromium.</summary>
public sealed class GrantTests
{
    private static readonly (string Host, string Customer)[] Computers =
        [("quay-ticket-01", "Saltmarsh Ferry"), ("creamery-files", "Tarn Valley Creamery"), ("orrin-desk-01", "Copperbeech Libraries"), ("dome-control", "Brindle Moor Observatory")];

    [Fact, Trait("Journey", "Worst")]
    public async Task Each_of_four_technicians_sees_and_does_exactly_what_is_granted()
    {
        await using var world = await World.StartAsync();
        foreach (var (_, customer) in Computers.Skip(1))
        {
            await world.Api.PostAsync("groups", new NewGroup(customer), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        }
        foreach (var (host, customer) in Computers)
        {
            await world.JoinAsync(host, (await world.NewInstallerAsync(new NewInstaller(customer))).Token);
        }
        await world.SignInClientAsync();
        foreach (var who in new[] { "Tomasz Vail", "Priya Lund", "Odile Marsh" })
        {
            await DoneAsync(world, World.Password + "\n", "technician", "new", who, "--password-stdin");
            await world.SignInClientAsync(who);
        }
        await DoneAsync(world, null, "team", "new", "Coast");
        await DoneAsync(world, null, "team", "add", "Coast", "Tomasz Vail");
        await DoneAsync(world, null, "access", "grant", "technician", "--team", "Coast", "--on", "Saltmarsh Ferry");
        await DoneAsync(world, null, "access", "grant", "technician", "--to", "Tomasz Vail", "--on", "Tarn Valley Creamery");
        await DoneAsync(world, null, "role", "new", "view and files", "--may", "watch", "--may", "read-files", "--may", "write-files");
        await DoneAsync(world, null, "access", "grant", "view and files", "--to", "Priya Lund", "--on", "Copperbeech Libraries");
        (await DoneAsync(world, null, "access", "grant", "technician", "--to", "Odile Marsh", "--on", "Brindle Moor Observatory", "--until", "2099-11-27", "--note", "contractor")).ShouldContain("until 2099-11-28 00:00 UTC");

        (await SeenByAsync(world, World.Name)).ShouldBe(["creamery-files", "dome-control", "orrin-desk-01", "quay-ticket-01"]);
        (await SeenByAsync(world, "Tomasz Vail")).ShouldBe(["creamery-files", "quay-ticket-01"]);
        (await SeenByAsync(world, "Priya Lund")).ShouldBe(["orrin-desk-01"]);
        (await SeenByAsync(world, "Odile Marsh")).ShouldBe(["dome-control"]);

        (await world.ClientOfAsync("Tomasz Vail", null, "run", "--on", "all", "--", "echo here")).Stdout.Split("| here").Length.ShouldBe(3);
        var refused = await world.ClientOfAsync("Priya Lund", null, "run", "--on", "orrin-desk-01", "--", "echo here");
        (refused.Status, refused.Stderr.Trim()).ShouldBe((1, "You may not run commands on orrin-desk-01: your grant as view and files on Copperbeech Libraries does not include 'run'. Ines Okafor can change that."));
        (await world.ClientOfAsync("Odile Marsh", null, "host", "show", "orrin-desk-01")).Status.ShouldNotBe(0);
        var explained = await DoneAsync(world, null, "access", "explain", "Priya Lund", "orrin-desk-01");
        explained.ShouldContain("the grant as view and files on Copperbeech Libraries does not include 'run'");
        explained.ShouldContain("Ines Okafor can change that.");
        (await DoneAsync(world, null, "access", "matrix")).ShouldContain("technician until 2099-11-28");

        await InChromiumAsync(world);
    }

    private static async Task InChromiumAsync(World world)
    {
        var orrin = (await world.HostAsync("orrin-desk-01")).Id;
        await using (var browser = await Browser.OpenAsync())
        {
            await browser.SignInAsync(world, "Priya Lund");
            var page = browser.Page;
            await page.GetByText("orrin-desk-01").First.WaitForAsync();
            (await page.GetByText("quay-ticket-01").CountAsync()).ShouldBe(0);
            await page.GotoAsync($"{world.Address}hosts/{orrin}");
            await page.GetByText("You may not run commands on orrin-desk-01: your grant as view and files on Copperbeech Libraries does not include 'run'. Ines Okafor can change that.").First.WaitForAsync();
            await page.GetByRole(AriaRole.Button, new() { Name = "Edit: not allowed. Say why" }).ClickAsync();
            await page.GetByText("You may not change what is kept of orrin-desk-01").WaitForAsync();
            (await browser.ViolationsAsync()).ShouldBeEmpty();
            await page.GotoAsync($"{world.Address}join");
            await page.GetByText("This takes the permission “approve”").WaitForAsync();
            await page.GotoAsync($"{world.Address}people/audit");
            await page.GetByText("This takes the permission “administer” on everything").WaitForAsync();
            browser.Complaints.ShouldBeEmpty();
        }
        await using var contractor = await Browser.OpenAsync();
        await contractor.SignInAsync(world, "Odile Marsh");
        await contractor.Page.GetByText("dome-control").First.WaitForAsync();

        // The lead revokes the role in another window; what the contractor has open shows it without being asked.
        await using var lead = await Browser.OpenAsync();
        await lead.SignInAsync(world);
        await lead.Page.GetByRole(AriaRole.Link, new() { Name = "People" }).ClickAsync();
        await lead.Page.GetByRole(AriaRole.Button, new() { Name = "Revoke technician on Brindle Moor Observatory from Odile Marsh" }).ClickAsync();
        (await lead.ViolationsAsync()).ShouldBeEmpty();
        await lead.Page.GetByRole(AriaRole.Button, new() { Name = "Revoke technician from Odile Marsh" }).ClickAsync();
        await contractor.Page.GetByText("dome-control").First.WaitForAsync(new() { State = WaitForSelectorState.Detached });

        // And gives another, on a part, from the crossing of technician and customer.
        await lead.Page.GetByRole(AriaRole.Link, new() { Name = "Who reaches what" }).ClickAsync();
        await lead.Page.GetByRole(AriaRole.Button, new() { Name = "Give Odile Marsh a role on Copperbeech Libraries" }).ClickAsync();
        await lead.Page.GetByRole(AriaRole.Button, new() { Name = "Make Odile Marsh technician on Copperbeech Libraries" }).ClickAsync();
        await contractor.Page.GetByText("orrin-desk-01").First.WaitForAsync();
        contractor.Complaints.ShouldBeEmpty();
        lead.Complaints.ShouldBeEmpty();
    }

    private static async Task<List<string>> SeenByAsync(World world, string who)
    {
        var (status, stdout, stderr) = await world.ClientOfAsync(who, null, "host", "list", "--output", "csv");
        status.ShouldBe(0, stderr);
        return [.. Computers.Select(c => c.Host).Where(h => stdout.Contains(h, StringComparison.Ordinal)).Order(StringComparer.Ordinal)];
    }

    private static async Task<string> DoneAsync(World world, string? input, params string[] arguments)
    {
        var (status, stdout, stderr) = await world.ClientAsync(input, arguments);
        status.ShouldBe(0, stderr);
        return stdout;
    }
}
