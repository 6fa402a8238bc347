using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Files;
using Umbrek.Core.Jobs;
using Umbrek.Service.Tests.Access;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Files;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Files;

/// <summary>Files are sent to the service once, and many hosts fetch them.</summary>
public sealed class ParcelTests
{
    private static readonly byte[] Config = "page = https://tickets.example/summer\n"u8.ToArray();
    private static readonly byte[] Labels = RandomNumberGenerator.GetBytes(300_000);

    private static readonly ParcelEntry[] Entries =
    [
        new(new FileName("kiosk.conf"), FileKind.File, Config.Length, 0x1a0),
        new(new FileName("labels"), FileKind.Folder),
        new(new FileName("labels/nothing"), FileKind.File),
        new(new FileName("labels/plum.pdf"), FileKind.File, Labels.Length),
        new(new FileName("labels/newest"), FileKind.Link, Target: new FileName("plum.pdf")),
    ];

    [Fact]
    public async Task Hosts_fetch_what_was_sent_once_and_those_that_are_away_when_they_return()
    {
        await using var service = await TestService.StartAsync();
        await using var first = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var gone = await RunningAgent.StartAsync(service, "quay-ticket-02");
        await gone.DisposeAsync();
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"hosts/{gone.Id}", WireJson.Default.HostDetail, default)).Summary.Presence.State == PresenceState.Away, "the second to be away");
        var parcel = await SendAsync(service.Api);
        (parcel.Name, parcel.Files, parcel.Folders, parcel.Links, parcel.Received).ShouldBe(("kiosk.conf and labels", 3, 1, 1, Config.Length + Labels.Length));
        var job = await DeliverAsync(service.Api, parcel, w => w);
        await EndedAsync(service.Api, job, 1);
        await using var second = await RunningAgent.StartAsync(service, "quay-ticket-02");
        await EndedAsync(service.Api, job, 2);
        var detail = await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default);
        detail.Runs.Select(r => r.State).ShouldAllBe(s => s == RunState.Succeeded);
        detail.Job.CommandText.ShouldBe("put kiosk.conf and labels (3 files, 293 KiB) into /etc/kiosk");
        // On the first the old one lies in the trash now; both were told of alike.
        var folded = await service.Api.GetAsync($"jobs/{job.Id}/answers", WireJson.Default.JobAnswers, default);
        folded.Folds.ShouldHaveSingleItem().Runs.Count.ShouldBe(2);
        var said = await OutputAsync(service.Api, detail.Runs[0].Id);
        said.ShouldContain($"/etc/kiosk/kiosk.conf was replaced: 38 B, SHA-256 {Convert.ToHexStringLower(SHA256.HashData(Config))}.");
        said.ShouldContain("/etc/kiosk/labels/newest was put there: a link to plum.pdf.");
        said.ShouldContain("4 put into /etc/kiosk");
        foreach (var agent in (RunningAgent[])[first, second])
        {
            Read(agent, "/etc/kiosk/labels/plum.pdf").ShouldBe(Labels);
        }
        var lines = (await service.Api.GetAsync("audit?limit=1000", WireJson.Default.PageAuditInfo, default)).Items;
        lines.ShouldContain(l => l.Action == "parcel.send" && l.Target == "kiosk.conf and labels" && l.Detail.Contains(parcel.Digest!));
        lines.ShouldContain(l => l.Action == "job.create" && l.Detail.Contains(parcel.Digest!));
    }

    [Fact]
    public async Task What_was_broken_off_goes_on_where_the_service_s_part_ends()
    {
        await using var service = await TestService.StartAsync();
        byte[] all = [.. Config, .. Labels];
        var key = $"{Guid.NewGuid()}";
        var parcel = await BeginAsync(service.Api, Entries, key);
        (parcel.Received, parcel.Digest).ShouldBe((0, null));
        parcel = await PutAsync(service.Api, parcel, all[..1000], 0);
        parcel.Received.ShouldBe(1000);
        (await Should.ThrowAsync<ApiException>(() => PutAsync(service.Api, parcel, all[..10], 0))).Problem.ShouldSatisfyAllConditions(p => p.Status.ShouldBe(409), p => p.Detail!.ShouldContain("1000 bytes are here"));
        (await Should.ThrowAsync<ApiException>(async () => await service.Api.SendRawAsync(new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}parcels/{parcel.Id}/list"), default))).Problem.Status.ShouldBe(409);
        // The service is started anew in the middle: what came is hashed again.
        await service.RestartAsync();
        (await BeginAsync(service.Api, Entries, key)).ShouldSatisfyAllConditions(p => p.Id.ShouldBe(parcel.Id), p => p.Received.ShouldBe(1000));
        parcel = await PutAsync(service.Api, parcel, all[1000..], 1000);
        var list = await ListAsync(service.Api, parcel);
        Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(list))).ShouldBe(parcel.Digest);
        var lines = list.TrimEnd('\n').Split('\n');
        JsonSerializer.Deserialize(lines[0], WireJson.Default.ParcelHead).ShouldBe(new ParcelHead(ParcelHead.Version, Convert.ToHexStringLower(SHA256.HashData(all)), all.Length, 5));
        lines.Skip(1).Select(l => JsonSerializer.Deserialize(l, WireJson.Default.ParcelEntry)!).Select(e => (e.Path.Text, e.Sha256 is null ? null : Convert.ToHexStringLower(e.Sha256))).ShouldBe(
            [("kiosk.conf", Hex(Config)), ("labels", null), ("labels/nothing", Hex([])), ("labels/plum.pdf", Hex(Labels)), ("labels/newest", null)]);
        // More than that is passed over, and again it is the same.
        (await BeginAsync(service.Api, Entries, key)).Digest.ShouldBe(parcel.Digest);
        (await PutAsync(service.Api, parcel, [1, 2, 3], 0)).Digest.ShouldBe(parcel.Digest);
        Directory.GetFiles(service.In("parcels")).ShouldBeEmpty();
        Directory.GetFiles(service.In("content")).Length.ShouldBe(2);
    }

    [Fact]
    public async Task A_parcel_is_its_sender_s_and_a_host_gets_only_what_its_run_is_about()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        await service.Api.PostAsync("roles", new NewRole("writes", [Permission.See, Permission.WriteFiles]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        await service.Api.PostAsync("roles", new NewRole("runs", [Permission.See, Permission.Run]), WireJson.Default.NewRole, WireJson.Default.RoleInfo, default);
        using var priya = await service.JoinedByAsync("Priya Lund", "writes");
        using var tomasz = await service.JoinedByAsync("Tomasz Vail", "runs");
        var parcel = await SendAsync(service.Api);
        (await priya.GetAsync("parcels", WireJson.Default.ListParcelInfo, default)).ShouldBeEmpty();
        (await Should.ThrowAsync<ApiException>(() => priya.GetAsync($"parcels/{parcel.Id}", WireJson.Default.ParcelInfo, default))).Problem.Status.ShouldBe(404);
        // To know the hash of what another sent is not to have it.
        (await Should.ThrowAsync<ApiException>(() => DeliverAsync(priya, parcel, w => w))).Message.ShouldContain("does not keep these files as yours");
        (await Should.ThrowAsync<ApiException>(() => SendAsync(tomasz))).Problem.Status.ShouldBe(403);
        var own = await SendAsync(priya);
        (own.Digest, own.Id == parcel.Id).ShouldBe((parcel.Digest, false));
        await EndedAsync(priya, await DeliverAsync(priya, own, w => w), 1);
        (await Should.ThrowAsync<ApiException>(() => DeliverAsync(tomasz, own, w => w))).Problem.Status.ShouldBe(403);
        (await Should.ThrowAsync<ApiException>(() => DeliverAsync(priya, own, w => w with { Name = "harmless.txt" }))).Message.ShouldContain("is not what the job says of it");

        foreach (var ticket in (string?[])[null, "", "none", new('A', 200)])
        {
            using var request = new HttpRequestMessage(HttpMethod.Get, ContentPath.Of(parcel.Digest!));
            request.Headers.TryAddWithoutValidation("Authorization", ticket is null ? null : $"Bearer {ticket}");
            using var http = new HttpClient { BaseAddress = service.Api.Http.BaseAddress };
            (await http.SendAsync(request)).StatusCode.ShouldBe(HttpStatusCode.NotFound);
        }
    }

    [Fact]
    public async Task What_is_in_the_way_is_asked_about_and_then_said()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var parcel = await SendAsync(service.Api);
        var job = await DeliverAsync(service.Api, parcel, w => w with { Existing = Existing.Ask });
        await EndedAsync(service.Api, job, 1);
        var run = (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Runs.ShouldHaveSingleItem();
        (run.State, run.ExitStatus).ShouldBe((RunState.Failed, 3));
        (await OutputAsync(service.Api, run.Id)).ShouldContain("/etc/kiosk/kiosk.conf is there already, and is another one.");
        var again = await service.Api.PostAsync($"jobs/{job.Id}/again", new NewJobAgain(Existing: Existing.Rename), WireJson.Default.NewJobAgain, WireJson.Default.JobInfo, default);
        await EndedAsync(service.Api, again, 1);
        Read(agent, "/etc/kiosk/kiosk (2).conf").ShouldBe(Config);
        var other = await service.Api.PostAsync("jobs", new NewJob("all", new CommandSpec { Line = "false" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        await EndedAsync(service.Api, other, 1);
        (await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync($"jobs/{other.Id}/again", new NewJobAgain(Existing: Existing.Keep), WireJson.Default.NewJobAgain, WireJson.Default.JobInfo, default))).Message.ShouldContain("puts no files anywhere");
    }

    [Fact]
    public async Task Named_places_and_the_host_s_own_rules()
    {
        await using var service = await TestService.StartAsync();
        await using var agent = await RunningAgent.StartAsync(service, "quay-ticket-01");
        var parcel = await SendAsync(service.Api);
        var job = await DeliverAsync(service.Api, parcel, w => w with { Folder = null, Place = NamedPlace.Fonts });
        await EndedAsync(service.Api, job, 1);
        Read(agent, "/usr/local/share/fonts/labels/plum.pdf").ShouldBe(Labels);

        await service.Api.PutAsync($"hosts/{agent.Id}/policy", new HostPolicyPart([HostAct.WriteFiles], FileRoots: ["/srv"]), 0, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, default);
        await Wait.UntilAsync(async () =>
        {
            var kept = await DeliverAsync(service.Api, parcel, w => w);
            await EndedAsync(service.Api, kept, 1);
            var run = (await service.Api.GetAsync($"jobs/{kept.Id}", WireJson.Default.JobDetail, default)).Runs.ShouldHaveSingleItem();
            return run.ExitStatus == 2 && (await OutputAsync(service.Api, run.Id)).Contains("does not lie in what this host lets technicians into: /srv", StringComparison.Ordinal);
        }, "the host to keep to its roots");
        var host = await service.Api.GetAsync($"hosts/{agent.Id}/policy", WireJson.Default.PolicyInfo, default);
        await service.Api.PutAsync($"hosts/{agent.Id}/policy", new HostPolicyPart([HostAct.Run]), host.Version, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, default);
        await Wait.UntilAsync(async () =>
        {
            var refused = await DeliverAsync(service.Api, parcel, w => w);
            await EndedAsync(service.Api, refused, 1);
            return (await service.Api.GetAsync($"jobs/{refused.Id}", WireJson.Default.JobDetail, default)).Runs[0] is { State: RunState.Refused, Reason: { } why } && why.Contains("does not allow its files to be changed", StringComparison.Ordinal);
        }, "the host to refuse");
    }

    [Fact]
    public async Task Parcels_go_after_their_time_and_never_while_a_host_is_to_fetch_them()
    {
        await using var service = await TestService.StartAsync();
        await (await RunningAgent.StartAsync(service, "quay-ticket-01")).DisposeAsync();
        var parcel = await SendAsync(service.Api);
        var job = await DeliverAsync(service.Api, parcel, w => w);
        (await Should.ThrowAsync<ApiException>(() => service.Api.ActAsync(HttpMethod.Delete, $"parcels/{parcel.Id}", default))).Message.ShouldContain("cancel the job first");
        (await service.Api.GetAsync($"parcels/{parcel.Id}", WireJson.Default.ParcelInfo, default)).KeptUntil.ShouldBeGreaterThan(job.ExpiresAt.AddDays(6));
        _ = await service.Api.ActAsync($"jobs/{job.Id}/cancel", WireJson.Default.JobInfo, default);
        await service.Api.ActAsync(HttpMethod.Delete, $"parcels/{parcel.Id}", default);
        (await service.Api.GetAsync("parcels", WireJson.Default.ListParcelInfo, default)).ShouldBeEmpty();
        var runs = (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Runs.Select(r => r.Id).ToList();
        (await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync($"jobs/{job.Id}/again", new NewJobAgain(runs), WireJson.Default.NewJobAgain, WireJson.Default.JobInfo, default))).Message.ShouldContain("does not keep these files any more");
    }

    [Fact]
    public async Task What_makes_no_parcel_is_said()
    {
        await using var service = await TestService.StartAsync();
        foreach (var (entries, why) in (IEnumerable<(ParcelEntry[], string)>)[([], "holds something"), ([new(new FileName("../etc"), FileKind.File)], "is no path below a place"), ([new(new FileName("a/b"), FileKind.File)], "has to come before it"), ([new(new FileName("large"), FileKind.File, 1L << 41)], "the service has room for")])
        {
            (await Should.ThrowAsync<ApiException>(() => BeginAsync(service.Api, entries, $"{Guid.NewGuid()}"))).Message.ShouldContain(why);
        }
        var parcel = await BeginAsync(service.Api, Entries, $"{Guid.NewGuid()}");
        using var odd = new HttpRequestMessage(HttpMethod.Put, $"{ApiClient.Base}parcels/{parcel.Id}/content") { Content = new ByteArrayContent([1]) };
        odd.Content.Headers.ContentType = new MediaTypeHeaderValue("application/octet-stream");
        odd.Content.Headers.TryAddWithoutValidation("Content-Range", "lines 1-2/3");
        (await Should.ThrowAsync<ApiException>(async () => await service.Api.SendRawAsync(odd, default))).Message.ShouldContain("bytes FIRST-LAST/ALL");
        // Nothing but names: whole at once.
        (await BeginAsync(service.Api, [new(new FileName("empty"), FileKind.Folder)], $"{Guid.NewGuid()}")).Digest.ShouldNotBeNull();
    }

    private static byte[] Read(RunningAgent agent, string path)
    {
        lock (agent.Platform.Disk.Guard)
        {
            return agent.Platform.Disk.All[path].Content();
        }
    }

    private static string Hex(byte[] content) => Convert.ToHexStringLower(SHA256.HashData(content));

    private static Task<ParcelInfo> BeginAsync(ApiClient api, ParcelEntry[] entries, string key) => api.PostAsync("parcels", new NewParcel(entries), WireJson.Default.NewParcel, WireJson.Default.ParcelInfo, default, key);

    private static async Task<ParcelInfo> PutAsync(ApiClient api, ParcelInfo parcel, byte[] bytes, long from)
    {
        using var request = new HttpRequestMessage(HttpMethod.Put, $"{ApiClient.Base}parcels/{parcel.Id}/content") { Content = new ByteArrayContent(bytes) };
        request.Content.Headers.ContentType = new MediaTypeHeaderValue("application/octet-stream");
        request.Content.Headers.ContentRange = new ContentRangeHeaderValue(from, from + bytes.Length - 1, parcel.Bytes);
        using var answer = await api.SendRawAsync(request, default);
        return (await answer.Content.ReadFromJsonAsync(WireJson.Default.ParcelInfo))!;
    }

    private static async Task<ParcelInfo> SendAsync(ApiClient api) => await PutAsync(api, await BeginAsync(api, Entries, $"{Guid.NewGuid()}"), [.. Config, .. Labels], 0);

    private static async Task<string> ListAsync(ApiClient api, ParcelInfo parcel)
    {
        using var answer = await api.SendRawAsync(new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}parcels/{parcel.Id}/list"), default);
        return await answer.Content.ReadAsStringAsync();
    }

    private static Task<JobInfo> DeliverAsync(ApiClient api, ParcelInfo parcel, Func<DeliverFiles, DeliverFiles> change)
    {
        var wish = change(new DeliverFiles(parcel.Digest!, parcel.Name, parcel.Files, parcel.Bytes, new FileName("/etc/kiosk"), Existing: Existing.Replace));
        return api.PostAsync("jobs", new NewJob("all", new CommandSpec { Action = new HostAction { Deliver = wish } }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
    }

    private static Task EndedAsync(ApiClient api, JobInfo job, int runs) =>
        Wait.UntilAsync(async () => (await api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Job.Runs.Ended >= runs, $"{runs} runs to end");

    private static async Task<string> OutputAsync(ApiClient api, Guid runId)
    {
        using var answer = await api.SendRawAsync(new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}runs/{runId}/output"), default);
        return await answer.Content.ReadAsStringAsync();
    }
}
