using System.Net.WebSockets;
using System.Text;
using System.Text.Json;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Agent.Access;
using Umbrek.Core.Access;
using Umbrek.Core.Desktop;
using Umbrek.Service.Sessions;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Tests.Desktop;

/// <summary>Who gets to a desktop, and what he may do there: simulated hosts, through channels of a real service.</summary>
public sealed class DesktopTests
{
    private const string Key = "harbour lamp seven gulls";
    private static readonly DesktopWish Watch = new();
    private static readonly DesktopWish Control = new(true);

    private static Task<SessionInfo> SessionAsync(ApiClient who, Guid host) =>
        who.PostAsync($"hosts/{host}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);

    private static async Task<string> RefusedAsync(ApiClient who, SessionInfo session, NewChannel wish) =>
        (await Should.ThrowAsync<ApiException>(() => who.PostAsync($"sessions/{session.Id}/channels", wish, WireJson.Default.NewChannel, WireJson.Default.ChannelTicket, default))).Message;

    private static NewChannel For(DesktopWish wish, SealedOrder? seal = null, bool usesVault = false) => new(ChannelKinds.Desktop, Seal: seal, UsesVault: usesVault, Desktop: wish);

    /// <summary>Comes to a desktop, looks at it once, and leaves it.</summary>
    private static async Task<(ScreenOpened Opened, ScreenImage Image)> LookAsync(ApiClient who, SessionInfo session, NewChannel wish)
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        var (socket, _) = await ChannelSocket.OpenAsync(who, null, session.Id, wish, limit.Token);
        using (socket)
        {
            await using var line = await DesktopStream.OpenAsync(socket, null, limit.Token);
            using var viewer = new RfbViewer(line);
            await viewer.BeginAsync(true, limit.Token);
            await viewer.TakeAsync([RfbEncoding.Zrle], limit.Token);
            await viewer.AskAsync(false, limit.Token);
            (await viewer.HearAsync(limit.Token)).ShouldBe(RfbHeard.Picture);
            await socket.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, limit.Token);
            return (line.Opened, viewer.Image);
        }
    }

    private static async Task<string> NotShownAsync(ApiClient who, SessionInfo session, NewChannel wish) =>
        (await Should.ThrowAsync<DesktopRefusedException>(() => LookAsync(who, session, wish))).Message;

    [Fact]
    public async Task Whoever_may_sees_the_screen_and_it_stands_in_the_audit_log()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var session = await SessionAsync(service.Api, agent.Id);
        var (opened, image) = await LookAsync(service.Api, session, For(Watch));
        (opened.Screen, opened.Control, image.Width, image.Height).ShouldBe((":0", false, 1280, 800));
        image.Pixels.Distinct().Count().ShouldBeGreaterThan(50);
        (await LookAsync(service.Api, session, For(Control))).Opened.Control.ShouldBeTrue();
        var lines = (await service.Api.GetAsync("audit?action=desktop.watch", WireJson.Default.PageAuditInfo, default)).Items;
        lines.ShouldHaveSingleItem().Target.ShouldContain("quay-ticket-01");
        (await service.Api.GetAsync("audit?action=desktop.control", WireJson.Default.PageAuditInfo, default)).Items.Count.ShouldBe(1);
        (await service.Api.GetAsync($"hosts/{agent.Id}/screens", WireJson.Default.PageScreenInfo, default)).Items.ShouldHaveSingleItem().Name.ShouldBe(":0");
    }

    [Fact]
    public async Task To_watch_and_to_control_are_two_doors()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await service.Api.PostAsync("roles", new NewRole("onlooker", [Permission.See, Permission.Watch]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        await service.Api.PostAsync("roles", new NewRole("runner", [Permission.See, Permission.Run]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var priya = await service.JoinedByAsync("Priya Lund", "onlooker");
        var hers = await SessionAsync(priya, agent.Id);
        (await LookAsync(priya, hers, For(Watch))).Opened.Control.ShouldBeFalse();
        (await RefusedAsync(priya, hers, For(Control))).ShouldContain("quay-ticket-01");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "runner");
        (await RefusedAsync(tomasz, await SessionAsync(tomasz, agent.Id), For(Watch))).ShouldContain("quay-ticket-01");
        (await Should.ThrowAsync<ApiException>(() => tomasz.GetAsync($"hosts/{agent.Id}/screens", WireJson.Default.PageScreenInfo, default))).Problem.Status.ShouldBe(403);
        (await RefusedAsync(priya, hers, For(new DesktopWish(false, "")))).ShouldContain("none");
        (await NotShownAsync(priya, hers, For(new DesktopWish(false, ":7")))).ShouldBe("There is no screen :7 on this host. There is :0.");
    }

    [Fact]
    public async Task Why_there_is_nothing_to_see_is_heard_every_time()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var session = await SessionAsync(service.Api, agent.Id);
        for (var i = 0; i < 100; i++)
        {
            (await NotShownAsync(service.Api, session, For(new DesktopWish(Screen: ":7")))).ShouldBe("There is no screen :7 on this host. There is :0.");
        }
    }

    [Fact]
    public async Task Whoever_is_there_knows_who_else_is()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await service.Api.PostAsync("roles", new NewRole("onlooker", [Permission.See, Permission.Watch]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var priya = await service.JoinedByAsync("Priya Lund", "onlooker");
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        using var ines = await WordsAsync(service.Api, await SessionAsync(service.Api, agent.Id), For(Control), limit.Token);
        using (var hers = await WordsAsync(priya, await SessionAsync(priya, agent.Id), For(Watch), limit.Token))
        {
            (await HearAsync(hers, w => w.Others, limit.Token)).ShouldBe([new DesktopGuest("Ines Okafor", true, true)]);
            (await HearAsync(ines, w => w.Others, limit.Token)).ShouldBe([new DesktopGuest("Priya Lund", false)]);
            // Who only looks takes nothing away from the people there.
            await hers.SendAsync("""{"takeInput":true}"""u8.ToArray().AsMemory(), WebSocketMessageType.Text, true, limit.Token);
            (await HearAsync(hers, w => w.Hold, limit.Token)).Problem!.ShouldContain("open the desktop to control it");
            await hers.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, limit.Token);
        }
        (await HearAsync(ines, w => w.Others, limit.Token)).ShouldBeEmpty();
    }

    [Fact]
    public async Task Of_two_who_may_act_one_does_until_he_lets_the_other()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail");
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        await using var first = await Seat.TakeAsync(service.Api, await SessionAsync(service.Api, agent.Id), limit.Token);
        await using var second = await Seat.TakeAsync(tomasz, await SessionAsync(tomasz, agent.Id), limit.Token);
        await second.HearsAsync("Ines Okafor acts here");
        var before = (await second.PictureAsync()).Pixels.ToArray();
        await second.TypeAsync("flood");
        IsSame((await second.PictureAsync()).Pixels, before).ShouldBeTrue();
        await second.WishAsync("ask");
        await first.HearsAsync("Tomasz Vail asks to act here");
        await first.WishAsync("give");
        await second.HearsAsync("You act here now");
        await first.HearsAsync("Tomasz Vail acts here");
        await second.TypeAsync("ebb");
        var after = before;
        // Its last picture may have been on its way before: until three letters more stand there.
        while (IsSame(after, before) || !IsSame((await second.PictureAsync()).Pixels, after))
        {
            after = (await second.PictureAsync()).Pixels.ToArray();
        }
        await first.TypeAsync("flood");
        IsSame((await first.PictureAsync()).Pixels, after).ShouldBeTrue();
    }

    [Fact]
    public async Task A_secret_is_typed_by_whoever_may_use_it_and_controls_the_desktop_and_stands_in_no_log()
    {
        const string text = "Rind-Harbour-7";
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var ferry = (await service.Api.GetAsync("groups", WireJson.Default.PageGroupInfo, default)).Items;
        async Task<Guid> KeepAsync(Guid? host, Guid? group, string name) =>
            (await service.Api.PostAsync("secrets", new NewSecret(SecretKind.Logon, text, host, group, name), WireJson.Default.NewSecret, WireJson.Default.SecretInfo, default)).Id;
        var (own, above, elsewhere) = (await KeepAsync(agent.Id, null, "till"), await KeepAsync(null, ferry.Single(g => g.Path == "Saltmarsh Ferry").Id, "everywhere there"), await KeepAsync(null, ferry.First(g => !g.Path.StartsWith("Saltmarsh Ferry", StringComparison.Ordinal)).Id, "of others"));
        async Task<string> NotTypedAsync(ApiClient who, Guid secret) =>
            (await Should.ThrowAsync<ApiException>(() => TypeAsync(who, secret))).Message;
        Task TypeAsync(ApiClient who, Guid secret) => who.PostAsync($"hosts/{agent.Id}/typing", new NewTyping(secret), WireJson.Default.NewTyping, WireJson.Default.NewTyping, default);
        async Task<List<Guid>> LogonsAsync(ApiClient who) => [.. (await who.GetAsync($"hosts/{agent.Id}/logons", WireJson.Default.PageSecretInfo, default)).Items.Select(s => s.Id)];
        (await LogonsAsync(service.Api)).ShouldBe([own, above]);
        (await NotTypedAsync(service.Api, own)).ShouldContain("open it to control it first");

        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        var session = await SessionAsync(service.Api, agent.Id);
        using (var watching = await WordsAsync(service.Api, session, For(Watch), limit.Token))
        {
            (await NotTypedAsync(service.Api, own)).ShouldContain("You control no desktop");
        }
        await using var ines = await Seat.TakeAsync(service.Api, session, limit.Token);
        (await NotTypedAsync(service.Api, elsewhere)).ShouldContain("logon");
        await service.Api.PostAsync("roles", new NewRole("hands", [Permission.See, Permission.Watch, Permission.Control]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "hands");
        (await Should.ThrowAsync<ApiException>(() => LogonsAsync(tomasz))).Problem.Status.ShouldBe(403);
        (await Should.ThrowAsync<ApiException>(() => TypeAsync(tomasz, own))).Problem.Status.ShouldBe(403);

        var before = (await ines.PictureAsync()).Pixels.ToArray();
        using (var request = new HttpRequestMessage(HttpMethod.Post, $"{ApiClient.Base}hosts/{agent.Id}/typing") { Content = new StringContent($"{{\"secretId\":\"{own}\"}}", Encoding.UTF8, "application/json") })
        {
            (await service.Api.SendRawAsync(request, default)).StatusCode.ShouldBe(System.Net.HttpStatusCode.NoContent);
        }
        await ines.HearsAsync("The secret 'till' was typed");
        while (IsSame((await ines.PictureAsync()).Pixels, before))
        {
        }
        var line = (await service.Api.GetAsync("audit?action=secret.use", WireJson.Default.PageAuditInfo, default)).Items[0];
        line.Detail.ShouldContain("till");
        line.Detail.ShouldNotContain(text);
    }

    /// <summary>Whether both show the same where the simulated desktop has what is typed; its clock, which goes on, stands elsewhere.</summary>
    private static bool IsSame(uint[] a, uint[] b) => Enumerable.Range(450, 200).All(y => a.AsSpan(y * 1280 + 720, 500).SequenceEqual(b.AsSpan(y * 1280 + 720, 500)));

    /// <summary>Somebody who may act at a desktop, and what he is told.</summary>
    private sealed class Seat(ClientWebSocket socket, CancellationToken cancel) : IAsyncDisposable
    {
        private readonly List<string> told = [];
        private RfbViewer viewer = null!;

        public static async Task<Seat> TakeAsync(ApiClient who, SessionInfo session, CancellationToken cancel)
        {
            var (socket, _) = await ChannelSocket.OpenAsync(who, null, session.Id, For(Control), cancel);
            var seat = new Seat(socket, cancel);
            var line = await DesktopStream.OpenAsync(socket, seat.told.Add, cancel);
            seat.viewer = new RfbViewer(line);
            await seat.viewer.BeginAsync(true, cancel);
            await seat.viewer.TakeAsync([RfbEncoding.Zrle], cancel);
            return seat;
        }

        public Task WishAsync(string wish) => socket.SendAsync(Encoding.UTF8.GetBytes($"{{\"hands\":\"{wish}\"}}"), WebSocketMessageType.Text, true, cancel);

        /// <summary>All of the picture; what was typed before is in it.</summary>
        public async Task<ScreenImage> PictureAsync()
        {
            await viewer.AskAsync(false, cancel);
            while (await viewer.HearAsync(cancel) != RfbHeard.Picture)
            {
            }
            return viewer.Image;
        }

        public async Task TypeAsync(string text)
        {
            foreach (var letter in text)
            {
                await viewer.KeyAsync(true, letter, cancel);
                await viewer.KeyAsync(false, letter, cancel);
            }
        }

        public async Task HearsAsync(string words)
        {
            while (!told.Exists(t => t.Contains(words, StringComparison.Ordinal)))
            {
                await PictureAsync();
            }
        }

        public ValueTask DisposeAsync()
        {
            viewer.Dispose();
            socket.Dispose();
            return ValueTask.CompletedTask;
        }
    }

    [Fact]
    public async Task A_session_in_which_nobody_does_anything_ends_though_pictures_come()
    {
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        await using var service = await TestService.StartAsync(time: time);
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var session = await SessionAsync(service.Api, agent.Id);
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        var (socket, _) = await ChannelSocket.OpenAsync(service.Api, null, session.Id, For(Control), limit.Token);
        using var mine = socket;
        await using var line = await DesktopStream.OpenAsync(socket, null, limit.Token);
        using var viewer = new RfbViewer(line);
        await viewer.BeginAsync(true, limit.Token);
        await viewer.TakeAsync([RfbEncoding.Zrle], limit.Token);
        async Task LookAsync()
        {
            await viewer.AskAsync(false, limit.Token);
            while (await viewer.HearAsync(limit.Token) != RfbHeard.Picture)
            {
            }
        }
        async Task<string?> WhyEndedAsync() => (await service.Api.GetAsync($"sessions/{session.Id}", WireJson.Default.SessionInfo, default)).EndReason;

        // A key is use: after it, it goes on for as long again.
        await LookAsync();
        time.Advance(SessionService.Idle - TimeSpan.FromMinutes(1));
        await viewer.KeyAsync(true, 'q', limit.Token);
        await LookAsync();
        time.Advance(TimeSpan.FromMinutes(2));
        await LookAsync();
        (await WhyEndedAsync()).ShouldBeNull();
        // Pictures alone are none.
        await Wait.UntilAsync(async () =>
        {
            time.Advance(TimeSpan.FromMinutes(5));
            return await WhyEndedAsync() is not null;
        }, "the session to end");
        (await WhyEndedAsync())!.ShouldStartWith(SessionEnds.Idle);
    }

    private static async Task<ClientWebSocket> WordsAsync(ApiClient who, SessionInfo session, NewChannel wish, CancellationToken cancel)
    {
        var (socket, _) = await ChannelSocket.OpenAsync(who, null, session.Id, wish, cancel);
        return socket;
    }

    /// <summary>The next word that tells it; pictures go by.</summary>
    private static async Task<T> HearAsync<T>(ClientWebSocket socket, Func<DesktopWord, T?> what, CancellationToken cancel) where T : class
    {
        var buffer = new byte[64 * 1024];
        while (true)
        {
            var got = await socket.ReceiveAsync(buffer.AsMemory(), cancel);
            got.MessageType.ShouldNotBe(WebSocketMessageType.Close);
            if (got.MessageType == WebSocketMessageType.Text && what(JsonSerializer.Deserialize(buffer.AsSpan(0, got.Count), LinkJson.Default.DesktopWord)!) is { } told)
            {
                return told;
            }
        }
    }

    [Fact]
    public async Task Many_are_looked_at_small()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var session = await SessionAsync(service.Api, agent.Id);
        var (opened, image) = await LookAsync(service.Api, session, For(new DesktopWish(Small: 320)));
        (opened.Control, image.Width, image.Height).ShouldBe((false, 320, 200));
        image.Pixels.Distinct().Count().ShouldBeGreaterThan(50);
        (await RefusedAsync(service.Api, session, For(new DesktopWish(Small: 20)))).ShouldContain("80 to 640");
        (await RefusedAsync(service.Api, session, For(new DesktopWish(true, Small: 320)))).ShouldContain("open the desktop itself");
    }

    [Fact]
    public async Task A_host_without_a_screen_says_so()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "plover-log-01", kind: Umbrek.Simulation.Estate.HostKind.Logger);
        (await NotShownAsync(service.Api, await SessionAsync(service.Api, agent.Id), For(Watch))).ShouldContain("no monitor is connected");
        (await service.Api.GetAsync($"hosts/{agent.Id}/screens", WireJson.Default.PageScreenInfo, default)).Items.ShouldBeEmpty();
    }

    [Fact]
    public async Task The_hosts_own_policy_has_the_last_word()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01", state => HostLimit.Write(state.LimitFile, new HostPolicyPart(Allowed: [HostAct.Watch])));
        var session = await SessionAsync(service.Api, agent.Id);
        (await LookAsync(service.Api, session, For(Watch))).Opened.Screen.ShouldBe(":0");
        (await NotShownAsync(service.Api, session, For(Control))).ShouldContain("does not allow its desktop to be controlled");
    }

    [Fact]
    public async Task A_host_that_asks_for_its_key_lets_nobody_act_who_may_only_watch()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01", state =>
        {
            HostLimit.Write(state.LimitFile, new HostPolicyPart(KeyFor: [HostAct.Control]));
            new HostKeys(state, null, TimeProvider.System).Set(KeptKey.Of(Key, service.Get<Umbrek.Service.Hosting.ServiceKey>().Sha256));
        });
        var session = await SessionAsync(service.Api, agent.Id);
        (await LookAsync(service.Api, session, For(Watch))).Opened.Control.ShouldBeFalse();
        (await NotShownAsync(service.Api, session, For(Control))).ShouldContain("asks for its access key");

        var door = await HostDoor.OpenAsync(service.Api, null, agent.Id, ChannelBinding.AccessKey, Key, default);
        (await LookAsync(service.Api, door.Session, For(Control, door.Seal(Control)))).Opened.Control.ShouldBeTrue();
        // What was sealed to look on is none to act with.
        (await RefusedAsync(service.Api, door.Session, For(Control, door.Seal(Watch)))).ShouldContain("is not what is asked for");
        var other = door.Seal(Watch) with { Text = door.Seal(Control).Text };
        (await NotShownAsync(service.Api, door.Session, For(Control, other))).ShouldContain("was not sealed by");
        await service.Api.PostAsync("secrets", new NewSecret(SecretKind.AccessKey, Key, HostId: agent.Id), WireJson.Default.NewSecret, WireJson.Default.SecretInfo, default);
        (await LookAsync(service.Api, session, For(Control, usesVault: true))).Opened.Control.ShouldBeTrue();
    }
}
