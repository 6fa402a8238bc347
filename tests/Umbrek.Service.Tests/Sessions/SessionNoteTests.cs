using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Tests.Sessions;

/// <summary>What is written about sessions, and what was done in them.</summary>
public sealed class SessionNoteTests
{
    private static Task<SessionInfo> SessionAsync(ApiClient who, Guid host, string? reason = null) =>
        who.PostAsync($"hosts/{host}/sessions", new NewSession(reason), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);

    private static Task<SessionInfo> NoteAsync(ApiClient who, Guid session, string? note) =>
        who.PutAsync($"sessions/{session}/note", new SessionNote(note), 0, WireJson.Default.SessionNote, WireJson.Default.SessionInfo, default);

    private static async Task<List<Guid>> FindAsync(ApiClient who, string text) =>
        [.. (await who.GetAsync($"sessions?text={Uri.EscapeDataString(text)}", WireJson.Default.PageSessionInfo, default)).Items.Select(s => s.Id)];

    [Fact]
    public async Task A_note_is_kept_found_and_changed_by_whose_session_it_is_and_who_administers_the_place()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        using var odile = await service.JoinedByAsync("Odile Marsh");
        var session = await SessionAsync(tomasz, agent.Id, "the till is slow");
        await tomasz.ActAsync(HttpMethod.Post, $"sessions/{session.Id}/end", default);
        (await NoteAsync(tomasz, session.Id, "  The PRINTER hangs.\nBram orders one.  ")).Note.ShouldBe("The PRINTER hangs.\nBram orders one.");
        foreach (var part in new[] { "printer", "TILL", "tomasz v" })
        {
            (await FindAsync(odile, part)).ShouldBe([session.Id], part);
        }
        (await FindAsync(odile, "100 %")).ShouldBeEmpty();
        (await Should.ThrowAsync<ApiException>(() => NoteAsync(odile, session.Id, "mine"))).Problem.Status.ShouldBe(403);
        (await NoteAsync(service.Api, session.Id, null)).Note.ShouldBeNull();
        (await FindAsync(odile, "printer")).ShouldBeEmpty();
        var lines = (await service.Api.GetAsync("audit?action=session.note", WireJson.Default.PageAuditInfo, default)).Items;
        lines.Count.ShouldBe(2);
        lines[0].Detail.ShouldContain("PRINTER");
    }

    [Fact]
    public async Task What_is_no_note_is_refused_with_why()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var session = await SessionAsync(service.Api, agent.Id);
        (await Should.ThrowAsync<ApiException>(() => NoteAsync(service.Api, session.Id, new string('x', SessionNote.MaxLength + 1)))).Message.ShouldContain("4000 characters at most");
        (await Should.ThrowAsync<ApiException>(() => NoteAsync(service.Api, session.Id, "a\u0007b"))).Message.ShouldContain("control characters");
        (await Should.ThrowAsync<ApiException>(() => NoteAsync(service.Api, Guid.CreateVersion7(), "x"))).Problem.Status.ShouldBe(404);
        (await NoteAsync(service.Api, session.Id, "Ebb\tand flow, 潮 🌊")).Note.ShouldBe("Ebb\tand flow, 潮 🌊");
    }

    [Fact]
    public async Task What_was_done_in_a_session_stands_in_its_order_and_nothing_of_another()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        var (his, hers) = (await SessionAsync(tomasz, agent.Id, "one"), await SessionAsync(service.Api, agent.Id, "two"));
        await tomasz.PostAsync($"sessions/{his.Id}/channels", new NewChannel(ChannelKinds.Shell, new() { Terminal = new(80, 24) }), WireJson.Default.NewChannel, WireJson.Default.ChannelTicket, default);
        await NoteAsync(service.Api, hers.Id, "hers");
        await NoteAsync(service.Api, his.Id, "his, by another");
        await tomasz.ActAsync(HttpMethod.Post, $"sessions/{his.Id}/end", default);
        async Task<List<SessionAct>> ActsAsync(ApiClient who, Guid id) => [.. (await who.GetAsync($"sessions/{id}/acts", WireJson.Default.PageSessionAct, default)).Items];
        var acts = await ActsAsync(tomasz, his.Id);
        acts.ConvertAll(a => a.Action).ShouldBe(["session.open", "shell.open", "session.note", "session.end"]);
        acts.ConvertAll(a => a.By).ShouldBe(["Tomasz Vail", "Tomasz Vail", TestService.Name, "Tomasz Vail"]);
        (await ActsAsync(service.Api, his.Id)).ShouldBe(acts);
        (await Should.ThrowAsync<ApiException>(() => ActsAsync(tomasz, hers.Id))).Problem.Status.ShouldBe(403);
    }
}
