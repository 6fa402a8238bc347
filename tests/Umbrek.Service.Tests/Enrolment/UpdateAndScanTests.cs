using System.Net;
using System.Text.Json;
using Umbrek.Core.Enrolment;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Service.Tests.Enrolment;

/// <summary>Orders of updates and scans, and what happens to them when hosts are away or the service restarts.</summary>
public sealed class UpdateAndScanTests
{
    [Theory]
    [InlineData("rollouts", """{"selection":"all","waves":"some"}""", 400, "no wave")]
    [InlineData("rollouts", """{"selection":"all","failuresAllowed":-1}""", 400, "0 to 10000")]
    [InlineData("rollouts", """{"selection":"all","returnWithinSeconds":5}""", 400, "60 to 3600")]
    [InlineData("rollouts", """{"selection":"nobody-*"}""", 404, "No host matches")]
    [InlineData("rollouts", """{"selection":"(("}""", 400, "at character")]
    [InlineData("rollouts", """{"selection":"all","version":"9.9.9"}""", 404, "no version 9.9.9")]
    [InlineData("scans", """{"hostId":"HOST","range":"10.0.0.0/8"}""", 400, "/20")]
    [InlineData("scans", """{"hostId":"HOST"}""", 400, "no range")]
    [InlineData("scans", """{"hostId":"HOST","range":"198.51.100.0/24","ports":[]}""", 400, "1 to 16 ports")]
    [InlineData("scans", """{"hostId":"HOST","range":"198.51.100.0/24","ports":[0]}""", 400, "1 to 65535")]
    [InlineData("scans", """{"hostId":"HOST","range":"198.51.100.0/24","probesPerSecond":9000}""", 400, "1 to 500")]
    [InlineData("scans", """{"hostId":"01a20755-f119-7cdf-96db-925628507f7a","range":"198.51.100.0/24"}""", 404, "no such host")]
    [InlineData("scans", """{"hostId":"HOST","range":"198.51.100.0/24"}""", 409, "away")]
    public async Task What_can_not_be_ordered_is_refused_in_a_sentence(string path, string json, int status, string word)
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        var host = await service.HostAsync("quay-ticket-01");
        var answer = await service.SendAsync(HttpMethod.Post, $"/api/v1/{path}", json.Replace("HOST", $"{host.Id}"));
        ((int)answer.Status).ShouldBe(status, answer.Body);
        JsonDocument.Parse(answer.Body).RootElement.GetProperty("detail").GetString()!.ShouldContain(word);
    }

    [Fact]
    public async Task A_release_is_signed_with_the_key_that_hosts_learn_and_a_version_never_changes()
    {
        await using var service = await TestService.StartAsync();
        var (identity, _) = await service.EnrolAsync("quay-ticket-01");
        var own = (await service.Api.GetAsync("releases", WireJson.Default.PageReleaseInfo, default)).Items.Single();
        own.AddedBy.ShouldBe("came with the service");

        byte[] program = [1, 2, 3];
        (await AddAsync(service, "0.2.0", program)).Status.ShouldBe(HttpStatusCode.Created);
        var (again, body) = await AddAsync(service, "0.2.0", [4]);
        again.ShouldBe(HttpStatusCode.Conflict);
        body.ShouldContain("never changes");
        (await AddAsync(service, "0.3.0", [])).Body.ShouldContain("is empty");
        (await AddAsync(service, "../x", program)).Body.ShouldContain("starts with a digit");

        await using var db = service.Get<Umbrek.Service.Storage.IDatabase>().Open();
        foreach (var row in db.Releases)
        {
            Umbrek.Service.Enrolment.ReleaseService.ToManifest(row).IsSignedBy(identity.ReleaseKey, row.Signature).ShouldBeTrue();
        }
        var newest = (await service.Api.GetAsync("releases", WireJson.Default.PageReleaseInfo, default)).Items[0];
        using var http = new HttpClient { BaseAddress = service.Address };
        (await http.GetByteArrayAsync($"/releases/{newest.Sha256}")).ShouldBe(program);
        (await http.GetAsync($"/releases/{new string('0', 64)}")).StatusCode.ShouldBe(HttpStatusCode.NotFound);
        (await http.GetAsync("/releases/..%2Fumbrek.db")).StatusCode.ShouldBe(HttpStatusCode.NotFound);
    }

    [Fact]
    public async Task Hosts_that_are_away_wait_are_in_one_update_at_a_time_and_can_be_let_off()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("quay-ticket-01");
        await AddAsync(service, "0.2.0", [1, 2, 3]);
        var started = await service.Api.PostAsync("rollouts", new NewRollout("all"), WireJson.Default.NewRollout, WireJson.Default.RolloutDetail, default);
        started.Hosts.Single().State.ShouldBe(UpdateState.Waiting);
        var busy = await Should.ThrowAsync<ApiException>(() => service.Api.PostAsync("rollouts", new NewRollout("all"), WireJson.Default.NewRollout, WireJson.Default.RolloutDetail, default));
        busy.Message.ShouldContain("another update");
        await service.RestartAsync();
        (await service.Api.GetAsync($"rollouts/{started.Info.Id}", WireJson.Default.RolloutDetail, default)).Info.State.ShouldBe(RolloutState.Running);
        var cancelled = await service.Api.ActAsync($"rollouts/{started.Info.Id}/cancel", WireJson.Default.RolloutDetail, default);
        cancelled.Info.State.ShouldBe(RolloutState.Cancelled);
        cancelled.Hosts.Single().State.ShouldBe(UpdateState.Cancelled);
    }

    [Fact]
    public async Task A_host_that_returns_with_the_old_version_is_told_again_three_times_and_then_given_up()
    {
        await using var service = await TestService.StartAsync();
        await AddAsync(service, "0.2.0", [1, 2, 3]);
        await using var host = await service.LinkAsync("quay-ticket-01");
        var started = await service.Api.PostAsync("rollouts", new NewRollout("all"), WireJson.Default.NewRollout, WireJson.Default.RolloutDetail, default);
        async Task<RolloutHostInfo> MemberAsync() => (await service.Api.GetAsync($"rollouts/{started.Info.Id}", WireJson.Default.RolloutDetail, default)).Hosts.Single();
        for (var telling = 1; telling <= 3; telling++)
        {
            await Wait.UntilAsync(() => host.Asked == telling, $"it to hear telling {telling}");
            await host.ConnectAsync(default);
        }
        await Wait.UntilAsync(async () => (await MemberAsync()).State == UpdateState.Failed, "it to be given up");
        (await MemberAsync()).Reason.ShouldNotBeNull().ShouldContain("returned with version");
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"rollouts/{started.Info.Id}", WireJson.Default.RolloutDetail, default)).Info.State == RolloutState.Stopped, "the update to stop");
    }

    private static async Task<(HttpStatusCode Status, string Body)> AddAsync(TestService service, string version, byte[] program)
    {
        using var http = new HttpClient { BaseAddress = service.Address };
        http.DefaultRequestHeaders.Authorization = new("Bearer", service.Token);
        using var response = await http.PostAsync($"/api/v1/releases?version={Uri.EscapeDataString(version)}", new ByteArrayContent(program));
        return (response.StatusCode, await response.Content.ReadAsStringAsync());
    }
}
