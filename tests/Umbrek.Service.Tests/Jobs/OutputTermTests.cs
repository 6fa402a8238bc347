using Microsoft.AspNetCore.SignalR.Client;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Core.Jobs;
using Umbrek.Service.Storage;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Simulation.Links;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Tests.Jobs;

/// <summary>Output is kept for a while, and then said to be gone wherever it is asked for.</summary>
public sealed class OutputTermTests
{
    private readonly FakeTimeProvider time = new(DateTimeOffset.UtcNow);

    [Fact]
    public async Task Output_past_its_term_goes_and_what_became_of_the_run_stays()
    {
        await using var service = await TestService.StartAsync(time, adjust: o => o with { OutputDays = 30 });
        await using var ebb = await LinkAsync(service, "quay-ticket-01", "ebb\n", 0);
        await using var mute = await LinkAsync(service, "plover-log-01", "", 3);
        await using var flood = await LinkAsync(service, "quay-ticket-02", "flood\n", 0);
        var old = await RunAsync(service, "name = \"quay-ticket-01\" or name = \"plover-log-01\"");
        var young = await RunAsync(service, "name = \"quay-ticket-02\"");
        await using (var db = service.Get<IDatabase>().Open())
        {
            var (monthAgo, yearAgo) = (time.GetUtcNow() - TimeSpan.FromDays(31), time.GetUtcNow() - TimeSpan.FromDays(365));
            await db.Jobs.Where(j => j.Id == old).ExecuteUpdateAsync(u => u.SetProperty(j => j.CreatedAt, monthAgo));
            await db.Runs.Where(r => r.JobId == old).ExecuteUpdateAsync(u => u.SetProperty(r => r.EndedAt, monthAgo));
            // Asked a moment ago, and the clock of that host is a year behind.
            await db.Runs.Where(r => r.JobId == young).ExecuteUpdateAsync(u => u.SetProperty(r => r.EndedAt, yearAgo));
        }

        var detail = await service.Api.GetAsync($"jobs/{old}", WireJson.Default.JobDetail, default);
        detail.Runs.Select(r => (r.HostLabel, r.State, r.OutputGone)).ShouldBe([("plover-log-01", RunState.Failed, false), ("quay-ticket-01", RunState.Succeeded, true)]);
        var gone = detail.Runs.Single(r => r.OutputGone).Id;
        var kept = (await service.Api.GetAsync($"jobs/{young}", WireJson.Default.JobDetail, default)).Runs.ShouldHaveSingleItem();
        kept.OutputGone.ShouldBeFalse();
        var why = await Should.ThrowAsync<ApiException>(() => OutputAsync(service, gone));
        (why.Problem.Status, why.Message).ShouldBe((410, "What quay-ticket-01 printed is not kept any longer: output goes 30 days after its end."));
        (await Should.ThrowAsync<ApiException>(() => service.Api.GetAsync($"runs/{kept.Id}/comparison?with={gone}", WireJson.Default.AnswerComparison, default))).Problem.Status.ShouldBe(410);
        var answers = await service.Api.GetAsync($"jobs/{old}/answers", WireJson.Default.JobAnswers, default);
        (answers.Gone, answers.Open, answers.Folds.ShouldHaveSingleItem().ExitStatus).ShouldBe((1, 0, 3));
        var found = await service.Api.GetAsync($"jobs/{old}/search?text=ebb", WireJson.Default.FoundLines, default);
        (found.Lines.Count, found.Gone).ShouldBe((0, 1));

        (await TextAsync(service, $"jobs/{old}/output?as=ndjson")).ShouldContain("\"outputGone\":true,\"stdout\":\"\"");
        await using (var live = await service.LiveAsync(service.Api))
        {
            (await live.StreamAsync<JobChanges>("Job", old).ToListAsync()).ShouldAllBe(c => c.Output.Count == 0);
            (await live.StreamAsync<JobChanges>("Run", gone).ToListAsync()).ShouldAllBe(c => c.Output.Count == 0);
            (await live.StreamAsync<JobChanges>("Run", kept.Id).ToListAsync()).ShouldContain(c => c.Output.Count == 1);
        }

        (await StoredAsync(service)).ShouldContain(gone);
        time.Advance(TimeSpan.FromHours(1));
        await Wait.UntilAsync(async () => await StoredAsync(service) is [var left] && left == kept.Id, "what is past its term to be removed");
        (await OutputAsync(service, kept.Id)).ShouldBe("flood\n");
        await using (var db = service.Get<IDatabase>().Open())
        {
            var monthAgo = time.GetUtcNow() - TimeSpan.FromDays(31);
            await db.Jobs.Where(j => j.Id == young).ExecuteUpdateAsync(u => u.SetProperty(j => j.CreatedAt, monthAgo));
        }
        time.Advance(TimeSpan.FromHours(1));
        await Wait.UntilAsync(async () => (await StoredAsync(service)).Count == 0, "that of the host whose clock is behind to be removed, too, once it was asked so long ago");

        var line = (await service.Api.GetAsync("audit?action=output.expire", WireJson.Default.PageAuditInfo, default)).Items[^1];
        line.Detail.ShouldContain("30 days");
        (await service.Api.GetAsync($"jobs/{old}", WireJson.Default.JobDetail, default)).Runs.Select(r => r.StdoutBytes).ShouldBe([0, 4]);
    }

    private static async Task<LightHost> LinkAsync(TestService service, string name, string output, int status)
    {
        var host = await service.LinkAsync(name);
        host.Answer = _ => Task.FromResult((output, status));
        return host;
    }

    private static async Task<Guid> RunAsync(TestService service, string on)
    {
        var job = (await service.Api.PostAsync("jobs", new NewJob(on, new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default)).Id;
        await Wait.UntilAsync(async () => (await service.Api.GetAsync($"jobs/{job}", WireJson.Default.JobDetail, default)).Job.Runs is var runs && runs.Ended == runs.Total, "the job to end");
        return job;
    }

    private static Task<string> OutputAsync(TestService service, Guid run) => TextAsync(service, $"runs/{run}/output");

    private static async Task<string> TextAsync(TestService service, string path)
    {
        using var response = await service.Api.SendRawAsync(new HttpRequestMessage(HttpMethod.Get, ApiClient.Base + path), default);
        return await response.Content.ReadAsStringAsync();
    }

    private static async Task<List<Guid>> StoredAsync(TestService service)
    {
        await using var db = service.Get<IDatabase>().Open();
        return await db.RunOutput.Select(o => o.RunId).Distinct().ToListAsync();
    }
}
