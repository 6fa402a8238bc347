using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Text.Json;
using Microsoft.AspNetCore.SignalR.Client;
using Microsoft.Data.Sqlite;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Bench.Hosting;
using Umbrek.Core.Jobs;
using Umbrek.Simulation.Demo;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Health;
using Umbrek.Simulation.Links;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;

namespace Umbrek.Bench.Links;

/// <summary>Many links at once: connecting, fanning out, idling, and taking in samples, each against a bare hub or a bare database.</summary>
internal static class LinkBench
{
    private const int Parallel = 64;
    private const int IdleSeconds = 30;
    private const string Password = "tide-lantern-orchard";

    public static async Task RunAsync(int count)
    {
        Console.WriteLine($"-- {count} links");
        var bare = await MeasureBareAsync(count);
        await MeasureOursAsync(count, bare);
    }

    private sealed record Bare(double Connect, double FanOut, double IdleProcessor, double ResidentPerLink);

    private static async Task<Bare> MeasureBareAsync(int count)
    {
        var port = FreePort();
        await using var hub = await Measured.StartAsync(Environment.ProcessPath!, "ready", "bare-hub", $"{port}");
        var before = hub.Resident();
        var links = Enumerable.Range(0, count).Select(_ => BareHub.Connect(port)).ToList();
        var connect = await TimeAsync(() => AllAsync(links, l => l.StartAsync()));
        using var http = new HttpClient { Timeout = TimeSpan.FromMinutes(2) };
        var fanOut = new List<double>();
        for (var round = 0; round < 5; round++)
        {
            fanOut.Add(await TimeAsync(async () => (await http.PostAsync($"http://127.0.0.1:{port}/round/{round}/{count}", null)).EnsureSuccessStatusCode()));
        }
        var sample = new string('s', 300);
        var idle = await IdleAsync(hub, links, l => l.SendAsync("Sample", sample));
        var resident = (hub.Resident() - before) / (double)count;
        await AllAsync(links, l => l.DisposeAsync().AsTask());
        return new Bare(connect, Figures.Median(fanOut), idle, resident);
    }

    private static async Task MeasureOursAsync(int count, Bare bare)
    {
        using var directory = new Scratch();
        var port = FreePort();
        var address = new Uri($"http://127.0.0.1:{port}");
        var data = Path.Combine(directory.Path, "service");
        string[] serve = ["serve", "--data", data, "--listen", address.GetLeftPart(UriPartial.Authority), "--sample-interval", "30"];
        var service = await Measured.StartAsync(ChildProgram.Find("umbrekd"), "ready", serve);
        try
        {
            var (api, identities, enrol) = await EnrolAsync(address, service.Said("set-up code"), count);
            Figures.Alone($"enrol {count} hosts, each a request", enrol, "s", "");
            await service.DisposeAsync();
            service = await Measured.StartAsync(ChildProgram.Find("umbrekd"), "ready", serve);
            var before = service.Resident();

            var hosts = identities.ConvertAll(i => new LightHost(i.Identity, i.Host, TimeProvider.System));
            var connect = await TimeAsync(() => AllAsync(hosts, h => h.ConnectAsync(default)));
            Figures.Line($"{count} links at once, proven", connect, bare.Connect, "s", "under 3x");

            var fanOut = new List<double>();
            for (var round = 0; round < 4; round++)
            {
                fanOut.Add(await TimeAsync(() => RunEverywhereAsync(api, count)));
            }
            Figures.Line($"a run on {count} hosts, all results stored", Figures.Median(fanOut.Skip(1)), bare.FanOut, "s", "under 5x");

            var idle = await IdleAsync(service, hosts, h => h.SendSampleAsync(default));
            Figures.Line($"idle with a sample every 30 s, of one core", idle * 100, bare.IdleProcessor * 100, "%", "under 2x");
            Figures.Line("resident per link", (service.Resident() - before) / 1024.0 / count, bare.ResidentPerLink / 1024, "kB", "under 60 kB");
            Figures.Alone("resident in all", service.Resident() / 1048576.0, "MB", "under 900 MB");

            await MeasureIntakeAsync(api, hosts, identities, data, directory);
            await AllAsync(hosts, h => h.DisposeAsync().AsTask());
            api.Dispose();
        }
        finally
        {
            await service.DisposeAsync();
        }
    }

    private static async Task<(ApiClient Api, List<(AgentIdentity Identity, SimulatedHost Host)> Hosts, double Seconds)> EnrolAsync(Uri address, string code, int count)
    {
        string token;
        using (var anonymous = new ApiClient(address, null))
        {
            await anonymous.PostAsync("set-up", new SetUpRequest(code, "Ines Okafor", Password), WireJson.Default.SetUpRequest, WireJson.Default.TechnicianInfo, default);
            token = (await anonymous.PostAsync("sign-in", new SignInRequest("Ines Okafor", Password, SignInUse.Token), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default)).Token!;
        }
        var api = new ApiClient(address, null, token);
        await api.PostAsync("groups", new NewGroup("Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        var enrolment = (await api.PostAsync("installers", new NewInstaller("Saltmarsh Ferry"), WireJson.Default.NewInstaller, WireJson.Default.InstallerDetail, default)).Token;
        var hosts = Scenario.Hosts(count).ToList();
        var identities = new (AgentIdentity, SimulatedHost)[count];
        using var states = new Scratch();
        var seconds = await TimeAsync(() => System.Threading.Tasks.Parallel.ForEachAsync(Enumerable.Range(0, count), new ParallelOptions { MaxDegreeOfParallelism = 8 }, async (i, cancel) =>
        {
            var state = new StateDirectory(Path.Combine(states.Path, $"{i}"));
            identities[i] = ((await new Enroller(state, new SimulatedPlatform(hosts[i], TimeProvider.System)).EnrolAsync(address, enrolment, null, AccessKeyChoice.None, cancel)).Identity, hosts[i]);
        }));
        return (api, [.. identities], seconds);
    }

    private static async Task RunEverywhereAsync(ApiClient api, int count)
    {
        var job = await api.PostAsync("jobs", new NewJob("all", new CommandSpec { Line = "hostname" }), WireJson.Default.NewJob, WireJson.Default.JobInfo, default);
        while (job.Runs.Succeeded < count)
        {
            await Task.Delay(10);
            job = (await api.GetAsync("jobs?limit=1", WireJson.Default.PageJobInfo, default)).Items[0];
        }
    }

    /// <summary>As many samples as come in a storm after an outage, until the database has them; and the same rows written bare.</summary>
    private static async Task MeasureIntakeAsync(ApiClient api, List<LightHost> hosts, List<(AgentIdentity Identity, SimulatedHost Host)> identities, string data, Scratch directory)
    {
        var senders = hosts.Take(1000).ToList();
        const int perHost = 40;
        _ = api;
        using var stored = new SqliteConnection($"Data Source={Path.Combine(data, "umbrek.db")};Mode=ReadOnly");
        stored.Open();
        using var counting = stored.CreateCommand();
        counting.CommandText = """SELECT COUNT(*) FROM "Samples" """;
        var before = (long)counting.ExecuteScalar()!;
        var total = senders.Count * perHost;
        var ours = await TimeAsync(async () =>
        {
            for (var i = 1; i <= perHost / SampleBatch.MaxCount; i++)
            {
                var older = DateTimeOffset.UtcNow.AddMinutes(-i);
                await AllAsync(senders, h => h.SendBacklogAsync(older, default));
            }
            while ((long)counting.ExecuteScalar()! - before < total)
            {
                await Task.Delay(20);
            }
        });

        var rows = identities.Take(senders.Count).SelectMany(i => Enumerable.Range(0, perHost).Select(n => (i.Identity.HostId, Sample: SimulatedHealth.At(i.Host, DateTimeOffset.UtcNow.AddSeconds(-n))))).ToList();
        using var bare = new SqliteConnection($"Data Source={Path.Combine(directory.Path, "bare.db")}");
        bare.Open();
        using (var make = bare.CreateCommand())
        {
            make.CommandText = """PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; CREATE TABLE "Samples" ("HostId" BLOB, "At" INTEGER, "P" REAL, "M" REAL, "S" REAL, "L" REAL, "Sample" TEXT, PRIMARY KEY ("HostId","At")); CREATE INDEX i ON "Samples"("At");""";
            make.ExecuteNonQuery();
        }
        var reference = await TimeAsync(() => Task.Run(() =>
        {
            foreach (var batch in rows.Chunk(4000))
            {
                using var transaction = bare.BeginTransaction();
                using var insert = bare.CreateCommand();
                insert.CommandText = """INSERT OR IGNORE INTO "Samples" VALUES ($0,$1,$2,$3,$4,$5,$6)""";
                var parameters = Enumerable.Range(0, 7).Select(n => insert.Parameters.AddWithValue($"${n}", DBNull.Value)).ToList();
                foreach (var (id, s) in batch)
                {
                    object[] values = [id.ToByteArray(true), s.At.ToUnixTimeMilliseconds(), s.ProcessorPercent, s.MemoryUsedPercent, 0.0, s.Load1, JsonSerializer.Serialize(s, WireJson.Default.Sample)];
                    for (var n = 0; n < values.Length; n++)
                    {
                        parameters[n].Value = values[n];
                    }
                    insert.ExecuteNonQuery();
                }
                transaction.Commit();
            }
        }));
        Figures.Line("samples a second, from link to disk", total / ours, total / reference, "/s", "over 0.5x");
    }

    private static async Task<double> IdleAsync<T>(Measured program, List<T> links, Func<T, Task> send)
    {
        // The first half a minute after a storm belongs to the compiler; it is done alike on both sides, and not counted.
        await SpreadAsync(links, send);
        var before = program.ProcessorSeconds();
        var clock = Stopwatch.GetTimestamp();
        await SpreadAsync(links, send);
        return (program.ProcessorSeconds() - before) / Stopwatch.GetElapsedTime(clock).TotalSeconds;
    }

    private static async Task SpreadAsync<T>(List<T> links, Func<T, Task> send)
    {
        var clock = Stopwatch.GetTimestamp();
        // Every link sends once in the time, evenly spread, as jittered agents do.
        for (var tick = 0; tick < IdleSeconds * 10; tick++)
        {
            foreach (var link in links.Skip(links.Count * tick / (IdleSeconds * 10)).Take(links.Count * (tick + 1) / (IdleSeconds * 10) - links.Count * tick / (IdleSeconds * 10)))
            {
                await send(link);
            }
            var due = TimeSpan.FromMilliseconds(100 * (tick + 1)) - Stopwatch.GetElapsedTime(clock);
            if (due > TimeSpan.Zero)
            {
                await Task.Delay(due);
            }
        }
    }

    private static Task AllAsync<T>(IEnumerable<T> items, Func<T, Task> act) =>
        System.Threading.Tasks.Parallel.ForEachAsync(items, new ParallelOptions { MaxDegreeOfParallelism = Parallel }, async (item, _) => await act(item));

    internal static async Task<double> TimeAsync(Func<Task> act)
    {
        var began = Stopwatch.GetTimestamp();
        await act();
        return Stopwatch.GetElapsedTime(began).TotalSeconds;
    }

    public static int FreePort()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }
}

/// <summary>A directory for the time of a measurement.</summary>
internal sealed class Scratch : IDisposable
{
    public string Path { get; } = Directory.CreateTempSubdirectory("umbrek-bench-").FullName;

    public void Dispose() => Directory.Delete(Path, recursive: true);
}
