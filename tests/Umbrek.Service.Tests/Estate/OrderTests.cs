using System.Net;
using System.Text;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Estate;

/// <summary>Groups, customers, tags, notes, own fields, bulk edits, retiring, merging, import: and what is refused.</summary>
public sealed class OrderTests
{
    [Fact]
    public async Task A_group_moves_with_all_that_is_in_it_and_never_below_itself()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        var office = await NewGroupAsync(service, "Office", "Saltmarsh Ferry/Quay");
        await NewGroupAsync(service, "Upstairs", "Saltmarsh Ferry/Quay/Office");
        var quay = await GroupAsync(service, "Saltmarsh Ferry/Quay");

        (await RefusedAsync(() => ChangeGroupAsync(service, quay, new GroupChange(ParentPath: "Saltmarsh Ferry/Quay/Office/Upstairs")))).ShouldContain("below itself");
        (await RefusedAsync(() => ChangeGroupAsync(service, quay, new GroupChange(ParentPath: "")))).ShouldContain("stands below a customer");
        (await RefusedAsync(async () => await ChangeGroupAsync(service, await GroupAsync(service, "Saltmarsh Ferry"), new GroupChange(ParentPath: "Copperbeech Libraries")))).ShouldContain("stays at the top");
        (await RefusedAsync(() => ChangeGroupAsync(service, quay, new GroupChange(Name: "a/b")))).ShouldContain("holds no '/'");
        (await RefusedAsync(() => ChangeGroupAsync(service, quay, new GroupChange(ParentPath: "Copperbeech Librarys")))).ShouldContain("Did you mean \"Copperbeech Libraries\"");

        (await ChangeGroupAsync(service, quay, new GroupChange(Name: "Pier", ParentPath: "Copperbeech Libraries"))).Path.ShouldBe("Copperbeech Libraries/Pier");
        (await service.HostAsync("quay-ticket-01")).GroupPath.ShouldBe("Copperbeech Libraries/Pier");
        (await GroupAsync(service, "Copperbeech Libraries/Pier/Office/Upstairs")).Name.ShouldBe("Upstairs");
        (await RefusedAsync(() => ChangeGroupAsync(service, quay, new GroupChange(Name: "again")))).ShouldContain("meanwhile");
        await NewGroupAsync(service, "Office", "Copperbeech Libraries");
        var moved = await GroupAsync(service, "Copperbeech Libraries/Pier/Office");
        moved.Id.ShouldBe(office.Id);
        (await RefusedAsync(() => ChangeGroupAsync(service, moved, new GroupChange(ParentPath: "Copperbeech Libraries")))).ShouldContain("already");
        await service.RestartAsync();
        (await service.HostAsync("quay-ticket-01")).GroupPath.ShouldBe("Copperbeech Libraries/Pier");
    }

    [Fact]
    public async Task A_group_with_hosts_is_removed_only_when_they_have_a_place_to_go()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        await NewGroupAsync(service, "Office", "Saltmarsh Ferry/Quay");
        var quay = await GroupAsync(service, "Saltmarsh Ferry/Quay");
        (await RefusedAsync(() => service.Api.ActAsync(HttpMethod.Delete, $"groups/{quay.Id}", default))).ShouldContain("A host stands in Saltmarsh Ferry/Quay");
        (await RefusedAsync(() => service.Api.ActAsync(HttpMethod.Delete, $"groups/{quay.Id}?hostsTo={Uri.EscapeDataString("Saltmarsh Ferry/Quay/Office")}", default))).ShouldContain("itself removed");
        await service.Api.ActAsync(HttpMethod.Delete, $"groups/{quay.Id}?hostsTo={Uri.EscapeDataString("Copperbeech Libraries")}", default);
        (await service.HostAsync("quay-ticket-01")).GroupPath.ShouldBe("Copperbeech Libraries");
        (await TimelineAsync(service, "quay-ticket-01")).ShouldContain(e => e.Kind == HostEventKind.Moved && e.Text.Contains("was removed"));
    }

    [Theory]
    [InlineData("", "is empty")]
    [InlineData("bell\u0007", "invisible character (U+0007)")]
    [InlineData("right\u202eleft", "invisible character (U+202E)")]
    public async Task A_label_that_would_deceive_is_refused(string label, string why)
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        (await RefusedAsync(() => ChangeAsync(service, "quay-ticket-01", new HostChange(Label: label)))).ShouldContain(why);
    }

    [Fact]
    public async Task Labels_may_be_of_any_script_but_not_of_any_length()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        (await RefusedAsync(() => ChangeAsync(service, "quay-ticket-01", new HostChange(Label: new string('x', 300))))).ShouldContain("300 characters");
        foreach (var label in new[] { "שולחן כרטיסים", "کیوسک", "Käsetheke 🧀", "Ἀρχή" })
        {
            (await ChangeAsync(service, "quay-ticket-01", new HostChange(Label: label))).Summary.Label.ShouldBe(label);
            (await service.Api.GetAsync($"hosts?selection={Uri.EscapeDataString(SelectionWords.Quote(label))}", WireJson.Default.PageHostSummary, default)).Total.ShouldBe(1);
        }
    }

    [Fact]
    public async Task What_people_keep_of_a_host_is_checked_shown_and_found()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        var customer = await CustomerAsync(service, "Saltmarsh Ferry");
        await service.Api.PostAsync($"customers/{customer.Id}/fields", new NewOwnField("Contract ends", OwnFieldKind.Date), WireJson.Default.NewOwnField, WireJson.Default.CustomerInfo, default);
        await service.Api.PostAsync($"customers/{customer.Id}/fields", new NewOwnField("Level", OwnFieldKind.Choice, ["days", "always"]), WireJson.Default.NewOwnField, WireJson.Default.CustomerInfo, default);
        (await RefusedAsync(() => service.Api.PostAsync($"customers/{customer.Id}/fields", new NewOwnField("level", OwnFieldKind.Text), WireJson.Default.NewOwnField, WireJson.Default.CustomerInfo, default))).ShouldContain("already");
        (await RefusedAsync(() => service.Api.PostAsync($"customers/{customer.Id}/fields", new NewOwnField("Shelf", OwnFieldKind.Choice), WireJson.Default.NewOwnField, WireJson.Default.CustomerInfo, default))).ShouldContain("say of what");

        foreach (var (change, why) in new (HostChange, string)[]
        {
            (new(Own: Own("Contract ends", "soon")), "takes a day"), (new(Own: Own("Level", "sometimes")), "one of days, always"), (new(Own: Own("Desk", "4")), "no field 'Desk'"),
            (new(Tags: ["a,b"]), "comma"), (new(Links: [new HostLink("x", "javascript:alert(1)")]), "no web address"), (new(Notes: new string('x', 30_000)), "30000 characters"),
        })
        {
            (await RefusedAsync(() => ChangeAsync(service, "quay-ticket-01", change))).ShouldContain(why);
        }
        var after = await ChangeAsync(service, "quay-ticket-01", new HostChange(Notes: "one\r\ntwo", Tags: ["Kiosk", "kiosk", "night"], Links: [new HostLink("Manual", "https://manuals.example/till")], Own: new Dictionary<string, string?> { ["contract ends"] = "2027-03-31", ["Level"] = "ALWAYS" }));
        (after.Notes, string.Join(' ', after.Summary.Tags), after.Links.Single().Url).ShouldBe(("one\ntwo", "Kiosk night", "https://manuals.example/till"));
        after.Own.ShouldBe(new Dictionary<string, string> { ["Contract ends"] = "2027-03-31", ["Level"] = "always" }, ignoreOrder: true);
        foreach (var selection in new[] { "tagged KIOSK", "field \"contract ends\" < 2027-06-01", "field level = always", "fact agent.version = 0.*" })
        {
            var found = await service.Api.GetAsync($"selections/check?selection={Uri.EscapeDataString(selection)}", WireJson.Default.SelectionCheck, default);
            found.Hosts.ShouldBe(selection.StartsWith("fact", StringComparison.Ordinal) ? 0 : 1, selection);
        }
        await service.RestartAsync();
        (await service.Api.GetAsync($"selections/check?selection={Uri.EscapeDataString("field level = always and tagged night")}", WireJson.Default.SelectionCheck, default)).Hosts.ShouldBe(1);
        // Another customer has no such fields: what it can't hold is dropped.
        (await ChangeAsync(service, "quay-ticket-01", new HostChange(GroupPath: "Copperbeech Libraries"))).Own.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_fact_that_is_not_held_in_memory_is_asked_of_the_database()
    {
        await using var service = await TestService.StartAsync();
        await using var host = await service.LinkAsync("quay-ticket-01");
        await host.SendFactsAsync(default);
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"hosts?selection={Uri.EscapeDataString("fact os.version = 12 and is linked")}", WireJson.Default.PageHostSummary, default)).Total == 1, "the fact to be found");
        (await service.Api.GetAsync($"hosts?selection={Uri.EscapeDataString("not fact os.version = 12")}", WireJson.Default.PageHostSummary, default)).Total.ShouldBe(0);
        (await service.Api.GetAsync($"hosts?selection={Uri.EscapeDataString("os = debian*")}", WireJson.Default.PageHostSummary, default)).Total.ShouldBe(1);
    }

    [Fact]
    public async Task Many_hosts_are_changed_all_or_none_and_a_preview_changes_nothing()
    {
        await using var service = await TestService.StartAsync();
        var token = await service.NewTokenAsync();
        for (var i = 1; i <= 5; i++)
        {
            await service.EnrolAsync($"quay-ticket-{i:00}", token);
        }
        var preview = await EditAsync(service, new BulkEdit("quay-*", AddTags: ["kiosk"], GroupPath: "Copperbeech Libraries", Preview: true));
        (preview.Preview, preview.Hosts, preview.Changed, preview.Changes.Count).ShouldBe((true, 5, 5, 10));
        (await service.HostAsync("quay-ticket-01")).Tags.ShouldBeEmpty();

        var refused = await EditAsync(service, new BulkEdit("quay-*", AddTags: ["kiosk"], Own: Own("Desk", "4")));
        (refused.Preview, refused.Problems.Count).ShouldBe((true, 5));
        (await service.HostAsync("quay-ticket-01")).Tags.ShouldBeEmpty();

        (await EditAsync(service, new BulkEdit("quay-*", AddTags: ["kiosk"]))).Changed.ShouldBe(5);
        (await service.HostAsync("quay-ticket-05")).Tags.ShouldBe(["kiosk"]);
        (await EditAsync(service, new BulkEdit("quay-*", AddTags: ["kiosk"]))).Changed.ShouldBe(0);
        (await RefusedAsync(() => EditAsync(service, new BulkEdit("quay-*")))).ShouldContain("changes nothing");
        (await RefusedAsync(() => EditAsync(service, new BulkEdit("nobody", AddTags: ["x"])))).ShouldContain("No host matches");
        (await RefusedAsync(() => EditAsync(service, new BulkEdit(AddTags: ["x"])))).ShouldContain("Say which hosts");
    }

    [Fact]
    public async Task Saved_selections_stay_true_and_never_go_in_circles()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        var tickets = await SaveAsync(service, "Tickets", "quay-ticket-*");
        tickets.Hosts.ShouldBe(1);
        var away = await SaveAsync(service, "Tickets away", "saved tickets and is away");
        (await RefusedAsync(() => SaveAsync(service, "TICKETS", "all"))).ShouldContain("already");
        (await RefusedAsync(() => SaveAsync(service, "Bad", "memory.free <"))).ShouldContain("write a value");
        (await RefusedAsync(() => SaveAsync(service, "Bad", "saved nothing"))).ShouldContain("no saved selection 'nothing'");
        (await RefusedAsync(() => service.Api.PutAsync($"selections/{tickets.Id}", new NewSavedSelection("Tickets", "saved \"tickets away\""), tickets.Version, WireJson.Default.NewSavedSelection, WireJson.Default.SavedSelectionInfo, default))).ShouldContain("leads back to itself");
        (await RefusedAsync(() => service.Api.ActAsync(HttpMethod.Delete, $"selections/{tickets.Id}", default))).ShouldContain("is used in Tickets away");
        (await RefusedAsync(() => service.Api.GetAsync($"hosts?selection={Uri.EscapeDataString("saved tikets")}", WireJson.Default.PageHostSummary, default))).ShouldContain("Did you mean 'Tickets'");

        await service.EnrolAsync("quay-ticket-02");
        (await service.Api.GetAsync("selections", WireJson.Default.PageSavedSelectionInfo, default)).Items.Select(s => s.Hosts).ShouldBe([2, 2]);
        await service.Api.ActAsync(HttpMethod.Delete, $"selections/{away.Id}", default);
        await service.Api.ActAsync(HttpMethod.Delete, $"selections/{tickets.Id}", default);
        await service.RestartAsync();
        (await service.Api.GetAsync("selections", WireJson.Default.PageSavedSelectionInfo, default)).Total.ShouldBe(0);
    }

    [Fact]
    public async Task Quick_find_forgives_slips_and_puts_ones_own_hosts_first()
    {
        await using var service = await TestService.StartAsync();
        var token = await service.NewTokenAsync();
        foreach (var name in new[] { "quay-ticket-01", "quay-ticket-02", "ticketing-server" })
        {
            await service.EnrolAsync(name, token);
        }
        (await FindAsync(service, "tickt")).ShouldBe(["ticketing-server", "quay-ticket-01", "quay-ticket-02"], ignoreOrder: true);
        (await FindAsync(service, "ticketing")).ShouldBe(["ticketing-server"]);
        (await FindAsync(service, "02 saltm")).ShouldBe(["quay-ticket-02"]);
        (await FindAsync(service, "zzz")).ShouldBeEmpty();
        (await FindAsync(service, "")).ShouldBeEmpty();
        var second = await service.HostAsync("quay-ticket-02");
        await service.Api.PutAsync($"hosts/{second.Id}/mark?pinned=true&colour=moss", WireJson.Default.OwnMark, default);
        (await FindAsync(service, "quay"))[0].ShouldBe("quay-ticket-02");
        (await FindAsync(service, "")).ShouldBe(["quay-ticket-02"]);
        (await RefusedAsync(() => service.Api.PutAsync($"hosts/{second.Id}/mark?colour=mauve", WireJson.Default.OwnMark, default))).ShouldContain("is no colour");
        await ChangeAsync(service, "quay-ticket-01", new HostChange(Tags: ["landing"]));
        (await FindAsync(service, "landnig")).ShouldBe(["quay-ticket-01"]);
    }

    [Fact]
    public async Task Retiring_ends_link_and_waiting_runs_and_merging_moves_all_history()
    {
        await using var service = await TestService.StartAsync();
        await using var linked = await service.LinkAsync("quay-ticket-01");
        await service.EnrolAsync("quay-ticket-02");
        var (stays, gone) = (await service.HostAsync("quay-ticket-01"), await service.HostAsync("quay-ticket-02"));
        await ChangeAsync(service, "quay-ticket-02", new HostChange(Notes: "the old one", Tags: ["kiosk"]));
        var job = await service.Api.PostAsync("jobs", new NewJob("quay-ticket-02", new CommandSpec { Line = "uptime" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);

        (await RefusedAsync(() => MergeAsync(service, stays.Id, gone.Id))).ShouldContain("is linked");
        (await RefusedAsync(() => MergeAsync(service, gone.Id, gone.Id))).ShouldContain("with itself");
        (await RefusedAsync(() => MergeAsync(service, gone.Id, stays.Id))).ShouldContain("has not ended yet");
        var outlook = await service.Api.PostAsync($"hosts/{gone.Id}/retire", new HostEnd(Preview: true), WireJson.Default.HostEnd, WireJson.Default.HostOutlook, default);
        outlook.Says.ShouldContain(s => s.Contains("1 run that waits for it is cancelled"));
        await service.Api.PostAsync($"hosts/{gone.Id}/retire", new HostEnd(), WireJson.Default.HostEnd, WireJson.Default.HostOutlook, default);
        (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Runs.Single().State.ShouldBe(RunState.Cancelled);
        (await service.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Total.ShouldBe(1);
        (await RefusedAsync(() => service.Api.PostAsync($"hosts/{gone.Id}/retire", new HostEnd(), WireJson.Default.HostEnd, WireJson.Default.HostOutlook, default))).ShouldContain("retired already");

        var merged = await MergeAsync(service, gone.Id, stays.Id);
        merged.Done.ShouldBeTrue();
        (await RefusedAsync(() => service.Api.GetAsync($"hosts/{gone.Id}", WireJson.Default.HostDetail, default))).ShouldContain("no such host");
        var after = await service.Api.GetAsync($"hosts/{stays.Id}", WireJson.Default.HostDetail, default);
        (after.Notes, string.Join(' ', after.Summary.Tags)).ShouldBe(("the old one", "kiosk"));
        var timeline = await TimelineAsync(service, "quay-ticket-01");
        timeline.ShouldContain(e => e.Kind == HostEventKind.Ran && e.JobId == job.Id && e.Text.Contains("cancelled"));
        timeline.ShouldContain(e => e.Kind == HostEventKind.Merged && e.Text.Contains("quay-ticket-02"));
        timeline.Count(e => e.Kind == HostEventKind.Joined).ShouldBe(2);
        await service.RestartAsync();
        (await service.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Total.ShouldBe(1);
    }

    [Fact]
    public async Task The_tree_goes_out_and_in_again_and_wrong_lines_are_named()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        await ChangeAsync(service, "quay-ticket-01", new HostChange(Notes: "=HYPERLINK(\"https://orrin.example\")\nand a second line, with a comma", Tags: ["kiosk", "night"]));
        var csv = (await service.SendAsync(HttpMethod.Get, "/api/v1/estate/tree?format=csv")).Body;
        csv.ShouldContain("'=HYPERLINK", customMessage: "a spreadsheet is to show it, not to follow it");
        var again = await ImportAsync(service, csv, "text/csv");
        (again.Changes.Count, again.Problems.Count).ShouldBe((0, 0), string.Join('\n', again.Changes));
        var json = (await service.SendAsync(HttpMethod.Get, "/api/v1/estate/tree")).Body;
        (await ImportAsync(service, json, "application/json")).Changes.ShouldBeEmpty();

        var many = new StringBuilder("group,host,tags\n");
        for (var i = 1; i <= 10_000; i++)
        {
            many.Append(i switch { 17 => "Saltmarsh Ferry,nobody,\n", 4_000 => ",quay-ticket-01,\n", 9_999 => "Saltmarsh Ferry/Quay,quay-ticket-01,\"a,b\"\n", _ => $"Tarn Valley Creamery/Store {i % 50},,\n" });
        }
        var wrong = await ImportAsync(service, many.ToString(), "text/csv");
        wrong.Problems.Select(p => p.Line).ShouldBe([18, 4_001, 10_000]);
        wrong.Preview.ShouldBeTrue();
        (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items.ShouldNotContain(g => g.Path.StartsWith("Tarn", StringComparison.Ordinal));

        var good = await ImportAsync(service, "group,host,system name,tags,notes\nSaltmarsh Ferry/North Pier,Desk,quay-ticket-01,kiosk,\n", "text/csv");
        good.Preview.ShouldBeFalse();
        var host = await service.HostAsync("Desk");
        (host.GroupPath, string.Join(' ', host.Tags)).ShouldBe(("Saltmarsh Ferry/North Pier", "kiosk"));
        (await service.Api.GetAsync($"hosts/{host.Id}", WireJson.Default.HostDetail, default)).Notes.ShouldBeNull();
        foreach (var (text, why) in new[] { ("", "is empty"), ("host\nx\n", "no column 'group'"), ("group,colour,colour\nA,,\n", "stands there twice"), ("group,wheel\nA,\n", "no column 'wheel'") })
        {
            (await RefusedAsync(() => ImportAsync(service, text, "text/csv"))).ShouldContain(why);
        }
        (await RefusedAsync(() => ImportAsync(service, "[{", "application/json"))).ShouldContain("no JSON list");
        (await ImportAsync(service, "group,colour\nCopperbeech Libraries,mauve\nCopperbeech Libraries/Marl,moss\n", "text/csv")).Problems.Select(p => p.Line).ShouldBe([2, 3]);
    }

    [Fact]
    public async Task A_customers_mark_and_words_are_checked_and_the_later_of_two_edits_is_told()
    {
        await using var service = await TestService.StartAsync();
        var before = await CustomerAsync(service, "Saltmarsh Ferry");
        Task<CustomerInfo> ChangeIt(CustomerChange change) => service.Api.PatchAsync($"customers/{before.Id}", change, before.Version, WireJson.Default.CustomerChange, WireJson.Default.CustomerInfo, default);
        (await RefusedAsync(() => ChangeIt(new CustomerChange(Colour: "mauve")))).ShouldContain("is no colour");
        (await RefusedAsync(() => ChangeIt(new CustomerChange(Contact: new string('x', 501))))).ShouldContain("501 characters");
        var after = await ChangeIt(new CustomerChange(Contact: "Wanda Pell", Colour: "lagoon", Emblem: "saltire"));
        (after.Contact, after.Colour, after.Emblem).ShouldBe(("Wanda Pell", "lagoon", "saltire"));
        (await RefusedAsync(() => ChangeIt(new CustomerChange(Contact: "somebody")))).ShouldContain("meanwhile");
    }

    [Fact]
    public async Task An_absurd_selection_is_an_error_at_every_door()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        foreach (var absurd in new[] { new string('(', 3000) + "a" + new string(')', 3000), new string('x', 9000), string.Join(" or ", Enumerable.Repeat("a", 900)) })
        {
            var answer = await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("hosts/edits", new BulkEdit(absurd, AddTags: ["x"]), WireJson.Default.BulkEdit, WireJson.Default.BulkOutcome, default));
            answer.Problem.Word.ShouldBe(ProblemTypes.SelectionUnreadable);
            answer.Problem.Position.ShouldNotBeNull();
        }
    }

    private static Dictionary<string, string?> Own(string name, string value) => new() { [name] = value };

    private static async Task<string> RefusedAsync(Func<Task> act) => (await Should.ThrowAsync<ApiException>(act)).Message;

    private static Task<GroupInfo> NewGroupAsync(TestService service, string name, string parent) => service.Api.PostAsync("groups", new NewGroup(name, parent), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);

    private static async Task<GroupInfo> GroupAsync(TestService service, string path) => (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items.Single(g => g.Path == path);

    private static Task<GroupInfo> ChangeGroupAsync(TestService service, GroupInfo group, GroupChange change) => service.Api.PatchAsync($"groups/{group.Id}", change, group.Version, WireJson.Default.GroupChange, WireJson.Default.GroupInfo, default);

    private static async Task<CustomerInfo> CustomerAsync(TestService service, string name) => (await service.Api.GetAsync("customers", WireJson.Default.PageCustomerInfo, default)).Items.Single(c => c.Name == name);

    private static async Task<HostDetail> ChangeAsync(TestService service, string systemName, HostChange change)
    {
        var host = (await service.Api.GetAsync($"hosts?selection={Uri.EscapeDataString($"name = \"{systemName}\"")}", WireJson.Default.PageHostSummary, default)).Items.Single();
        var before = await service.Api.GetAsync($"hosts/{host.Id}", WireJson.Default.HostDetail, default);
        return await service.Api.PatchAsync($"hosts/{host.Id}", change, before.Version, WireJson.Default.HostChange, WireJson.Default.HostDetail, default);
    }

    private static async Task<IReadOnlyList<TimelineEntry>> TimelineAsync(TestService service, string label) =>
        (await service.Api.GetAsync($"hosts/{(await service.HostAsync(label)).Id}/timeline", WireJson.Default.PageTimelineEntry, default)).Items;

    private static Task<BulkOutcome> EditAsync(TestService service, BulkEdit wish) => service.Api.PostAsync("hosts/edits", wish, WireJson.Default.BulkEdit, WireJson.Default.BulkOutcome, default);

    private static Task<SavedSelectionInfo> SaveAsync(TestService service, string name, string text) => service.Api.PostAsync("selections", new NewSavedSelection(name, text), WireJson.Default.NewSavedSelection, WireJson.Default.SavedSelectionInfo, default);

    private static Task<HostOutlook> MergeAsync(TestService service, Guid gone, Guid stays) => service.Api.PostAsync($"hosts/{gone}/merge", new HostMerge(stays), WireJson.Default.HostMerge, WireJson.Default.HostOutlook, default);

    private static async Task<List<string>> FindAsync(TestService service, string text) =>
        [.. (await service.Api.GetAsync($"find?text={Uri.EscapeDataString(text)}", WireJson.Default.PageFindHit, default)).Items.Select(h => h.Host.Label)];

    private static async Task<ImportOutcome> ImportAsync(TestService service, string text, string type)
    {
        using var request = new HttpRequestMessage(HttpMethod.Post, "api/v1/estate/tree") { Content = new StringContent(text, Encoding.UTF8, type) };
        using var answer = await service.Api.SendRawAsync(request, default);
        return System.Text.Json.JsonSerializer.Deserialize(await answer.Content.ReadAsStringAsync(), WireJson.Default.ImportOutcome)!;
    }
}
