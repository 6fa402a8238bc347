using System.Diagnostics;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using Umbrek.Bench.Estate;
using Umbrek.Bench.Hosting;
using Umbrek.Bench.Links;
using Umbrek.Core.Access;
using Umbrek.Core.Audit;
using Umbrek.Service.Audit;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Simulation.Demo;
using Umbrek.Simulation.Estate;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Bench.Access;

/// <summary>What deciding who may do what costs, what the chain of the audit log costs, and what signing in costs.</summary>
internal static class AccessBench
{
    private const int Hosts = 30_000;
    private const int Lines = 2000;
    private const int Times = 15;

    public static async Task RunAsync()
    {
        Console.WriteLine("-- access");
        Decisions();
        await AppendAsync();
        await using var estate = await KnownEstate.StartAsync(Hosts);
        await ListingAsync(estate);
        await SignInAsync(estate);
    }

    /// <summary>One permission at the group of each of many hosts, beside one look into a dictionary for each.</summary>
    private static void Decisions()
    {
        var now = DateTimeOffset.UtcNow;
        var paths = Scenario.Hosts(Hosts).Select(h => new string(h.GroupPath)).ToArray();
        HeldGrant[] held = [.. Scenario.Groups.Where(g => g.Contains('/')).Select((g, i) => new HeldGrant(Guid.NewGuid(), i % 2 == 0 ? Role.Technician : Role.Viewer, g, now.AddDays(i), null))];
        var known = paths.Distinct().ToDictionary(p => p, p => p.Length, StringComparer.Ordinal);
        var reach = new Reach(held, now);
        var allowed = 0;
        double Each(Func<string, bool> ask) => Figures.Median(Enumerable.Range(0, Times).Select(_ =>
        {
            var began = Stopwatch.GetTimestamp();
            foreach (var path in paths)
            {
                allowed += ask(path) ? 1 : 0;
            }
            return Stopwatch.GetElapsedTime(began).TotalNanoseconds / paths.Length;
        }).ToList());
        Figures.Line($"a decision, {held.Length} grants", Each(p => reach.May(Permission.Run, p)), Each(p => known[p] > 0), "ns", "under 1000 ns");
        Figures.Alone("  the same with its reason", Each(p => AccessRules.Decide(Permission.Run, p, held, now).Allowed), "ns", "");
        if (allowed == 0)
        {
            throw new InvalidOperationException("Nothing was allowed anywhere.");
        }
    }

    /// <summary>Lines of the audit log, each in a transaction of its own as every change is, beside the same rows without the chain.</summary>
    private static async Task AppendAsync()
    {
        using var directory = new Scratch();
        async Task<double> WriteAsync(string name, Func<IDatabase, AuditLog, int, Task> write)
        {
            var database = new SqliteDatabase(Path.Combine(directory.Path, name));
            await using (var db = database.Open())
            {
                await db.Database.MigrateAsync();
            }
            var log = new AuditLog(database, TimeProvider.System);
            var began = Stopwatch.GetTimestamp();
            for (var i = 0; i < Lines; i++)
            {
                await write(database, log, i);
            }
            return Lines / Stopwatch.GetElapsedTime(began).TotalSeconds;
        }
        var by = new Caller("Ines Okafor", "192.0.2.7");
        var plain = await WriteAsync("plain.db", async (database, log, i) =>
        {
            var line = log.Line(by, "host.change", $"quay-ticket-{i}", ("label", "Ticket desk, left"));
            await using var db = database.Open();
            await using var transaction = await db.Database.BeginTransactionAsync();
            db.Audit.Add(new AuditRow { Number = i + 1, At = line.At, Actor = by.Name, Address = by.Address, Action = line.Action, Target = line.Target, Detail = line.Detail, Hash = AuditChain.Start });
            await db.SaveChangesAsync();
            await transaction.CommitAsync();
        });
        var chained = await WriteAsync("chained.db", (_, log, i) => log.AddAsync(by, "host.change", $"quay-ticket-{i}", default, ("label", "Ticket desk, left")));
        Figures.Line("audit lines a second", chained, plain, "/s", "at least 0.50");
    }

    /// <summary>The same page for a lead, for whom nothing is sifted, and for somebody with a grant on each group.</summary>
    private static async Task ListingAsync(KnownEstate estate)
    {
        using var tomasz = await JoinAsync(estate, "Tomasz Vail");
        foreach (var group in Scenario.Groups.Where(g => g.Contains('/')))
        {
            await estate.Api.PostAsync("grants", new NewGrant("Tomasz Vail", null, "technician", group), WireJson.Default.NewGrant, WireJson.Default.GrantInfo, default);
        }
        var (lead, his) = (new List<double>(), new List<double>());
        var seen = 0;
        for (var i = 0; i < 2 * Times; i++)
        {
            // By turns, so that whatever else the machine does touches both alike.
            foreach (var (api, times) in new[] { (estate.Api, lead), (tomasz, his) })
            {
                var began = Stopwatch.GetTimestamp();
                seen = (await api.GetAsync("hosts?limit=50", WireJson.Default.PageHostSummary, default)).Total;
                times.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
            }
        }
        Figures.Line($"listing sifted for a technician ({seen})", Figures.Median(his), Figures.Median(lead), "ms", "under 10 ms more");
    }

    private static async Task SignInAsync(KnownEstate estate)
    {
        var hasher = new PasswordHasher<Technician>(Microsoft.Extensions.Options.Options.Create(new PasswordHasherOptions { IterationCount = new ServiceOptions { DataDirectory = "" }.PasswordIterations }));
        var hash = hasher.HashPassword(new Technician(), KnownEstate.Password);
        var (ours, bare) = (new List<double>(), new List<double>());
        using var anonymous = new ApiClient(estate.Address, estate.Pin);
        for (var i = 0; i < Times; i++)
        {
            var began = Stopwatch.GetTimestamp();
            await anonymous.PostAsync("sign-in", new SignInRequest(KnownEstate.Name, KnownEstate.Password, SignInUse.Token), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default);
            ours.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
            began = Stopwatch.GetTimestamp();
            hasher.VerifyHashedPassword(new Technician(), hash, KnownEstate.Password);
            bare.Add(Stopwatch.GetElapsedTime(began).TotalMilliseconds);
        }
        Figures.Line("sign-in beside the hash of its password", Figures.Median(ours), Figures.Median(bare), "ms", "the hash's, and little else");
    }

    private static async Task<ApiClient> JoinAsync(KnownEstate estate, string name)
    {
        await estate.Api.PostAsync("technicians", new NewTechnician(name, KnownEstate.Password), WireJson.Default.NewTechnician, WireJson.Default.TechnicianInfo, default);
        using var anonymous = new ApiClient(estate.Address, estate.Pin);
        var answer = await anonymous.PostAsync("sign-in", new SignInRequest(name, KnownEstate.Password, SignInUse.Token), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default);
        return new ApiClient(estate.Address, estate.Pin, answer.Token);
    }
}
