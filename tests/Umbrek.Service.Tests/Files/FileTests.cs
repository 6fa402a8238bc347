using System.Security.Cryptography;
using System.Text;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Core.Access;
using Umbrek.Core.Files;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Files;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Tests.Files;

/// <summary>Files of hosts, for those who may read them.</summary>
public sealed class FileTests
{
    [Fact]
    public async Task Files_are_listed_and_read_and_the_audit_log_says_what_was_read()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-03");
        var session = await SessionAsync(service.Api, agent.Id);
        var channel = await OpenAsync(service.Api, session);
        var frames = FileFrames.OfTechnician(channel.Socket);
        // Asked one behind the other, without waiting.
        await frames.SayAsync(new FileAsk(List: new FileName("/etc/kiosk")), default);
        await frames.SayAsync(new FileAsk(Transfer: new FileName("/etc")), default);
        await frames.SayAsync(new FileAsk(Read: new FileRead(new FileName("/etc/hostname"))), default);
        await frames.SayAsync(new FileAsk(Read: new FileRead(new FileName("/etc/none"))), default);
        var listed = (await frames.ReceiveAsync(default))!.Value.Word!;
        listed.Done.ShouldBeTrue();
        listed.Entries!.Select(e => e.Name.Text).ShouldBe(["kiosk.conf", "timetable.csv"]);
        (await frames.ReceiveAsync(default))!.Value.Word!.Done.ShouldBeTrue();
        (await frames.ReceiveAsync(default))!.Value.Word!.Entry!.Owner.ShouldBe("root");
        Encoding.UTF8.GetString((await frames.ReceiveAsync(default))!.Value.Data.Span).ShouldBe("quay-ticket-03\n");
        (await frames.ReceiveAsync(default))!.Value.Word!.Sha256.ShouldBe(SHA256.HashData("quay-ticket-03\n"u8));
        (await frames.ReceiveAsync(default))!.Value.Word!.Problem.ShouldBe("There is no /etc/none on this host.");
        channel.Socket.Dispose();

        await Umbrek.Tests.Wait.UntilAsync(async () => (await AuditAsync(service.Api, "file.read")).Count == 1, "the host to say what was read");
        var said = (await AuditAsync(service.Api, "file.read"))[0];
        (said.Actor, said.Target.Contains("quay-ticket-03", StringComparison.Ordinal)).ShouldBe(("Ines Okafor", true));
        foreach (var detail in (string[])["/etc", "15", Convert.ToHexStringLower(SHA256.HashData("quay-ticket-03\n"u8)), $"{session}"])
        {
            said.Detail.ShouldContain(detail);
        }
        (await AuditAsync(service.Api, "file.look")).ShouldHaveSingleItem();
    }

    [Fact]
    public async Task It_takes_the_permission_to_read_files_and_the_host_to_allow_it()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-03");
        await service.Api.PostAsync("roles", new NewRole("run only", [Permission.See, Permission.Run, Permission.Shell]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        await service.Api.PostAsync("roles", new NewRole("reads", [Permission.See, Permission.ReadFiles]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "run only");
        var session = await SessionAsync(tomasz, agent.Id);
        (await Should.ThrowAsync<ApiException>(() => OpenAsync(tomasz, session))).Message.ShouldContain("read files of quay-ticket-03");
        using var priya = await service.JoinedByAsync("Priya Lund", "reads");
        (await LookAsync(priya, agent.Id)).Entry.ShouldNotBeNull();

        await service.Api.PutAsync($"hosts/{agent.Id}/policy", new HostPolicyPart([HostAct.Run]), 0, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, default);
        await Umbrek.Tests.Wait.UntilAsync(
            async () => (await LookAsync(priya, agent.Id)).Refusal?.Contains("does not allow its files to be read", StringComparison.Ordinal) == true, "the host to keep to it");
    }

    [Fact]
    public async Task Files_are_changed_and_written_and_the_audit_log_says_so()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-03");
        var channel = await OpenAsync(service.Api, await SessionAsync(service.Api, agent.Id), changes: true);
        var frames = FileFrames.OfTechnician(channel.Socket);
        async Task<FileWord> SayAsync(FileAsk ask)
        {
            await frames.SayAsync(ask, default);
            FileWord word;
            do
            {
                word = (await frames.ReceiveAsync(default))!.Value.Word!;
            }
            while (!word.Done);
            return word;
        }
        (await SayAsync(new FileAsk(Change: new FileChange(Folder: new FileName("/srv/new"))))).Problem.ShouldBeNull();
        await frames.WriteAsync(new FileAsk(Write: new FileWrite(new FileName("/srv/new/plan"), 4, "1")), default);
        await frames.WriteAsync("plan"u8.ToArray(), default);
        (await SayAsync(new FileAsk(End: new FileEnd(SHA256.HashData("plan"u8))))).Entry!.Bytes.ShouldBe(4);
        (await SayAsync(new FileAsk(Change: new FileChange(Move: new FileMove(new FileName("/srv/new/plan"), new FileName("/srv/new/plan.old")))))).Problem.ShouldBeNull();
        var deleted = (await SayAsync(new FileAsk(Change: new FileChange(Delete: new FileName("/srv/new"))))).Trash!.ShouldHaveSingleItem();
        (await SayAsync(new FileAsk(Look: new FileName("/srv/new/plan.old")))).Problem.ShouldNotBeNull();
        (await SayAsync(new FileAsk(Change: new FileChange(Restore: deleted.Id)))).Problem.ShouldBeNull();
        (await SayAsync(new FileAsk(Change: new FileChange(Set: new FileSetting(new FileName("/srv/new"), Mode: 0x1c0, Deep: true))))).Count.ShouldBe(2);
        (await SayAsync(new FileAsk(Change: new FileChange(Erase: new FileName("/srv/new"))))).Count.ShouldBe(2);
        (await SayAsync(new FileAsk(Read: new FileRead(new FileName("/etc/hostname"))))).Problem.ShouldNotBeNull().ShouldContain("This channel is for changes");
        channel.Socket.Dispose();
        (string Action, string Detail)[] expected =
        [
            ("file.change", "session"), ("file.folder", "/srv/new"), ("file.write", Convert.ToHexStringLower(SHA256.HashData("plan"u8))), ("file.move", "/srv/new/plan.old"), ("file.delete", "the trash"),
            ("file.restore", "/srv/new"), ("file.set", "mode 0700, with all below it"), ("file.erase", "/srv/new"),
        ];
        foreach (var (action, detail) in expected)
        {
            await Umbrek.Tests.Wait.UntilAsync(async () => (await AuditAsync(service.Api, action)).Count == 1, $"the host to say {action}");
            (await AuditAsync(service.Api, action))[0].Detail.ShouldContain(detail);
        }
    }

    [Fact]
    public async Task It_takes_another_permission_to_change_files()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-03");
        await service.Api.PostAsync("roles", new NewRole("reads", [Permission.See, Permission.ReadFiles]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        await service.Api.PostAsync("roles", new NewRole("writes", [Permission.See, Permission.WriteFiles]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var priya = await service.JoinedByAsync("Priya Lund", "reads");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "writes");
        (await Should.ThrowAsync<ApiException>(async () => await OpenAsync(priya, await SessionAsync(priya, agent.Id), changes: true))).Message.ShouldContain("change files of quay-ticket-03");
        var session = await SessionAsync(tomasz, agent.Id);
        (await Should.ThrowAsync<ApiException>(() => OpenAsync(tomasz, session))).Message.ShouldContain("read files of quay-ticket-03");
        (await OpenAsync(tomasz, session, changes: true)).Socket.Dispose();
    }

    [Fact]
    public async Task The_host_policy_names_the_folders_that_technicians_are_let_into()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-03");
        var problem = await Should.ThrowAsync<ApiException>(() => service.Api.PutAsync($"hosts/{agent.Id}/policy", new HostPolicyPart(FileRoots: ["etc"]), 0, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, default));
        problem.Problem.Status.ShouldBe(400);
        var said = await service.Api.PutAsync($"hosts/{agent.Id}/policy", new HostPolicyPart(FileRoots: ["/srv/board/", "/srv"]), 0, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, default);
        said.Wanted.FileRoots.ShouldBe(["/srv"]);
        said.From.FileRoots.ShouldBe("quay-ticket-03");
        await Umbrek.Tests.Wait.UntilAsync(
            async () => (await LookAsync(service.Api, agent.Id)).Problem?.Contains("does not lie in what this host lets technicians into: /srv", StringComparison.Ordinal) == true, "the host to keep to it");
    }

    [Fact]
    public async Task A_host_fills_the_log_with_nothing_that_was_not_asked_of_it()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-03");
        await using var other = await RunningAgent.StartAsync(service, "quay-ticket-04");
        var channel = await OpenAsync(service.Api, await SessionAsync(service.Api, agent.Id));
        using var socket = channel.Socket;
        var files = service.Get<Umbrek.Service.Files.FileService>();
        var report = new FileReport(channel.Ticket.ChannelId, new FileName("/etc/shadow"), 1, 2, null, 0);
        await files.ToldAsync(other.Id, report);
        await files.ToldAsync(agent.Id, report with { ChannelId = Guid.NewGuid() });
        (await AuditAsync(service.Api, "file.read")).ShouldBeEmpty();
        await files.ToldAsync(agent.Id, report with { Path = new FileName("/etc/two\nlines") });
        (await AuditAsync(service.Api, "file.read")).ShouldHaveSingleItem().Detail.ShouldContain(@"/etc/two\u240Alines");
    }

    [Fact]
    public async Task A_token_that_ends_in_the_middle_of_a_file_ends_that_too_and_nothing_is_called_so()
    {
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time);
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-03");
        var made = await service.Api.PostAsync("me/tokens", new NewToken("nightly", [Permission.See, Permission.ReadFiles, Permission.WriteFiles], time.GetUtcNow().AddMinutes(3), TestService.Password), WireJson.Default.NewToken, WireJson.Default.TokenAnswer, default);
        using var script = new ApiClient(service.Address, null, made.Token);
        var content = RandomNumberGenerator.GetBytes(1000);
        var path = new FileName("/srv/plan");
        var session = await SessionAsync(script, agent.Id);
        using (var socket = (await OpenAsync(script, session, changes: true)).Socket)
        {
            var frames = FileFrames.OfTechnician(socket);
            await frames.WriteAsync(new FileAsk(Write: new FileWrite(path, content.Length, "1")), default);
            await frames.WriteAsync(content.AsMemory(0, 400), default);
            await frames.FlushAsync(default);
            var hears = frames.ReceiveAsync(default).AsTask();
            await Umbrek.Tests.Wait.UntilAsync(
                async () =>
                {
                    time.Advance(TimeSpan.FromMinutes(1));
                    return (await service.Api.GetAsync($"sessions/{session}", WireJson.Default.SessionInfo, default)).EndReason == "its sign-in is over";
                },
                "the session to end with its token");
            try
            {
                while (await hears is not null)
                {
                    hears = frames.ReceiveAsync(default).AsTask();
                }
            }
            catch (System.Net.WebSockets.WebSocketException)
            {
                // Cut off in the middle of a word.
            }
        }
        (await Should.ThrowAsync<ApiException>(() => SessionAsync(script, agent.Id))).Problem.Status.ShouldBe(401);

        // Nothing is called so yet, and whoever signs in again sends it.
        (await LookAsync(service.Api, agent.Id, path)).Entry.ShouldBeNull();
        using var again = (await OpenAsync(service.Api, await SessionAsync(service.Api, agent.Id), changes: true)).Socket;
        var anew = FileFrames.OfTechnician(again);
        await anew.WriteAsync(new FileAsk(Write: new FileWrite(path, content.Length, "1")), default);
        await anew.WriteAsync(content, default);
        await anew.SayAsync(new FileAsk(End: new FileEnd(SHA256.HashData(content))), default);
        FileWord word;
        do
        {
            word = (await anew.ReceiveAsync(default))!.Value.Word!;
        }
        while (!word.Done);
        word.Problem.ShouldBeNull();
        word.Entry!.Bytes.ShouldBe(1000);
    }

    private static async Task<FileWord> LookAsync(ApiClient who, Guid hostId, FileName? path = null)
    {
        var (socket, _) = await OpenAsync(who, await SessionAsync(who, hostId));
        using (socket)
        {
            var frames = FileFrames.OfTechnician(socket);
            await frames.SayAsync(new FileAsk(Look: path ?? new FileName("/etc")), default);
            return (await frames.ReceiveAsync(default))!.Value.Word!;
        }
    }

    private static async Task<List<Wire.Audit.AuditInfo>> AuditAsync(ApiClient who, string action) =>
        [.. (await who.GetAsync($"audit?action={action}", WireJson.Default.PageAuditInfo, default)).Items];

    private static async Task<Guid> SessionAsync(ApiClient who, Guid hostId) =>
        (await who.PostAsync($"hosts/{hostId}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default)).Id;

    private static Task<(System.Net.WebSockets.ClientWebSocket Socket, ChannelTicket Ticket)> OpenAsync(ApiClient who, Guid session, bool changes = false) =>
        ChannelSocket.OpenAsync(who, null, session, new NewChannel(ChannelKinds.Files, Files: new FilesWish(changes)), default);
}
