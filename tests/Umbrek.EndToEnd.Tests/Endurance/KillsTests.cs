using System.Globalization;
using System.Security.Cryptography;
using Umbrek.Core.Jobs;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;

namespace Umbrek.EndToEnd.Tests.Endurance;

/// <summary>
/// Programs are killed again and again at moments that a seed decides. <c>make endure</c> runs these; the seed is printed at the
/// beginning of each, and <c>make endure ARGS="--seed N"</c> does the same again.
/// </summary>
[Trait("Length", "Long")]
public sealed class KillsTests(ITestOutputHelper output)
{
    private static readonly string[] Hosts = ["plover-log-01", "dunlin-log-01", "quay-counter-01"];

    private Random Begin()
    {
        var seed = int.TryParse(Environment.GetEnvironmentVariable("UMBREK_SEED"), NumberStyles.None, CultureInfo.InvariantCulture, out var given) ? given : Random.Shared.Next();
        output.WriteLine($"seed {seed}; the same again: make endure ARGS=\"--seed {seed}\"");
        return new Random(seed);
    }

    [Fact(Explicit = true)]
    public async Task Every_run_is_executed_once_whatever_is_killed_while_jobs_come_in()
    {
        const int rounds = 30;
        var random = Begin();
        await using var world = await World.StartAsync(ownProcess: true);
        var agents = new Dictionary<string, TestPrograms>();
        foreach (var host in Hosts)
        {
            agents[host] = await world.JoinAsync(host);
        }
        var jobs = new List<(Guid Id, string Marker)>();
        for (var round = 0; round < rounds; round++)
        {
            var marker = world.In($"executed-{round}");
            // What each prints is more than one piece of output, so that a kill may come between two of them.
            var job = await world.MakeJobAsync("all", $"echo x >> {marker}; seq 1 {random.Next(1, 40_000)}; sleep 0.{random.Next(0, 9)}; echo end");
            jobs.Add((job.Id, marker));
            var lines = random.Next(0, 4);
            await Wait.UntilAsync(() => lines == 0 || File.Exists(marker) && File.ReadAllLines(marker).Length >= Math.Min(lines, Hosts.Length), "as many to have begun as the seed says");
            if (random.Next(3) == 0)
            {
                await world.Service.KillAsync();
                await world.StartServiceAsync();
            }
            else
            {
                var host = Hosts[random.Next(Hosts.Length)];
                await agents[host].KillAsync();
                agents[host] = world.StartAgent(host);
            }
        }
        foreach (var (id, marker) in jobs)
        {
            var runs = (await world.EndedAsync(id)).Runs;
            runs.Select(r => r.State).ShouldAllBe(s => s == RunState.Succeeded || s == RunState.Interrupted);
            File.ReadAllLines(marker).Length.ShouldBe(Hosts.Length, $"each host executes {id} once");
            foreach (var run in runs.Where(r => r.State == RunState.Succeeded))
            {
                (await world.OutputAsync(run.Id)).ShouldEndWith("\nend\n");
            }
        }
        var ended = jobs.Count * Hosts.Length;
        output.WriteLine($"{rounds} kills, {ended} runs, each executed once");
    }

    [Fact(Explicit = true)]
    public async Task Files_arrive_whole_over_lines_that_are_cut_at_any_place()
    {
        const int files = 12;
        var random = Begin();
        await using var world = await World.StartAsync();
        await world.JoinAsync(Hosts[0]);
        await world.SignInClientAsync();
        Directory.CreateDirectory(world.In("there"));
        for (var i = 0; i < files; i++)
        {
            var bytes = RandomNumberGenerator.GetBytes(random.Next(1, 8_000_000));
            var file = world.In($"file-{i}");
            await File.WriteAllBytesAsync(file, bytes);
            var cuts = random.Next(5, 60);
            await using var proxy = new CuttingProxy(world.Address.Port, () => cuts-- > 0 ? random.Next(500, 300_000) : long.MaxValue, countsThere: true);
            var home = world.HomeThrough(proxy);
            var (status, _, stderr) = await TestPrograms.RunAsync("umbrek", ["send", Hosts[0], file, "--to", world.In("there")], null, home, seconds: 120);
            status.ShouldBe(0, stderr);
            (await File.ReadAllBytesAsync(Path.Combine(world.In("there"), $"file-{i}"))).AsSpan().SequenceEqual(bytes).ShouldBeTrue($"file {i}, {bytes.Length} bytes");
        }
        Directory.GetFileSystemEntries(world.In("there")).Length.ShouldBe(files);
        output.WriteLine($"{files} files arrived whole");
    }
}
