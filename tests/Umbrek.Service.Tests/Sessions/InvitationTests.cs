using Microsoft.AspNetCore.SignalR.Client;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Service.Sessions;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Service.Tests.Links;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Tests.Sessions;

/// <summary>Technicians who ask each other to the desktop of a host.</summary>
public sealed class InvitationTests
{
    private const string Host = "quay-ticket-01";
    private const string Tomasz = "Tomasz Vail";
    private const string Priya = "Priya Lund";

    private static async Task<Guid> IdAsync(ApiClient who) => (await who.GetAsync("me", WireJson.Default.Me, default)).Id;

    private static Task<SessionInfo> SessionAsync(ApiClient who, Guid host) =>
        who.PostAsync($"hosts/{host}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);

    private static async Task<InvitationInfo> SendAsync(ApiClient who, Guid host, ApiClient to, string? note = null) =>
        await who.PostAsync($"hosts/{host}/invitations", new NewInvitation(await IdAsync(to), note), WireJson.Default.NewInvitation, WireJson.Default.InvitationInfo, default);

    private static async Task<string> RefusedAsync(Task call) => (await Should.ThrowAsync<ApiException>(() => call)).Message;

    private static async Task<IReadOnlyList<InvitationInfo>> ListAsync(ApiClient who) => (await who.GetAsync("invitations", WireJson.Default.PageInvitationInfo, default)).Items;

    private static Task<InvitationInfo> AnswerAsync(ApiClient who, Guid id, bool comes) =>
        who.PostAsync($"invitations/{id}/answer", new InvitationAnswer(comes), WireJson.Default.InvitationAnswer, WireJson.Default.InvitationInfo, default);

    [Fact]
    public async Task A_colleague_sees_it_at_once_and_whoever_asked_sees_the_answer()
    {
        await using var service = await TestService.StartAsync();
        await using var link = await service.LinkAsync(Host);
        var host = (await service.HostAsync(Host)).Id;
        using var tomasz = await service.JoinedByAsync(Tomasz);
        await SessionAsync(service.Api, host);
        (await service.Api.GetAsync($"hosts/{host}/colleagues", WireJson.Default.PageColleague, default)).Items.ShouldBe([new Colleague(await IdAsync(tomasz), Tomasz, true, false)]);

        using var enough = new CancellationTokenSource(TimeSpan.FromSeconds(30));
        await using (var his = await service.LiveAsync(tomasz))
        {
            await using var hers = await service.LiveAsync(service.Api);
            await using var view = his.StreamAsync<InvitationsNow>("Invitations", enough.Token).GetAsyncEnumerator(enough.Token);
            await using var answers = hers.StreamAsync<InvitationsNow>("Invitations", enough.Token).GetAsyncEnumerator(enough.Token);
            (await view.MoveNextAsync()).ShouldBeTrue();
            view.Current.Invitations.ShouldBeEmpty();
            (await answers.MoveNextAsync()).ShouldBeTrue();
            (await service.Api.GetAsync($"hosts/{host}/colleagues", WireJson.Default.PageColleague, default)).Items.ShouldHaveSingleItem().IsHere.ShouldBeTrue();

            var sent = await SendAsync(service.Api, host, tomasz, "the till hangs at the same place again");
            (await view.MoveNextAsync()).ShouldBeTrue();
            var seen = view.Current.Invitations.ShouldHaveSingleItem();
            seen.ShouldBe(sent);
            (seen.From, seen.To, seen.HostLabel, seen.Note, seen.State, seen.MayControl, seen.Until - seen.At).ShouldBe((TestService.Name, Tomasz, Host, "the till hangs at the same place again", InvitationState.Open, true, InvitationService.Stands));
            (await answers.MoveNextAsync()).ShouldBeTrue();

            // Nobody else answers it or takes it back, nor hears of it.
            using var priya = await service.JoinedByAsync(Priya);
            (await ListAsync(priya)).ShouldBeEmpty();
            (await RefusedAsync(AnswerAsync(priya, sent.Id, true))).ShouldContain("no such invitation");
            (await RefusedAsync(AnswerAsync(service.Api, sent.Id, true))).ShouldContain("no such invitation");
            (await RefusedAsync(tomasz.ActAsync(HttpMethod.Delete, $"invitations/{sent.Id}", default))).ShouldContain("no such invitation");

            (await AnswerAsync(tomasz, sent.Id, false)).State.ShouldBe(InvitationState.Declined);
            (await answers.MoveNextAsync()).ShouldBeTrue();
            answers.Current.Invitations.ShouldHaveSingleItem().State.ShouldBe(InvitationState.Declined);
            (await AnswerAsync(tomasz, sent.Id, true)).State.ShouldBe(InvitationState.Accepted);

            // Asked once more, what was said before is over.
            var again = await SendAsync(service.Api, host, tomasz);
            (await ListAsync(tomasz)).ShouldBe([again]);
            await service.Api.ActAsync(HttpMethod.Delete, $"invitations/{again.Id}", default);
            (await ListAsync(tomasz)).ShouldBeEmpty();
        }
        await Wait.UntilAsync(async () => !(await service.Api.GetAsync($"hosts/{host}/colleagues", WireJson.Default.PageColleague, default)).Items.Single(c => c.Name == Tomasz).IsHere, "him to be gone");
        var acts = (await service.Api.GetAsync("audit?limit=100", WireJson.Default.PageAuditInfo, default)).Items.Where(a => a.Action.StartsWith("invitation.", StringComparison.Ordinal)).Select(a => a.Action).Reverse();
        acts.ShouldBe(["invitation.send", "invitation.answer", "invitation.answer", "invitation.send", "invitation.withdraw"]);
    }

    [Fact]
    public async Task It_goes_to_nobody_who_may_not_look_there_and_from_nobody_who_is_not_there()
    {
        await using var service = await TestService.StartAsync();
        await using var link = await service.LinkAsync(Host);
        var host = (await service.HostAsync(Host)).Id;
        using var tomasz = await service.JoinedByAsync(Tomasz);
        using var priya = await service.JoinedByAsync(Priya, "viewer");
        (await RefusedAsync(SendAsync(service.Api, host, tomasz))).ShouldBe($"You are not at {Host}. Open its desktop first, then ask {Tomasz}.");
        await SessionAsync(service.Api, host);
        (await RefusedAsync(SendAsync(service.Api, host, service.Api))).ShouldContain("You are there already");
        (await RefusedAsync(service.Api.PostAsync($"hosts/{host}/invitations", new NewInvitation(Guid.NewGuid()), WireJson.Default.NewInvitation, WireJson.Default.InvitationInfo, default))).ShouldContain("no such technician");
        (await RefusedAsync(SendAsync(service.Api, host, tomasz, "two\nlines"))).ShouldContain("note");
        (await RefusedAsync(service.Api.PostAsync($"hosts/{host}/invitations", new NewInvitation(await IdAsync(tomasz), Screen: "a\nb"), WireJson.Default.NewInvitation, WireJson.Default.InvitationInfo, default))).ShouldContain("screen");
        // A viewer may look on.
        (await SendAsync(service.Api, host, priya)).MayControl.ShouldBeFalse();
        await SessionAsync(priya, host);
        (await SendAsync(priya, host, tomasz)).From.ShouldBe(Priya);
        // Whoever may look there no more has no invitation to it.
        var sent = await SendAsync(service.Api, host, tomasz);
        (await ListAsync(tomasz)).ShouldContain(sent);
        var grant = (await service.Api.GetAsync("grants", WireJson.Default.PageGrantInfo, default)).Items.Single(g => g.Holder == Tomasz);
        await service.Api.ActAsync(HttpMethod.Delete, $"grants/{grant.Id}", default);
        (await ListAsync(tomasz)).ShouldBeEmpty();
        (await RefusedAsync(AnswerAsync(tomasz, sent.Id, true))).ShouldContain("no such invitation");
        (await RefusedAsync(SendAsync(service.Api, host, tomasz))).ShouldBe($"{Tomasz} may not watch {Host}. Ask somebody who may, or have it granted: {TestService.Name}.");
        (await RefusedAsync(SendAsync(tomasz, host, priya))).ShouldContain("There is no such host");
    }

    [Fact]
    public async Task It_lapses_by_itself_and_there_are_so_many_at_most()
    {
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time);
        await using var link = await service.LinkAsync(Host);
        var host = (await service.HostAsync(Host)).Id;
        await SessionAsync(service.Api, host);
        using var tomasz = await service.JoinedByAsync(Tomasz);
        var first = await SendAsync(service.Api, host, tomasz);
        for (var i = 1; i < 20; i++)
        {
            using var one = await service.JoinedByAsync($"Colleague {i}");
            await SendAsync(service.Api, host, one);
        }
        using var last = await service.JoinedByAsync(Priya);
        (await RefusedAsync(SendAsync(service.Api, host, last))).ShouldContain("20 invitations of yours stand");
        (await ListAsync(tomasz)).ShouldBe([first]);
        time.Advance(InvitationService.Stands);
        await Wait.UntilAsync(async () => (await ListAsync(service.Api)).Count == 0, "all of them to lapse");
        (await ListAsync(tomasz)).ShouldBeEmpty();
    }
}
