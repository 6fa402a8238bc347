using System.Net;
using System.Text.Json;
using Umbrek.Core.Audit;
using Umbrek.Core.Jobs;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Audit;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Audit;

public sealed class AuditTests
{
    [Fact]
    public async Task Accounts_and_sign_ins_are_written_down_and_what_was_typed_wrong_is_not()
    {
        await using var service = await TestService.StartAsync();
        await service.Api.PostAsync("technicians", new NewTechnician("Priya Lund", "harbour-lantern-quay"), WireJson.Default.NewTechnician, WireJson.Default.TechnicianInfo, default);
        await SignInAsync(service, "Priya Lund", "not her password");
        await SignInAsync(service, "harbour-lantern-quay", "harbour-lantern-quay");
        await service.SendAsync(HttpMethod.Post, "/api/v1/sign-out");

        await service.SignInAgainAsync();
        var lines = (await ListAsync(service, "")).Items.Reverse().Where(a => !a.Action.StartsWith("group.", StringComparison.Ordinal)).ToList();
        lines.Select(a => $"{a.Actor}: {a.Action} {a.Target}").ShouldBe(
        [
            "set-up code: technician.create Ines Okafor", "set-up code: grant.create Ines Okafor", "Ines Okafor: sign-in Ines Okafor", "Ines Okafor: technician.create Priya Lund",
            "nobody: sign-in.refuse Priya Lund", "nobody: sign-in.refuse unknown name", "Ines Okafor: sign-out Ines Okafor", "Ines Okafor: sign-in Ines Okafor",
        ]);
        lines.ShouldAllBe(a => a.Address == "127.0.0.1");
        JsonSerializer.Serialize(lines, WireJson.Default.ListAuditInfo).ShouldNotContain("lantern");
    }

    [Fact]
    public async Task Jobs_and_what_becomes_of_them_by_hand_are_written_with_them()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("plover-log-01");
        var job = await service.Api.PostAsync("jobs", new NewJob("plover-*", new CommandSpec { Line = "uptime" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default, idempotencyKey: "once");
        await service.Api.PostAsync("jobs", new NewJob("plover-*", new CommandSpec { Line = "uptime" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default, idempotencyKey: "once");
        var run = (await service.Api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, default)).Runs.Single();
        await service.Api.ActAsync($"runs/{run.Id}/cancel", WireJson.Default.RunInfo, default);
        await service.Api.ActAsync($"jobs/{job.Id}/cancel", WireJson.Default.JobInfo, default);

        var lines = (await ListAsync(service, "action=job")).Items.Concat((await ListAsync(service, "action=run")).Items).OrderBy(a => a.Number).ToList();
        lines.Select(a => $"{a.Actor}: {a.Action} {a.Target}").ShouldBe(["Ines Okafor: job.create plover-*", "Ines Okafor: run.cancel plover-log-01", "Ines Okafor: job.cancel plover-*"]);
        lines[0].Detail.ShouldContain("\"command\":\"uptime\"");
        lines[0].Detail.ShouldContain($"\"id\":\"{job.Id}\"");
        Verify(await ExportAsync(service, "")).Findings.ShouldBeEmpty();
    }

    [Fact]
    public async Task The_log_is_narrowed_by_each_of_its_parts()
    {
        await using var service = await TestService.StartAsync();
        await service.NewTokenAsync();
        (await ListAsync(service, "action=group")).Items.ShouldAllBe(a => a.Action == "group.create");
        (await ListAsync(service, "actor=okafor&action=installer")).Total.ShouldBe(1);
        (await ListAsync(service, "target=FERRY")).Items.ShouldContain(a => a.Target == "Saltmarsh Ferry/Quay");
        (await ListAsync(service, "target=%25")).Total.ShouldBe(0, "a sign of the database's own is a sign like any other");
        (await ListAsync(service, "address=192.0.2.1")).Total.ShouldBe(0);
        var all = (await ListAsync(service, "")).Items;
        var middle = all[2].At;
        var (before, after) = ((await ListAsync(service, $"to={Uri.EscapeDataString($"{middle:O}")}")).Total, (await ListAsync(service, $"from={Uri.EscapeDataString($"{middle:O}")}")).Total);
        (before + after).ShouldBe(all.Count);
        after.ShouldBeGreaterThanOrEqualTo(3);
        (await service.SendAsync(HttpMethod.Get, "/api/v1/audit?from=2026-11-23&to=2026-11-20")).Body.ShouldContain("exchange them");
        (await service.SendAsync(HttpMethod.Get, "/api/v1/audit?from=yesterday")).Status.ShouldBe(HttpStatusCode.BadRequest);
    }

    [Fact]
    public async Task An_export_holds_every_line_in_order_and_a_spreadsheet_takes_none_for_a_formula()
    {
        await using var service = await TestService.StartAsync();
        await service.Api.PostAsync("groups", new Wire.Estate.NewGroup("=1+1", "Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        var (_, csv, response) = await service.SendAsync(HttpMethod.Get, "/api/v1/audit/export?format=csv&action=group");
        response.Content.Headers.ContentType!.MediaType.ShouldBe("text/csv");
        csv.Split("\r\n", StringSplitOptions.RemoveEmptyEntries).Length.ShouldBe(5);
        csv.ShouldNotContain(",=1");
        var lines = await ExportAsync(service, "");
        lines.Select(l => l.Number).ShouldBe(Enumerable.Range(1, lines.Count).Select(n => (long)n));
        lines[^1].Target.ShouldBe("Saltmarsh Ferry/=1+1");
        (await service.SendAsync(HttpMethod.Get, "/api/v1/audit/export?format=xml")).Body.ShouldContain("ndjson or csv");
    }

    [Fact]
    public async Task Lines_from_everywhere_at_once_make_one_chain()
    {
        await using var service = await TestService.StartAsync();
        await service.EnrolAsync("plover-log-01");
        await Task.WhenAll(Enumerable.Range(0, 24).Select(i => i % 2 == 0
            ? service.Api.PostAsync("jobs", new NewJob("all", new CommandSpec { Line = $"echo {i}" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default)
            : (Task)service.Api.PostAsync("groups", new Wire.Estate.NewGroup($"Deck {i}", "Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default)));
        var lines = await ExportAsync(service, "");
        lines.Count(l => l.Action == "job.create").ShouldBe(12);
        Verify(lines).Findings.ShouldBeEmpty();
    }

    private static Task<Wire.Estate.Page<AuditInfo>> ListAsync(TestService service, string query) => service.Api.GetAsync($"audit?{query}", WireJson.Default.PageAuditInfo, default);

    private static async Task<List<AuditInfo>> ExportAsync(TestService service, string query) =>
        [.. (await service.SendAsync(HttpMethod.Get, $"/api/v1/audit/export?{query}")).Body.Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(l => JsonSerializer.Deserialize(l, WireJson.Default.AuditInfo)!)];

    private static AuditVerifier Verify(List<AuditInfo> lines)
    {
        var verifier = new AuditVerifier();
        lines.ForEach(l => verifier.Take(new AuditEntry(l.Number, l.At, l.Actor, l.Address, l.Action, l.Target, l.Detail), Convert.FromHexString(l.Hash)));
        return verifier;
    }

    private static async Task SignInAsync(TestService service, string name, string password) =>
        await service.SendAsync(HttpMethod.Post, "/api/v1/sign-in", JsonSerializer.Serialize(new SignInRequest(name, password, SignInUse.Token), WireJson.Default.SignInRequest), signedIn: false);
}
