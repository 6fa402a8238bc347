using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Files;

namespace Umbrek.Service.Tests.Files;

/// <summary>Folders that the service keeps: a simulated host's files come to lie there, kept by the real agent program.</summary>
public sealed class ShelfTests : IAsyncLifetime
{
    private TestService service = null!;
    private RunningAgent host = null!;
    private GroupInfo group = null!;

    public async ValueTask InitializeAsync()
    {
        service = await TestService.StartAsync();
        host = await RunningAgent.StartAsync(service, "quay-ticket-01");
        group = (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items.Single(g => g.Path == TestService.Group);
    }

    public async ValueTask DisposeAsync()
    {
        await host.DisposeAsync();
        await service.DisposeAsync();
    }

    private Task<ShelfInfo> MakeAsync(string name = "boards", ApiClient? who = null) => (who ?? service.Api).PostAsync("shelves", new NewShelf(name, group.Id), WireJson.Default.NewShelf, WireJson.Default.ShelfInfo, default);

    private Task<List<ShelfInfo>> ListAsync(ApiClient? who = null) => (who ?? service.Api).GetAsync("shelves", WireJson.Default.ListShelfInfo, default);

    private Task<Page<FileEntry>> LookAsync(ShelfInfo shelf, string path) => service.Api.GetAsync($"shelves/{shelf.Id}/entries?path={Uri.EscapeDataString(path)}", WireJson.Default.PageFileEntry, default);

    private async Task<byte[]> ReadAsync(ShelfInfo shelf, string path, ApiClient? who = null)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}shelves/{shelf.Id}/content?path={Uri.EscapeDataString(path)}");
        using var response = await (who ?? service.Api).SendRawAsync(request, default);
        return await response.Content.ReadAsByteArrayAsync();
    }

    private Task<TwinInfo> TwinAsync(string name, TwinPlace first, TwinPlace second, bool deletes = false) =>
        service.Api.PostAsync("twins", new NewTwin(name, first, second, new TwinRules(TwinWay.OneWay, deletes)), WireJson.Default.NewTwin, WireJson.Default.TwinInfo, default);

    private async Task<TurnInfo> TurnAsync(TwinInfo twin)
    {
        await service.Api.PostAsync($"twins/{twin.Id}/turns", new NewTurn(), WireJson.Default.NewTurn, WireJson.Default.TwinInfo, default);
        Task<TwinInfo> GetAsync() => service.Api.GetAsync($"twins/{twin.Id}", WireJson.Default.TwinInfo, default);
        await Wait.UntilAsync(async () => (await GetAsync()).Turn?.EndedAt is not null, "the turn to end");
        return (await GetAsync()).Turn!;
    }

    private TwinPlace Board => new(host.Id, new FileName("/srv/board"));

    private static TwinPlace On(ShelfInfo shelf, string path = "/") => new(null, new FileName(path), shelf.Id);

    private string Kept(ShelfInfo shelf, string path = "") => service.In($"shelves/{shelf.Id:N}/files{path}");

    [Fact]
    public async Task What_lies_on_a_host_is_kept_on_a_shelf_and_can_be_looked_at_and_read()
    {
        var shelf = await MakeAsync();
        (shelf.Files, shelf.GroupPath).ShouldBe((0, TestService.Group));
        var twin = await TwinAsync("kept", Board, On(shelf));
        (twin.Second.Label, twin.Second.ShelfId, twin.Second.HostId, twin.Second.GroupPath).ShouldBe(("boards", shelf.Id, null, TestService.Group));
        var turn = await TurnAsync(twin);
        (turn.State, turn.ActsDone, turn.Problems).ShouldBe((TurnState.Done, 3, 0), turn.Reason);
        var entries = await LookAsync(shelf, "/");
        entries.Items.Select(e => (e.Name.Text, e.Kind)).ShouldBe([("index.html", FileKind.File), ("tides.bin", FileKind.File), ("today.csv", FileKind.Link)]);
        entries.Items.ShouldAllBe(e => e.Owner == "" && e.Group == "");
        (await ReadAsync(shelf, "/index.html")).ShouldBe(await File.ReadAllBytesAsync(Kept(shelf, "/index.html")));
        (await ListAsync()).Single().Files.ShouldBe(2);
        turn = await TurnAsync(twin);
        (turn.Acts, turn.Same).ShouldBe((0, 3));
        var audit = (await service.Api.GetAsync("audit?limit=50", WireJson.Default.PageAuditInfo, default)).Items.Select(a => a.Action).ToList();
        audit.ShouldContain("shelf.create");
        audit.ShouldContain("shelf.read");
        // Nobody but the service gets at it on its disk.
        if (!OperatingSystem.IsWindows())
        {
            File.GetUnixFileMode(Path.GetDirectoryName(Kept(shelf))!).ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        }
    }

    [Fact]
    public async Task What_is_taken_away_and_what_makes_room_can_be_put_back_on_the_service()
    {
        var shelf = await MakeAsync();
        var twin = await TwinAsync("kept", Board, On(shelf), deletes: true);
        await TurnAsync(twin);
        await File.WriteAllTextAsync(Kept(shelf, "/own.txt"), "own");
        await File.WriteAllTextAsync(Kept(shelf, "/index.html"), "changed here");
        var turn = await TurnAsync(twin);
        (turn.State, turn.ActsDone).ShouldBe((TurnState.Done, 2), turn.Reason);
        File.Exists(Kept(shelf, "/own.txt")).ShouldBeFalse();
        var trash = Directory.GetFiles(service.In($"shelves/{shelf.Id:N}/state/trash/files")).ToDictionary(f => Path.GetFileName(f), File.ReadAllText);
        trash["own.txt"].ShouldBe("own");
        trash["index.html"].ShouldBe("changed here");
    }

    [Fact]
    public async Task A_folder_of_a_shelf_comes_to_a_host()
    {
        var shelf = await MakeAsync();
        Directory.CreateDirectory(Kept(shelf, "/signs/quay"));
        await File.WriteAllTextAsync(Kept(shelf, "/signs/quay/gate.txt"), "Gate 2\n");
        var turn = await TurnAsync(await TwinAsync("signs", On(shelf, "/signs"), new TwinPlace(host.Id, new FileName("/srv/signs"))));
        (turn.State, turn.ActsDone, turn.BytesDone).ShouldBe((TurnState.Done, 2, 7), turn.Reason);
        turn = await TurnAsync(await TwinAsync("nothing", On(shelf, "/nothing"), new TwinPlace(host.Id, new FileName("/srv/nothing"))));
        (turn.State, turn.Reason).ShouldBe((TurnState.Failed, "There is no folder /nothing on the shelf boards. Nothing was done."));
    }

    [Fact]
    public async Task What_can_not_be_kept_is_said_without_saying_where_the_service_keeps_it()
    {
        var shelf = await MakeAsync();
        await File.WriteAllTextAsync(Kept(shelf, "/board"), "a file where a folder is to be");
        var turn = await TurnAsync(await TwinAsync("kept", Board, On(shelf, "/board")));
        (turn.State, turn.Reason).ShouldBe((TurnState.Failed, "/board on the shelf boards is no folder."));
        foreach (var (path, why) in new[] { ("/board/x", "/board/x"), ("/nothing", "/nothing"), ("nothing", "whole path"), ("/a/../../state", "whole path") })
        {
            foreach (var ask in new Func<Task>[] { () => LookAsync(shelf, path), () => ReadAsync(shelf, path) })
            {
                var said = (await Should.ThrowAsync<ApiException>(ask)).Message;
                said.ShouldContain(why);
                said.ShouldNotContain(service.In("shelves"));
            }
        }
        (await Should.ThrowAsync<ApiException>(() => ReadAsync(shelf, "/"))).Message.ShouldNotContain(service.In("shelves"));
    }

    [Fact]
    public async Task A_link_on_a_shelf_leads_out_of_nothing()
    {
        var shelf = await MakeAsync();
        await File.WriteAllTextAsync(service.In("secret"), "of the service");
        File.CreateSymbolicLink(Kept(shelf, "/out"), service.In("secret"));
        File.CreateSymbolicLink(Kept(shelf, "/up"), "../../..");
        await Should.ThrowAsync<ApiException>(() => ReadAsync(shelf, "/out"));
        await Should.ThrowAsync<ApiException>(() => ReadAsync(shelf, "/up/secret"));
        await Should.ThrowAsync<ApiException>(() => LookAsync(shelf, "/up"));
        (await LookAsync(shelf, "/")).Items.Select(e => e.Kind).ShouldBe([FileKind.Link, FileKind.Link]);
    }

    [Fact]
    public async Task One_turn_at_a_time_puts_something_on_a_shelf()
    {
        var shelf = await MakeAsync();
        var slow = await service.Api.PostAsync("twins", new NewTwin("slow", Board, On(shelf), new TwinRules(TwinWay.OneWay), 1024), WireJson.Default.NewTwin, WireJson.Default.TwinInfo, default);
        await service.Api.PostAsync($"twins/{slow.Id}/turns", new NewTurn(), WireJson.Default.NewTurn, WireJson.Default.TwinInfo, default);
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"twins/{slow.Id}", WireJson.Default.TwinInfo, default)).Turn is { State: TurnState.Moving, BytesDone: > 0 }, "some of it to have come");
        var turn = await TurnAsync(await TwinAsync("other", Board, On(shelf, "/other")));
        (turn.State, turn.Reason).ShouldBe((TurnState.Failed, "the shelf boards: Something else is being put on it; wait for its end."));
        // It can be looked at meanwhile.
        (await LookAsync(shelf, "/")).Items.ShouldNotBeEmpty();
        await service.Api.ActAsync(HttpMethod.Post, $"twins/{slow.Id}/cancel", default);
        await Wait.UntilAsync(async () => (await TurnAsync((await service.Api.GetAsync("twins", WireJson.Default.ListTwinInfo, default)).Single(t => t.Name == "other"))).State == TurnState.Done, "the other to have its turn");
    }

    [Fact]
    public async Task A_shelf_is_of_those_who_may_at_its_group()
    {
        var shelf = await MakeAsync();
        var stranger = await service.JoinedByAsync("Jonas Pell", group: null);
        (await Should.ThrowAsync<ApiException>(() => ListAsync(stranger))).Message.ShouldContain("None of your grants");
        (await Should.ThrowAsync<ApiException>(() => MakeAsync("mine", stranger))).Message.ShouldContain("None of your grants");
        await service.GrantAsync("Jonas Pell", "viewer", TestService.Group);
        (await Should.ThrowAsync<ApiException>(() => ReadAsync(shelf, "/x", stranger))).Message.ShouldContain("None of your grants");
        await service.GrantAsync("Jonas Pell", "technician", TestService.Group);
        (await ListAsync(stranger)).ShouldHaveSingleItem().Id.ShouldBe(shelf.Id);
        (await MakeAsync("mine", stranger)).CreatedBy.ShouldBe("Jonas Pell");
    }

    [Fact]
    public async Task Names_are_checked_and_a_group_with_a_shelf_stays()
    {
        await MakeAsync();
        (await Should.ThrowAsync<ApiException>(() => MakeAsync())).Message.ShouldContain("already");
        (await Should.ThrowAsync<ApiException>(() => MakeAsync("a/b"))).Message.ShouldContain("no slash");
        (await Should.ThrowAsync<ApiException>(() => MakeAsync(" "))).Message.ShouldContain("name");
        (await Should.ThrowAsync<ApiException>(() => MakeAsync(new string('a', 121)))).Message.ShouldContain("120");
        Directory.GetDirectories(service.In("shelves")).Length.ShouldBe(1);
        var sub = await service.Api.PostAsync("groups", new NewGroup("Signs", TestService.Group), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        var own = await service.Api.PostAsync("shelves", new NewShelf("signs", sub.Id), WireJson.Default.NewShelf, WireJson.Default.ShelfInfo, default);
        (await Should.ThrowAsync<ApiException>(() => service.Api.ActAsync(HttpMethod.Delete, $"groups/{sub.Id}", default))).Message.ShouldContain("the shelf 'signs'");
        await service.Api.ActAsync(HttpMethod.Delete, $"shelves/{own.Id}", default);
        await service.Api.ActAsync(HttpMethod.Delete, $"groups/{sub.Id}", default);
    }

    [Fact]
    public async Task A_shelf_goes_with_all_that_lies_on_it_and_its_twins_say_so()
    {
        var shelf = await MakeAsync();
        var twin = await TwinAsync("kept", Board, On(shelf));
        await TurnAsync(twin);
        Directory.CreateDirectory(Kept(shelf, "/closed/in"));
        if (!OperatingSystem.IsWindows())
        {
            File.SetUnixFileMode(Kept(shelf, "/closed"), UnixFileMode.None);
        }
        await service.Api.ActAsync(HttpMethod.Delete, $"shelves/{shelf.Id}", default);
        (await ListAsync()).ShouldBeEmpty();
        Directory.GetDirectories(service.In("shelves")).ShouldBeEmpty();
        (await Should.ThrowAsync<ApiException>(() => TurnAsync(twin))).Message.ShouldContain("no such shelf");
        var now = (await service.Api.GetAsync("twins", WireJson.Default.ListTwinInfo, default)).Single();
        (now.Second.Label, now.Second.ShelfId).ShouldBe((null, shelf.Id));
    }

    [Theory]
    [InlineData(true, true)]
    [InlineData(false, false)]
    public async Task A_folder_lies_on_a_host_or_on_a_shelf(bool onHost, bool onShelf)
    {
        var shelf = await MakeAsync();
        var odd = new TwinPlace(onHost ? host.Id : null, new FileName("/a"), onShelf ? shelf.Id : null);
        (await Should.ThrowAsync<ApiException>(() => TwinAsync("odd", odd, On(shelf)))).Message.ShouldContain("on a host or on a shelf");
        (await Should.ThrowAsync<ApiException>(() => TwinAsync("odd", On(shelf, "/a"), On(shelf, "/b")))).Message.ShouldContain("has to be a host's");
    }
}
