using System.Diagnostics;
using System.Net.WebSockets;
using Umbrek.Core.Access;
using Umbrek.Core.Desktop;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Tests.Desktop;

/// <summary>Desktops that are recorded because the host policy says so, and films of them.</summary>
public sealed class ScreenRecordingTests
{
    private static readonly DesktopWish Control = new(true);

    private static Task<SessionInfo> SessionAsync(ApiClient who, Guid host) =>
        who.PostAsync($"hosts/{host}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);

    private static Task<PolicyInfo> AskForAsync(TestService service, RecordRule rule) =>
        service.Api.PutAsync("policy", new HostPolicyPart(Record: rule), 0, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, default);

    private static async Task<List<RecordingInfo>> ListAsync(ApiClient who) => [.. (await who.GetAsync("recordings", WireJson.Default.PageRecordingInfo, default)).Items];

    private static async Task<RecordingInfo> EndedAsync(ApiClient who, Guid id)
    {
        RecordingInfo info = null!;
        await Wait.UntilAsync(async () => (info = await who.GetAsync($"recordings/{id}", WireJson.Default.RecordingInfo, default)).EndedAt is not null, "the recording to end");
        return info;
    }

    private static async Task<byte[]> ContentAsync(ApiClient who, Guid id, string what = "content")
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}recordings/{id}/{what}");
        using var response = await who.SendRawAsync(request, default);
        response.Content.Headers.ContentType!.MediaType.ShouldBe(what == "content" ? RecordingInfo.ScreenType : FilmInfo.MediaType);
        return await response.Content.ReadAsByteArrayAsync();
    }

    /// <summary>Comes to a desktop, types there, moves the pointer, gives it a text, and leaves.</summary>
    private static async Task<(ChannelTicket Ticket, ScreenImage Seen, string? Why)> WorkAsync(ApiClient who, SessionInfo session, DesktopWish wish, string typed = "")
    {
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        var (socket, ticket) = await ChannelSocket.OpenAsync(who, null, session.Id, new NewChannel(ChannelKinds.Desktop, Desktop: wish), limit.Token);
        using var mine = socket;
        await using var line = await DesktopStream.OpenAsync(socket, null, limit.Token);
        using var viewer = new RfbViewer(line);
        try
        {
            await viewer.BeginAsync(true, limit.Token);
            await viewer.TakeAsync([RfbEncoding.Zrle, RfbEncoding.CopyRect], limit.Token);
            await viewer.AskAsync(false, limit.Token);
            await PictureAsync(viewer, limit.Token);
            foreach (var letter in typed)
            {
                await viewer.KeyAsync(true, letter, limit.Token);
                await viewer.KeyAsync(false, letter, limit.Token);
                await viewer.AskAsync(true, limit.Token);
                await PictureAsync(viewer, limit.Token);
            }
            if (typed.Length > 0)
            {
                await viewer.MouseAsync(300, 200, 0, limit.Token);
                await viewer.ClipboardAsync(new ClipboardMessage(ClipboardAct.Provide, true, "low water at four"), limit.Token);
                await viewer.AskAsync(true, limit.Token);
                await PictureAsync(viewer, limit.Token);
            }
            await socket.CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, limit.Token);
        }
        catch (EndOfStreamException)
        {
            // The channel was ended.
        }
        return (ticket, viewer.Image, line.Why);
    }

    private static async Task PictureAsync(RfbViewer viewer, CancellationToken cancel)
    {
        while (await viewer.HearAsync(cancel) != RfbHeard.Picture)
        {
        }
    }

    private static async Task<(TapeHeader Header, List<TapeEntry> Entries)> ReadAsync(byte[] content)
    {
        var tape = new TapeReader(new MemoryStream(content));
        var header = await tape.ReadHeaderAsync(default);
        var entries = new List<TapeEntry>();
        while (await tape.ReadAsync(default) is { } entry)
        {
            entries.Add(entry with { Bytes = entry.Bytes.ToArray() });
        }
        return (header, entries);
    }

    private sealed class NoJpeg : IJpegDecoder
    {
        public void Decode(ReadOnlySpan<byte> packed, ScreenImage into, ScreenRect part) => throw new RfbException("none was asked for");
    }

    [Fact]
    public async Task Where_the_policy_says_so_what_a_desktop_shows_is_kept()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var session = await SessionAsync(service.Api, agent.Id);
        (await WorkAsync(service.Api, session, Control)).Ticket.Recording.ShouldBeNull();
        await AskForAsync(service, RecordRule.Screen);
        // A small picture of many is none that somebody works at.
        (await WorkAsync(service.Api, session, new DesktopWish(Small: 320))).Ticket.Recording.ShouldBeNull();
        (await ListAsync(service.Api)).ShouldBeEmpty();

        var (ticket, seen, _) = await WorkAsync(service.Api, session, Control, "tide");
        ticket.Recording!.HasKeys.ShouldBeFalse();
        var info = await EndedAsync(service.Api, ticket.Recording.Id);
        (info.Kind, info.HostLabel, info.Technician, info.CommandText, info.HasKeys, info.SessionId).ShouldBe((RecordingKind.Desktop, "quay-ticket-01", TestService.Name, "desktop, controlled", false, session.Id));
        var content = await ContentAsync(service.Api, info.Id);
        Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(content)).ShouldBe(info.Sha256);
        content.Length.ShouldBe((int)info.Bytes!.Value);
        var (header, entries) = await ReadAsync(content);
        (header.Title, header.Control).ShouldBe(("Ines Okafor at quay-ticket-01 in Saltmarsh Ferry/Quay", true));
        entries[0].Kind.ShouldBe(TapeKinds.Opened);
        entries.Count(e => e.Kind == TapeKinds.Typing).ShouldBe(1);
        entries.ShouldNotContain(e => e.Kind == TapeKinds.Key);
        entries.ShouldContain(e => e.Kind == TapeKinds.Mouse && e.Number("x") == 300);
        entries.ShouldContain(e => e.Kind == TapeKinds.Clipboard && e.Text("from") == "viewer" && e.Number("bytes") == 17);
        // What stood there at the end stands there again.
        var tape = new TapeReader(new MemoryStream(content));
        await tape.ReadHeaderAsync(default);
        using var show = new TapeShow(tape, new NoJpeg(), null);
        await show.BeginAsync(default);
        while (show.Next is not null)
        {
            await show.GoOnAsync(default);
        }
        show.Image!.Pixels.AsSpan().SequenceEqual(seen.Pixels).ShouldBeTrue();
        (await service.Api.GetAsync("audit?action=desktop.control", WireJson.Default.PageAuditInfo, default)).Items[0].Detail.ShouldContain($"{info.Id}");
    }

    [Fact]
    public async Task With_keys_what_is_typed_is_in_it_too()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await AskForAsync(service, RecordRule.ScreenAndKeys);
        var (ticket, _, _) = await WorkAsync(service.Api, await SessionAsync(service.Api, agent.Id), Control, "ebb");
        ticket.Recording!.HasKeys.ShouldBeTrue();
        var (_, entries) = await ReadAsync(await ContentAsync(service.Api, (await EndedAsync(service.Api, ticket.Recording.Id)).Id));
        string.Concat(entries.Where(e => e.Kind == TapeKinds.Key && e.IsSet("down")).Select(e => (char)e.Number("sym")!.Value)).ShouldBe("ebb");
    }

    [Fact]
    public async Task A_full_one_ends_the_channel_and_has_all_that_was_shown()
    {
        await using var service = await TestService.StartAsync(adjust: o => o with { ScreenRecordingBytes = 30_000 });
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await AskForAsync(service, RecordRule.Screen);
        var session = await SessionAsync(service.Api, agent.Id);
        var (ticket, _, why) = await WorkAsync(service.Api, session, Control, new string('x', 4000));
        why.ShouldNotBeNull().ShouldContain("recording is full");
        var info = await EndedAsync(service.Api, ticket.Recording!.Id);
        info.Bytes!.Value.ShouldBeLessThanOrEqualTo(30_000);
        (await ReadAsync(await ContentAsync(service.Api, info.Id))).Entries.Count.ShouldBeGreaterThan(3);
    }

    [Fact]
    public async Task A_service_that_goes_down_in_the_middle_has_what_was_written()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await AskForAsync(service, RecordRule.Screen);
        var (ticket, _, _) = await WorkAsync(service.Api, await SessionAsync(service.Api, agent.Id), Control, "ebb");
        var whole = await ContentAsync(service.Api, (await EndedAsync(service.Api, ticket.Recording!.Id)).Id);
        var broken = Guid.CreateVersion7();
        await using (var db = service.Get<Umbrek.Service.Storage.IDatabase>().Open())
        {
            db.Recordings.Add(new() { Id = broken, Kind = RecordingKind.Desktop, SessionId = Guid.CreateVersion7(), HostId = agent.Id, TechnicianId = Guid.CreateVersion7(), Technician = "Tomasz Vail", CommandText = "desktop, watched", BeganAt = DateTimeOffset.UtcNow });
            await db.SaveChangesAsync();
        }
        await File.WriteAllBytesAsync(service.In($"recordings/{broken:N}.screen"), whole[..^7]);
        await service.RestartAsync();
        var found = await EndedAsync(service.Api, broken);
        var content = await ContentAsync(service.Api, broken);
        content.Length.ShouldBe((int)found.Bytes!.Value);
        content.ShouldBe(whole[..content.Length]);
        (await ReadAsync(content)).Entries.Count.ShouldBe((await ReadAsync(whole)).Entries.Count - 1);
    }

    private static async Task<FilmInfo> FilmAsync(ApiClient who, Guid id, Func<FilmInfo, bool> until)
    {
        FilmInfo film = null!;
        await Wait.UntilAsync(async () => until(film = await who.GetAsync($"recordings/{id}/film", WireJson.Default.FilmInfo, default)), "the film");
        return film;
    }

    private static Task<FilmInfo> MakeAsync(ApiClient who, Guid id, double? longestPause = null) =>
        who.PostAsync($"recordings/{id}/film", new NewFilm(longestPause), WireJson.Default.NewFilm, WireJson.Default.FilmInfo, default);

    [Fact]
    public async Task A_film_shows_what_was_recorded()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await AskForAsync(service, RecordRule.Screen);
        var (ticket, seen, _) = await WorkAsync(service.Api, await SessionAsync(service.Api, agent.Id), Control, "high water");
        var id = (await EndedAsync(service.Api, ticket.Recording!.Id)).Id;
        (await FilmAsync(service.Api, id, _ => true)).State.ShouldBe(FilmState.None);
        await MakeAsync(service.Api, id, 1);
        (await FilmAsync(service.Api, id, f => f.State != FilmState.Making)).ShouldSatisfyAllConditions(f => f.Problem.ShouldBeNull(), f => f.State.ShouldBe(FilmState.Ready));
        var film = service.In("film.webm");
        await File.WriteAllBytesAsync(film, await ContentAsync(service.Api, id, "film/content"));
        (await AskAsync("ffprobe", "-v", "error", "-select_streams", "v", "-show_entries", "stream=codec_name,width,height", "-of", "csv=p=0", film)).Trim().ShouldBe("vp9,1280,800");
        // Its last picture is what was seen last, but for what packing takes away.
        var last = await PixelsAsync(film);
        last.Length.ShouldBe(seen.Pixels.Length * 4);
        var off = Enumerable.Range(0, last.Length).Where(i => i % 4 != 3).Average(i => Math.Abs(last[i] - (int)(byte)(seen.Pixels[i / 4] >> (8 * (i % 4)))));
        off.ShouldBeLessThan(4);
        await service.Api.ActAsync(HttpMethod.Delete, $"recordings/{id}/film", default);
        (await Should.ThrowAsync<ApiException>(() => ContentAsync(service.Api, id, "film/content"))).Problem.Status.ShouldBe(409);
        Directory.GetFiles(service.In("recordings"), "*.webm*").ShouldBeEmpty();
        (await service.Api.GetAsync("audit?action=recording.film", WireJson.Default.PageAuditInfo, default)).Items.ShouldHaveSingleItem();
    }

    [Fact]
    public async Task There_is_no_film_of_a_shell_of_what_goes_on_or_for_whoever_may_not_see_it()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        using var odile = await service.JoinedByAsync("Odile Marsh");
        var (shell, open, empty) = (Guid.CreateVersion7(), Guid.CreateVersion7(), Guid.CreateVersion7());
        await using (var db = service.Get<Umbrek.Service.Storage.IDatabase>().Open())
        {
            foreach (var (id, kind, ended) in new[] { (shell, RecordingKind.Shell, true), (open, RecordingKind.Desktop, false), (empty, RecordingKind.Desktop, true) })
            {
                db.Recordings.Add(new() { Id = id, Kind = kind, SessionId = Guid.CreateVersion7(), HostId = agent.Id, TechnicianId = Guid.CreateVersion7(), Technician = "Tomasz Vail", CommandText = "x", BeganAt = DateTimeOffset.UtcNow, EndedAt = ended ? DateTimeOffset.UtcNow : null });
            }
            await db.SaveChangesAsync();
        }
        Directory.CreateDirectory(service.In("recordings"));
        await File.WriteAllTextAsync(service.In($"recordings/{empty:N}.screen"), "{\"version\":1,\"kind\":\"screen\"}\n[1,\"mark\",{\"text\":\"nothing\"}]\n");
        (await Should.ThrowAsync<ApiException>(() => MakeAsync(service.Api, shell))).Message.ShouldContain("made of a desktop");
        (await Should.ThrowAsync<ApiException>(() => MakeAsync(service.Api, open))).Message.ShouldContain("still being written");
        (await Should.ThrowAsync<ApiException>(() => MakeAsync(service.Api, empty, 0))).Message.ShouldContain("longest pause");
        (await Should.ThrowAsync<ApiException>(() => MakeAsync(odile, empty))).Problem.Status.ShouldBe(404);
        await MakeAsync(service.Api, empty);
        (await FilmAsync(service.Api, empty, f => f.State == FilmState.Failed)).Problem.ShouldNotBeNull().ShouldContain("Nothing was shown");
    }

    [Fact]
    public async Task One_that_is_given_up_leaves_nothing()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await AskForAsync(service, RecordRule.Screen);
        var (ticket, _, _) = await WorkAsync(service.Api, await SessionAsync(service.Api, agent.Id), Control, "ebb");
        var id = (await EndedAsync(service.Api, ticket.Recording!.Id)).Id;
        // As if it had gone on for an hour in which nothing happened.
        await using (var tape = new FileStream(service.In($"recordings/{id:N}.screen"), FileMode.Append))
        {
            await tape.WriteAsync("[3600,\"mark\",{\"text\":\"the end\"}]\n"u8.ToArray());
        }
        await MakeAsync(service.Api, id);
        await FilmAsync(service.Api, id, f => f.Done > 0);
        // Asked for again, it goes on.
        (await MakeAsync(service.Api, id)).Done.ShouldBeGreaterThan(0);
        await service.Api.ActAsync(HttpMethod.Delete, $"recordings/{id}/film", default);
        (await FilmAsync(service.Api, id, _ => true)).State.ShouldBe(FilmState.None);
        Directory.GetFiles(service.In("recordings"), "*.webm*").ShouldBeEmpty();
    }

    private static async Task<string> AskAsync(string program, params string[] arguments)
    {
        using var process = Process.Start(new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true })!;
        var text = await process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync();
        process.ExitCode.ShouldBe(0);
        return text;
    }

    /// <summary>The last picture of a film, four bytes a pixel: blue, green, red, and one that says nothing.</summary>
    private static async Task<byte[]> PixelsAsync(string film)
    {
        using var process = Process.Start(new ProcessStartInfo("ffmpeg", ["-v", "error", "-sseof", "-0.3", "-i", film, "-update", "1", "-f", "rawvideo", "-pix_fmt", "bgr0", "-frames:v", "1", "pipe:1"]) { RedirectStandardOutput = true })!;
        using var pixels = new MemoryStream();
        await process.StandardOutput.BaseStream.CopyToAsync(pixels);
        await process.WaitForExitAsync();
        return pixels.ToArray();
    }
}
