using System.Diagnostics;
using Microsoft.Data.Sqlite;
using Microsoft.AspNetCore.Builder;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging.Abstractions;
using Umbrek.Bench.Estate;
using Umbrek.Bench.Hosting;
using Umbrek.Bench.Links;
using Umbrek.Core.Health;
using Umbrek.Service.Access;
using Umbrek.Service.Estate;
using Umbrek.Service.Health;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Simulation.Health;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;

namespace Umbrek.Bench.Health;

/// <summary>How soon somebody is told, what the first page of the day costs at ten thousand hosts, and whether forgetting ten million samples holds up what comes in.</summary>
internal static class NoticeBench
{
    private const int Hosts = 10_000;
    private const int OldSamples = 10_000_000;
    private const int Batch = 500;
    private static readonly TimeSpan Hold = CheckRule.LeastHold;

    public static async Task RunAsync()
    {
        await TellingAsync();
        await DashboardAsync();
        await ForgettingAsync();
    }

    /// <summary>From the sample that completes a check's hold time to a web hook's receiver, beside a call of that receiver.</summary>
    private static async Task TellingAsync()
    {
        using var directory = new Scratch();
        await using var receiver = new HookReceiver();
        var options = new ServiceOptions { DataDirectory = directory.Path, Listen = [ListenAddress.Parse("http://127.0.0.1:0")], PasswordIterations = 1000, CallsPerSecond = 0, HooksMayReach = [System.Net.IPNetwork.Parse("127.0.0.1/32")] };
        await using var app = ServiceHost.Build(options, TimeProvider.System);
        await ServiceHost.StartAsync(app, default);
        using var lead = await SetUpAsync(app);
        await lead.PostAsync("notices", new NewNotice("bench", NoticeWay.Hook, Url: $"{receiver.Address}"), WireJson.Default.NewNotice, WireJson.Default.NoticeMade, default);
        await lead.PostAsync("checks", new NewCheck("Bench", Subsystem.Processor, Severity.Critical, "processor > 99 %", HoldSeconds: Hold.TotalSeconds), WireJson.Default.NewCheck, WireJson.Default.CheckInfo, default);
        var hosts = await LinkedAsync(app, lead, 5);
        var intake = app.Services.GetRequiredService<Intake>();
        var taken = new List<double>();
        foreach (var host in hosts)
        {
            var before = receiver.Calls.Count;
            var began = Stopwatch.GetTimestamp();
            while (receiver.Calls.Count == before)
            {
                await intake.SamplesAsync(host, [new Sample { At = DateTimeOffset.UtcNow, ProcessorPercent = 100, MemoryTotalBytes = 1 << 30, MemoryAvailableBytes = 1 << 29 }]);
                await Task.Delay(600);
            }
            taken.Add((Stopwatch.GetElapsedTime(began) - Hold).TotalMilliseconds);
        }
        using var http = new HttpClient();
        var bare = new List<double>();
        for (var i = 0; i < 50; i++)
        {
            var began = Stopwatch.GetTimestamp();
            (await http.PostAsync(receiver.Address, new StringContent("{}"))).Dispose();
            bare.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        }
        Figures.Line("from the end of the hold time to a web hook", Figures.Median(taken), Figures.Median(bare), "ms", "under 5 s");
        await app.StopAsync();
    }

    private static async Task<ApiClient> SetUpAsync(WebApplication app)
    {
        var address = new Uri(app.Urls.Single());
        using var anonymous = new ApiClient(address, null);
        await anonymous.PostAsync("set-up", new SetUpRequest(app.Services.GetRequiredService<SetUpCode>().Text, KnownEstate.Name, KnownEstate.Password), WireJson.Default.SetUpRequest, WireJson.Default.TechnicianInfo, default);
        return new ApiClient(address, null, (await anonymous.PostAsync("sign-in", new SignInRequest(KnownEstate.Name, KnownEstate.Password, SignInUse.Token), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default)).Token);
    }

    /// <summary>Hosts that count as linked, without links of their own.</summary>
    private static async Task<List<Guid>> LinkedAsync(WebApplication app, ApiClient lead, int count)
    {
        var group = await lead.PostAsync("groups", new NewGroup("Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        var estate = app.Services.GetRequiredService<EstateIndex>();
        var made = new List<Guid>();
        await using var db = app.Services.GetRequiredService<IDatabase>().Open();
        for (var i = 0; i < count; i++)
        {
            var row = new HostRow { Id = Guid.CreateVersion7(), GroupId = group.Id, SystemName = $"quay-{i}", Label = $"quay-{i}", PublicKey = [(byte)i], EnrolledAt = DateTimeOffset.UtcNow, LastSeenAt = DateTimeOffset.UtcNow };
            db.Hosts.Add(row);
            await db.SaveChangesAsync();
            estate.Add(row, group.Path);
            estate.Linked(row.Id, row.SystemName, "0.1.0", null, DateTimeOffset.UtcNow);
            made.Add(row.Id);
        }
        return made;
    }

    /// <summary>What the page of what needs a person asks for, beside a page of hosts.</summary>
    private static async Task DashboardAsync()
    {
        await using var estate = await KnownEstate.StartAsync(Hosts);
        async Task<double> EachAsync(Func<Task> ask)
        {
            var times = new List<double>();
            for (var i = 0; i < 30; i++)
            {
                var began = Stopwatch.GetTimestamp();
                await ask();
                times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
            }
            return Figures.Median(times);
        }
        var page = await EachAsync(() => estate.Api.GetAsync("hosts?limit=200", WireJson.Default.PageHostSummary, default));
        Figures.Line($"places by subsystem, {Hosts} hosts", await EachAsync(() => estate.Api.GetAsync("overview", WireJson.Default.HealthOverview, default)), page, "ms", "under 100 ms");
    }

    /// <summary>Batches of samples stored while ten million old ones are forgotten, beside the same batches before.</summary>
    private static async Task ForgettingAsync()
    {
        using var directory = new Scratch();
        var file = Path.Combine(directory.Path, "forget.db");
        using var database = new SqliteDatabase(file);
        await using (var db = database.Open())
        {
            await db.Database.MigrateAsync();
        }
        var now = DateTimeOffset.UtcNow;
        using (var fill = new SqliteConnection($"Data Source={file}"))
        {
            fill.Open();
            using var command = fill.CreateCommand();
            // A thousand hosts for ten thousand readings each, all past their time.
            command.CommandText = """
                PRAGMA synchronous=OFF;
                WITH RECURSIVE r(n) AS (SELECT 0 UNION ALL SELECT n + 1 FROM r WHERE n + 1 < $count)
                INSERT INTO "Samples" ("HostId","At","ProcessorPercent","MemoryUsedPercent","StorageUsedPercent","Load1","Sample") SELECT CAST(printf('%016d', n % 1000) AS BLOB), $oldest + (n / 1000) * 15000, 12, 40, 60, 0.5, '{"processorPercent":12,"memoryTotalBytes":4294967296}' FROM r;
                """;
            command.Parameters.AddWithValue("$count", OldSamples);
            command.Parameters.AddWithValue("$oldest", (now - SampleRules.RawRetention - TimeSpan.FromSeconds(15.0 * OldSamples / 1000)).ToUnixTimeMilliseconds());
            command.CommandTimeout = 600;
            command.ExecuteNonQuery();
        }
        using var pruner = new SamplePruner(database, TimeProvider.System, NullLogger<SamplePruner>.Instance);
        var n = 0;
        var host = Guid.CreateVersion7();
        async Task<List<double>> StoreAsync(Func<bool> goOn)
        {
            var taken = new List<double>();
            while (goOn())
            {
                var batch = new BulkBatch();
                batch.Samples.AddRange(Enumerable.Range(0, Batch).Select(_ => (host, new Sample { At = now.AddMilliseconds(n++), ProcessorPercent = 12 })));
                var began = Stopwatch.GetTimestamp();
                await database.Bulk.WriteAsync(batch, default);
                taken.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
                await Task.Delay(100);
            }
            return taken;
        }
        var left = 30;
        var alone = await StoreAsync(() => left-- > 0);
        var began = Stopwatch.GetTimestamp();
        var pruning = Task.Run(() => pruner.PruneAsync(default));
        var during = await StoreAsync(() => !pruning.IsCompleted);
        var gone = await pruning;
        if (gone < OldSamples)
        {
            throw new InvalidOperationException($"{gone} of {OldSamples} samples were forgotten.");
        }
        Figures.Alone($"{gone / 1_000_000} million samples forgotten", Stopwatch.GetElapsedTime(began).TotalSeconds, "s", "");
        Figures.Line($"{Batch} samples stored meanwhile, median", Figures.Median(during), Figures.Median(alone), "ms", "");
        Figures.Line("the slowest of them", during.Max(), alone.Max(), "ms", "under 1 s");
    }
}
