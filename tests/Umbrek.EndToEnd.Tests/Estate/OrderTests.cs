using Microsoft.Playwright;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Estate;

namespace Umbrek.EndToEnd.Tests.Estate;

/// <summary>The estate is put in order in the browser, by mouse and by keyboard, and with the client.</summary>
public sealed class OrderTests
{
    [Fact]
    public async Task Hosts_are_selected_marked_and_edited_by_mouse_and_the_selection_is_kept()
    {
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        await world.JoinAsync("plover-log-02");
        await world.JoinAsync("quay-ticket-01");
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GetByText("quay-ticket-01").WaitForAsync();

        var narrow = page.GetByLabel("Narrow by words or a selection");
        await narrow.FillAsync("plover-* and memroy.free < 1 GiB");
        await page.GetByText("Did you mean 'memory.free'").WaitForAsync();
        await narrow.FillAsync("plover-*");
        await page.GetByText("2 found").WaitForAsync();
        await page.GetByLabel("Mark plover-log-01").ClickAsync();
        await page.GetByLabel("Mark plover-log-02").ClickAsync();
        await page.GetByRole(AriaRole.Combobox, new() { Name = "Add tags" }).FillAsync("logger");
        await page.Keyboard.PressAsync("Enter");
        await page.GetByRole(AriaRole.Button, new() { Name = "Show what changes" }).ClickAsync();
        await page.GetByText("logger").Nth(1).WaitForAsync();
        (await TagsAsync(world, "plover-log-01")).ShouldBeEmpty();
        await page.GetByRole(AriaRole.Button, new() { Name = "Change 2 hosts" }).ClickAsync();
        await page.GetByText("2 hosts changed").WaitForAsync();
        (await TagsAsync(world, "plover-log-01")).ShouldBe(["logger"]);

        await narrow.FillAsync("tagged logger");
        await page.GetByRole(AriaRole.Button, new() { Name = "Save this selection" }).ClickAsync();
        await page.GetByLabel("Name of the selection").FillAsync("Loggers");
        await page.Keyboard.PressAsync("Enter");
        await page.GetByRole(AriaRole.Button, new() { Name = "Loggers 2" }).WaitForAsync();
        // It keeps itself up to date: another host with the tag is named by it too.
        await world.SignInClientAsync();
        (await world.ClientAsync(null, "host", "tag", "quay-ticket-01", "logger")).Status.ShouldBe(0);
        await page.GetByText("3 found").WaitForAsync();
        (await world.ClientAsync(null, "host", "list", "saved loggers", "--output", "csv")).Stdout.ShouldContain("quay-ticket-01");

        // The whole state is in the address.
        await page.GetByRole(AriaRole.Button, new() { Name = "Host", Exact = true }).ClickAsync();
        var address = page.Url;
        await page.GotoAsync($"{world.Address}work");
        await page.GotoAsync(address);
        await page.GetByText("3 found").WaitForAsync();
        await page.GetByRole(AriaRole.Columnheader, new() { Name = "Host" }).And(page.Locator("[aria-sort=descending]")).WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task Dialogs_and_menus_are_accessible_and_marked_hosts_get_an_own_field()
    {
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        await world.SignInClientAsync();
        (await world.ClientAsync(null, "customer", "add-field", "Saltmarsh Ferry", "Deck", "--kind", "choice", "--choice", "upper", "--choice", "lower")).Status.ShouldBe(0);
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        // What fades in has not its colours yet.
        await page.EmulateMediaAsync(new() { ReducedMotion = ReducedMotion.Reduce });

        await page.GetByLabel("Mark plover-log-01").ClickAsync();
        await page.GetByRole(AriaRole.Combobox, new() { Name = "Set the own field" }).ClickAsync();
        await page.GetByRole(AriaRole.Option, new() { Name = "Deck" }).ClickAsync();
        await page.GetByRole(AriaRole.Combobox, new() { Name = "Deck" }).ClickAsync();
        (await browser.ViolationsAsync()).ShouldBe("", "the open choice");
        await page.GetByRole(AriaRole.Option, new() { Name = "lower" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Show what changes" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Change plover-log-01" }).WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("", "the preview");
        await page.GetByRole(AriaRole.Button, new() { Name = "Change plover-log-01" }).ClickAsync();
        await page.GetByText("1 host changed").WaitForAsync();
        (await world.ClientAsync(null, "host", "list", "field Deck = lower", "--output", "csv")).Stdout.ShouldContain("plover-log-01");

        foreach (var name in new[] { "Export", "Columns" })
        {
            await page.GetByRole(AriaRole.Button, new() { Name = name }).ClickAsync();
            (await browser.ViolationsAsync()).ShouldBe("", name);
            await page.Keyboard.PressAsync("Escape");
        }
        await page.Locator("body").PressAsync("/");
        await page.Keyboard.TypeAsync("plover");
        await page.GetByRole(AriaRole.Option).First.WaitForAsync();
        (await browser.ViolationsAsync()).ShouldBe("", "quick find");
        await page.Keyboard.PressAsync("Enter");
        foreach (var name in new[] { "Move", "Put it together", "Retire" })
        {
            await page.GetByRole(AriaRole.Button, new() { Name = "More" }).ClickAsync();
            (await browser.ViolationsAsync()).ShouldBe("", "the menu of a host");
            await page.GetByRole(AriaRole.Menuitem, new() { Name = name }).ClickAsync();
            await page.GetByRole(AriaRole.Dialog).WaitForAsync();
            (await browser.ViolationsAsync()).ShouldBe("", name);
            await page.GetByRole(AriaRole.Dialog).GetByRole(AriaRole.Button, new() { Name = "Close" }).ClickAsync();
            await page.GetByRole(AriaRole.Dialog).WaitForAsync(new() { State = WaitForSelectorState.Detached });
        }
        foreach (var (path, name) in new[] { ("hosts/groups", "New customer"), ("hosts/customers", "Edit") })
        {
            await page.GotoAsync($"{world.Address}{path}");
            await page.GetByRole(AriaRole.Button, new() { Name = name }).First.ClickAsync();
            (await browser.ViolationsAsync()).ShouldBe("", $"{path}: {name}");
        }
        browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task Everything_is_reached_by_keyboard_alone()
    {
        await using var world = await World.StartAsync();
        await world.Api.PostAsync("groups", new NewGroup("Vessels", "Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        await world.JoinAsync("plover-log-01");
        await world.JoinAsync("quay-ticket-01");
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        var keys = page.Keyboard;
        await page.GetByText("quay-ticket-01").WaitForAsync();

        // Quick find forgives a slip; Escape leaves; then through the table.
        await page.Locator("body").PressAsync("/");
        await keys.TypeAsync("tikcet");
        await page.GetByRole(AriaRole.Option, new() { Name = "quay-ticket-01" }).WaitForAsync();
        await keys.PressAsync("Escape");
        await page.Locator("[data-host]").First.FocusAsync();
        await keys.PressAsync("ArrowDown");
        await keys.PressAsync("Space");
        await page.GetByText("1 host marked").WaitForAsync();
        await page.Locator("[data-host]:focus", new() { HasText = "quay-ticket-01" }).WaitForAsync();
        await keys.PressAsync("Enter");
        await page.GetByRole(AriaRole.Heading, new() { Name = "quay-ticket-01", Exact = true }).WaitForAsync();

        // A group's host is taken and put elsewhere.
        await page.GotoAsync($"{world.Address}hosts/groups");
        var quay = page.Locator("[data-line='Saltmarsh Ferry/Quay']");
        await quay.FocusAsync();
        await keys.PressAsync("ArrowRight");
        await page.GetByRole(AriaRole.Treeitem, new() { Name = "plover-log-01" }).WaitForAsync();
        await keys.PressAsync("ArrowDown");
        await keys.PressAsync("x");
        await page.GetByText("plover-log-01 is taken").WaitForAsync();
        await page.Locator("[data-line='Saltmarsh Ferry/Vessels']").FocusAsync();
        await keys.PressAsync("v");
        await page.GetByText("plover-log-01 now stands in Saltmarsh Ferry ▸ Vessels").WaitForAsync();
        (await world.HostAsync("plover-log-01")).GroupPath.ShouldBe("Saltmarsh Ferry/Vessels");
        // And the group itself can't go below what is in it: said, not greyed out.
        await page.Locator("[data-line='Saltmarsh Ferry']").FocusAsync();
        await keys.PressAsync("x");
        await quay.FocusAsync();
        await keys.PressAsync("v");
        await page.GetByText("Saltmarsh Ferry is a customer and stays at the top").WaitForAsync();
        browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_group_is_dragged_and_a_customers_mark_shows_everywhere()
    {
        await using var world = await World.StartAsync();
        await world.Api.PostAsync("groups", new NewGroup("Office", "Saltmarsh Ferry/Quay"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        await world.EnrolAsync("plover-log-01");
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        await page.GotoAsync($"{world.Address}hosts/groups");
        await page.Locator("[data-line='Saltmarsh Ferry/Quay/Office']").DragToAsync(page.Locator("[data-line='Saltmarsh Ferry']"));
        await page.GetByText("Office now stands in Saltmarsh Ferry").WaitForAsync();

        await page.GotoAsync($"{world.Address}hosts/customers");
        await page.GetByRole(AriaRole.Button, new() { Name = "Edit" }).ClickAsync();
        await page.GetByRole(AriaRole.Textbox, new() { Name = "Contact" }).FillAsync("Wanda Pell");
        await page.GetByRole(AriaRole.Button, new() { Name = "heather" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "disc" }).ClickAsync();
        await page.GetByRole(AriaRole.Button, new() { Name = "Save for Saltmarsh Ferry" }).ClickAsync();
        await page.GetByText("Saved.").WaitForAsync();
        var host = await world.HostAsync("plover-log-01");
        await page.GotoAsync($"{world.Address}hosts/{host.Id}");
        await page.Locator(".identity svg circle").First.WaitForAsync();
        (await page.Locator(".identity").EvaluateAsync<string>("e => getComputedStyle(e).borderLeftColor")).ShouldBe("rgb(154, 95, 134)");
        browser.Complaints.ShouldBeEmpty();
    }

    [Fact]
    public async Task Two_technicians_at_one_host_lose_nothing()
    {
        await using var world = await World.StartAsync();
        await world.EnrolAsync("plover-log-01");
        await world.SignInClientAsync();
        await using var browser = await Browser.OpenAsync();
        await browser.SignInAsync(world);
        var page = browser.Page;
        var host = await world.HostAsync("plover-log-01");
        await page.GotoAsync($"{world.Address}hosts/{host.Id}");
        await page.GetByRole(AriaRole.Button, new() { Name = "Edit" }).ClickAsync();
        await page.GetByRole(AriaRole.Textbox, new() { Name = "Notes" }).FillAsync("mine");
        (await world.ClientAsync(null, "host", "note", "plover-log-01", "theirs")).Status.ShouldBe(0);
        (await world.ClientAsync(null, "host", "label", "plover-log-01", "Logger of the Plover")).Status.ShouldBe(0);
        await page.GetByRole(AriaRole.Button, new() { Name = "Save for" }).ClickAsync();
        await page.GetByText("Somebody else changed notes too").WaitForAsync();
        await page.GetByText("“theirs”").WaitForAsync();
        (await page.GetByRole(AriaRole.Textbox, new() { Name = "Label" }).InputValueAsync()).ShouldBe("Logger of the Plover");
        await page.GetByRole(AriaRole.Button, new() { Name = "Save for" }).ClickAsync();
        await page.GetByRole(AriaRole.Heading, new() { Name = "Logger of the Plover", Exact = true }).WaitForAsync();
        var after = await world.Api.GetAsync($"hosts/{host.Id}", WireJson.Default.HostDetail, default);
        (after.Notes, after.Summary.Label).ShouldBe(("mine", "Logger of the Plover"));
        await page.GetByText("from plover-log-01 to Logger of the Plover").WaitForAsync();
        // The browser notes the refused first attempt as a failed request; nothing else may be there.
        browser.Complaints.ShouldAllBe(c => c.Contains("412"));
    }

    [Fact]
    public async Task A_retired_host_is_let_in_again_only_when_it_is_restored()
    {
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        await world.SignInClientAsync();
        (await world.ClientAsync(null, "host", "retire", "plover-log-01", "--preview")).Stdout.ShouldContain("its link ends");
        await world.UntilAsync("plover-log-01", "linked");
        (await world.ClientAsync(null, "host", "retire", "plover-log-01", "--reason", "replaced")).Status.ShouldBe(0);
        (await world.ClientAsync(null, "host", "list")).Stdout.ShouldContain("No host is enrolled yet");
        await Umbrek.Tests.Wait.UntilAsync(async () => (await world.ClientAsync(null, "host", "list", "is retired and is away")).Stdout.Contains("plover-log-01"), "the link to end");
        (await world.ClientAsync(null, "host", "restore", "plover-log-01")).Status.ShouldBe(0);
        await world.UntilAsync("plover-log-01", "linked");
        (await world.ClientAsync(null, "host", "timeline", "plover-log-01")).Stdout.ShouldContain("replaced");
    }

    [Fact]
    public async Task The_shell_completes_a_selection_whatever_quotation_marks_it_is_in()
    {
        await using var world = await World.StartAsync();
        await world.EnrolAsync("plover-log-01");
        await world.SignInClientAsync();
        (await CompleteAsync(world, "'is lin")).ShouldBe(["is linked"]);
        (await CompleteAsync(world, "'plover-log-01 and memory.us")).ShouldBe(["plover-log-01 and memory.used"]);
        (await CompleteAsync(world, "'in \"Saltmarsh Ferry/Q")).ShouldBe(["in \"Saltmarsh Ferry/Quay\""]);
        (await CompleteAsync(world, "'in Saltm")).ShouldBe(["in \"Saltmarsh Ferry\"", "in \"Saltmarsh Ferry/Quay\""]);
        (await CompleteAsync(world, "plover-")).ShouldBe(["plover-log-01"]);
    }

    /// <summary>What bash would offer for a word after "umbrek run --on".</summary>
    private static async Task<string[]> CompleteAsync(World world, string word)
    {
        var script = world.In("complete.sh");
        await File.WriteAllTextAsync(script, """
            set -e
            source <(umbrek completion bash)
            COMP_LINE="umbrek run --on $1"; COMP_POINT=${#COMP_LINE}; COMP_WORDS=(umbrek run --on "$1"); COMP_CWORD=3
            _umbrek
            printf '%s\n' "${COMPREPLY[@]}"
            """);
        var start = new System.Diagnostics.ProcessStartInfo("bash", [script, word]) { RedirectStandardOutput = true };
        start.Environment["UMBREK_HOME"] = world.In("client");
        start.Environment["UMBREK_TAB_SECONDS"] = "60";
        start.Environment["PATH"] = $"{Path.GetDirectoryName(Umbrek.Tests.TestPrograms.PathOf("umbrek"))}:{Environment.GetEnvironmentVariable("PATH")}";
        using var bash = System.Diagnostics.Process.Start(start)!;
        return (await bash.StandardOutput.ReadToEndAsync()).Split('\n', StringSplitOptions.RemoveEmptyEntries);
    }

    private static async Task<IReadOnlyList<string>> TagsAsync(World world, string label) => (await world.HostAsync(label)).Tags;
}
