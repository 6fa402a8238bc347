using System.Text;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Agent.Access;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;
using Umbrek.Service.Shell;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Sessions;
using Umbrek.Wire.Shell;

namespace Umbrek.Service.Tests.Sessions;

/// <summary>Shells that are recorded because the host policy says so: the real agent, through channels of a real service.</summary>
public sealed class RecordingTests
{
    private static readonly ShellWish Terminal = new() { Terminal = new TerminalSize(90, 20) };

    private static Task<SessionInfo> SessionAsync(ApiClient who, Guid host) =>
        who.PostAsync($"hosts/{host}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);

    private static Task<PolicyInfo> AskForAsync(TestService service, RecordRule rule) =>
        service.Api.PutAsync("policy", new HostPolicyPart(Record: rule), 0, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, default);

    /// <summary>Types lines into a shell, each once the prompt is there, and hears it to its end.</summary>
    private static async Task<ChannelTicket> TypeAsync(ApiClient who, SessionInfo session, ShellWish wish, params string[] lines)
    {
        var (socket, ticket) = await ChannelSocket.OpenAsync(who, null, session.Id, new NewChannel(ChannelKinds.Shell, wish), default);
        using (socket)
        {
            using var frames = new ShellFrames(socket);
            using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(3));
            var (heard, next) = (new StringBuilder(), 0);
            while (await frames.ReceiveAsync(limit.Token) is { } message)
            {
                if (message.Word is { Ended: not null })
                {
                    await frames.SendAsync(new ShellWord(End: true), default);
                    break;
                }
                heard.Append(Encoding.UTF8.GetString(message.Data.Span));
                // One to which somebody comes back has shown its prompt already.
                if (next < lines.Length && (heard.ToString().EndsWith("# ", StringComparison.Ordinal) || (message.Word?.Opened is not null && wish.ShellId is not null)))
                {
                    heard.Clear();
                    await frames.SendAsync(ShellStream.Input, Encoding.UTF8.GetBytes(lines[next++] + "\r"), default);
                }
            }
        }
        return ticket;
    }

    private static async Task<List<RecordingInfo>> ListAsync(ApiClient who, string query = "") => [.. (await who.GetAsync($"recordings{query}", WireJson.Default.PageRecordingInfo, default)).Items];

    /// <summary>The recording, once it is packed.</summary>
    private static async Task<RecordingInfo> EndedAsync(ApiClient who, Guid id)
    {
        RecordingInfo info = null!;
        await Wait.UntilAsync(async () => (info = await who.GetAsync($"recordings/{id}", WireJson.Default.RecordingInfo, default)).EndedAt is not null, "the recording to end");
        return info;
    }

    private static async Task<(CastHeader Header, List<CastEvent> Events)> CastAsync(ApiClient who, Guid id)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}recordings/{id}/content");
        using var response = await who.SendRawAsync(request, default);
        response.Content.Headers.ContentType!.MediaType.ShouldBe(RecordingInfo.CastType);
        var lines = (await response.Content.ReadAsStringAsync()).Split('\n', StringSplitOptions.RemoveEmptyEntries);
        return (CastReader.ReadHeader(lines[0]), [.. lines.Skip(1).Select(l => CastReader.ReadEvent(l)!.Value)]);
    }

    private static string Of(List<CastEvent> events, CastKind kind) => string.Concat(events.Where(e => e.Kind == kind).Select(e => e.Text));

    [Fact]
    public async Task Where_the_policy_says_so_what_a_shell_shows_is_kept_and_nothing_else()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        (await TypeAsync(service.Api, await SessionAsync(service.Api, agent.Id), Terminal, "exit")).Recording.ShouldBeNull();
        (await ListAsync(service.Api)).ShouldBeEmpty();

        await AskForAsync(service, RecordRule.Screen);
        var ticket = await TypeAsync(service.Api, await SessionAsync(service.Api, agent.Id), Terminal, "hostname", "exit");
        ticket.Recording!.HasKeys.ShouldBeFalse();
        var info = await EndedAsync(service.Api, ticket.Recording.Id);
        (info.HostLabel, info.Technician, info.CommandText, info.User, info.IsTerminal, info.HasKeys, info.Continues).ShouldBe(("quay-ticket-01", TestService.Name, "login shell", "root", true, false, false));
        var (header, events) = await CastAsync(service.Api, info.Id);
        (header.Size, header.Title).ShouldBe((new TerminalSize(90, 20), "Ines Okafor at quay-ticket-01 in Saltmarsh Ferry/Quay"));
        Of(events, CastKind.Output).ShouldContain("hostname\r\nquay-ticket-01\r\n");
        Of(events, CastKind.Input).ShouldBe("");
        Of(events, CastKind.Marker).ShouldBe("ended with exit status 0");
        // What is fetched is what was recorded.
        var (_, _, response) = await service.SendAsync(HttpMethod.Get, $"/api/v1/recordings/{info.Id}/content");
        Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(await response.Content.ReadAsByteArrayAsync())).ShouldBe(info.Sha256);
        (await service.Api.GetAsync("audit?action=recording.watch", WireJson.Default.PageAuditInfo, default)).Items.Count.ShouldBe(2);
        (await service.Api.GetAsync("audit?action=shell.open", WireJson.Default.PageAuditInfo, default)).Items[0].Detail.ShouldContain($"{info.Id}");
    }

    [Fact]
    public async Task The_host_s_own_side_can_ask_for_it_with_keys_and_pipes_are_recorded_too()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01", state => HostLimit.Write(state.LimitFile, new HostPolicyPart(Record: RecordRule.ScreenAndKeys)));
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"hosts/{agent.Id}/policy", WireJson.Default.PolicyInfo, default)).Side?.InForce.Record == RecordRule.ScreenAndKeys, "the host to say so");
        // What is wanted of it can't take that back.
        await AskForAsync(service, RecordRule.None);
        var session = await SessionAsync(service.Api, agent.Id);
        var typed = (await TypeAsync(service.Api, session, Terminal, "hostname", "exit")).Recording!;
        typed.HasKeys.ShouldBeTrue();
        var (_, events) = await CastAsync(service.Api, (await EndedAsync(service.Api, typed.Id)).Id);
        Of(events, CastKind.Input).ShouldBe("hostname\rexit\r");

        var piped = (await TypeAsync(service.Api, session, new ShellWish { Command = new CommandSpec { Line = "hostname; exit 3" } })).Recording!;
        var info = await EndedAsync(service.Api, piped.Id);
        (info.CommandText, info.IsTerminal).ShouldBe(("hostname; exit 3", false));
        (_, events) = await CastAsync(service.Api, info.Id);
        (Of(events, CastKind.Output), Of(events, CastKind.Marker)).ShouldBe(("quay-ticket-01\n", "ended with exit status 3"));
    }

    [Fact]
    public async Task Technicians_see_their_own_and_who_administers_a_place_sees_all_of_it_and_removes_them()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await AskForAsync(service, RecordRule.Screen);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        using var odile = await service.JoinedByAsync("Odile Marsh");
        using var priya = await service.JoinedByAsync("Priya Lund", "lead", "Copperbeech Libraries");
        var session = await SessionAsync(tomasz, agent.Id);
        var id = (await TypeAsync(tomasz, session, Terminal, "exit")).Recording!.Id;
        await EndedAsync(tomasz, id);
        (await ListAsync(tomasz)).ShouldHaveSingleItem().Id.ShouldBe(id);
        (await ListAsync(service.Api, "?technician=tomas")).ShouldHaveSingleItem();
        (await ListAsync(service.Api, "?technician=odile")).ShouldBeEmpty();
        foreach (var other in new[] { odile, priya })
        {
            (await ListAsync(other)).ShouldBeEmpty();
            (await Should.ThrowAsync<ApiException>(() => CastAsync(other, id))).Problem.Status.ShouldBe(404);
        }
        (await Should.ThrowAsync<ApiException>(() => tomasz.ActAsync(HttpMethod.Delete, $"recordings/{id}", default))).Problem.Status.ShouldBe(403);
        var second = (await TypeAsync(tomasz, session, Terminal, "exit")).Recording!.Id;
        (await ListAsync(tomasz, "?limit=1")).ShouldHaveSingleItem().Id.ShouldBe(second);
        (await ListAsync(tomasz, $"?limit=1&cursor={second}")).ShouldHaveSingleItem().Id.ShouldBe(id);
        await EndedAsync(tomasz, second);
        await service.Api.ActAsync(HttpMethod.Delete, $"recordings/{id}", default);
        (await ListAsync(tomasz)).ShouldHaveSingleItem().Id.ShouldBe(second);
        Directory.GetFiles(service.In("recordings")).Length.ShouldBe(1);
        (await service.Api.GetAsync("audit?action=recording.delete", WireJson.Default.PageAuditInfo, default)).Items.ShouldHaveSingleItem().Detail.ShouldContain("Tomasz Vail");
    }

    [Fact]
    public async Task A_shell_that_nobody_came_to_leaves_no_recording()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01", state => HostLimit.Write(state.LimitFile, new HostPolicyPart(Allowed: [HostAct.Run])));
        await AskForAsync(service, RecordRule.Screen);
        var session = await SessionAsync(service.Api, agent.Id);
        await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync($"sessions/{Guid.CreateVersion7()}/channels", new NewChannel(ChannelKinds.Shell, Terminal), WireJson.Default.NewChannel, WireJson.Default.ChannelTicket, default));
        (await ListAsync(service.Api)).ShouldBeEmpty();
        // The host refuses: there is no shell, and nothing was shown.
        var (socket, _) = await ChannelSocket.OpenAsync(service.Api, null, session.Id, new NewChannel(ChannelKinds.Shell, Terminal), default);
        using (socket)
        {
            using var frames = new ShellFrames(socket);
            (await frames.ReceiveAsync(default))!.Value.Word!.Problem!.ShouldContain("does not allow shells");
        }
        await Wait.UntilAsync(async () => (await ListAsync(service.Api)).Count == 0, "it to be forgotten");
        await Wait.UntilAsync(() => Directory.GetFiles(service.In("recordings")).Length == 0, "its file to go");
    }

    [Fact]
    public async Task What_can_t_be_recorded_does_not_happen()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await AskForAsync(service, RecordRule.Screen);
        await File.WriteAllTextAsync(service.In("recordings"), "in the way");
        var session = await SessionAsync(service.Api, agent.Id);
        (await Should.ThrowAsync<ApiException>(() => TypeAsync(service.Api, session, Terminal, "exit"))).Message.ShouldContain("no recording can be written");
        (await service.Api.GetAsync("audit?action=shell.open", WireJson.Default.PageAuditInfo, default)).Items.ShouldBeEmpty();
    }

    [Fact]
    public async Task A_full_recording_ends_the_channel_and_the_next_one_goes_on()
    {
        await using var service = await TestService.StartAsync(adjust: o => o with { RecordingBytes = 2_000 });
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await AskForAsync(service, RecordRule.Screen);
        var session = await SessionAsync(service.Api, agent.Id);
        var (socket, ticket) = await ChannelSocket.OpenAsync(service.Api, null, session.Id, new NewChannel(ChannelKinds.Shell, Terminal), default);
        var (shell, seen) = (Guid.Empty, 0L);
        using (socket)
        {
            using var frames = new ShellFrames(socket);
            using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(3));
            while (await frames.ReceiveAsync(limit.Token) is { } message)
            {
                shell = message.Word?.Opened?.ShellId ?? shell;
                seen += message.Data.Length;
                if (message.Data.Length > 0)
                {
                    await frames.SendAsync(ShellStream.Input, "x"u8.ToArray(), default);
                }
            }
            frames.ClosedBecause!.ShouldContain("recording is full");
        }
        var first = await EndedAsync(service.Api, ticket.Recording!.Id);
        first.Bytes!.Value.ShouldBeLessThanOrEqualTo(2_000);
        var (_, events) = await CastAsync(service.Api, first.Id);
        // Nothing was shown that is not in it.
        Encoding.UTF8.GetByteCount(Of(events, CastKind.Output)).ShouldBe((int)seen);

        var second = await TypeAsync(service.Api, session, Terminal with { ShellId = shell, Seen = seen }, "\u0015exit");
        var info = await EndedAsync(service.Api, second.Recording!.Id);
        (info.Continues, info.ShellId).ShouldBe((true, shell));
        (await ListAsync(service.Api, $"?shell={shell}")).Count.ShouldBe(2);
    }

    [Fact]
    public async Task A_service_that_goes_down_in_the_middle_has_what_was_written_and_keeps_it_so_long()
    {
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time, adjust: o => o with { RecordingDays = 30 });
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await AskForAsync(service, RecordRule.Screen);
        var ended = (await TypeAsync(service.Api, await SessionAsync(service.Api, agent.Id), Terminal, "exit")).Recording!.Id;
        var text = (await CastAsync(service.Api, (await EndedAsync(service.Api, ended)).Id)).Events;
        // As a service leaves it that is killed: plain text, whose last line is cut, and a row without an end.
        var (broken, lost, packed) = (Guid.CreateVersion7(), Guid.CreateVersion7(), Guid.CreateVersion7());
        await using (var db = service.Get<Umbrek.Service.Storage.IDatabase>().Open())
        {
            foreach (var id in new[] { broken, lost, packed })
            {
                db.Recordings.Add(new() { Id = id, SessionId = Guid.CreateVersion7(), HostId = agent.Id, TechnicianId = Guid.CreateVersion7(), Technician = "Tomasz Vail", CommandText = "login shell", BeganAt = time.GetUtcNow() });
            }
            await db.SaveChangesAsync();
        }
        await File.WriteAllTextAsync(service.In($"recordings/{broken:N}.cast"), "{\"version\":2,\"width\":80,\"height\":24}\n[0.1,\"o\",\"ebb\"]\n[0.2,\"o\",\"fl");
        // Another was packed, and that was not said yet.
        File.Copy(service.In($"recordings/{ended:N}.cast.gz"), service.In($"recordings/{packed:N}.cast.gz"));
        await File.WriteAllTextAsync(service.In($"recordings/{Guid.CreateVersion7():N}.cast.gz"), "nobody's");
        await service.RestartAsync();
        var found = await EndedAsync(service.Api, broken);
        var (_, events) = await CastAsync(service.Api, found.Id);
        Of(events, CastKind.Output).ShouldBe("ebb");
        (await EndedAsync(service.Api, packed)).Sha256.ShouldBe((await EndedAsync(service.Api, ended)).Sha256);
        await Wait.UntilAsync(() => Directory.GetFiles(service.In("recordings")).Length == 3, "what is nobody's to go");
        (await ListAsync(service.Api)).Select(r => r.Id).ShouldBe([broken, packed, ended], ignoreOrder: true);
        (await CastAsync(service.Api, ended)).Events.ShouldBe(text);

        time.AdjustTime(time.GetUtcNow() + TimeSpan.FromDays(30));
        time.Advance(TimeSpan.FromDays(1));
        await service.SignInAgainAsync();
        await Wait.UntilAsync(async () => (await ListAsync(service.Api)).Count == 0, "them to be forgotten");
        await Wait.UntilAsync(() => Directory.GetFiles(service.In("recordings")).Length == 0, "their files to go");
        (await service.Api.GetAsync("audit?action=recording.expire", WireJson.Default.PageAuditInfo, default)).Items.ShouldNotBeEmpty();
    }
}
