using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Bench.Hosting;
using Umbrek.Bench.Links;
using Umbrek.Core.Estate;
using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;
using Umbrek.Simulation.Demo;
using Umbrek.Wire;
using Umbrek.Wire.Files;

namespace Umbrek.Bench.Files;

/// <summary>Folders of two hosts are brought in step: a large file that changed little, and many small ones.</summary>
public static class TwinBench
{
    private const int Bytes = 1 << 30;
    private const int Changed = 1 << 20;
    private const int Small = 20_000;

    public static async Task RunAsync()
    {
        Console.WriteLine("-- folders of two hosts in step");
        using var directory = new Scratch();
        var (one, two) = (Path.Combine(directory.Path, "one"), Path.Combine(directory.Path, "two"));
        Directory.CreateDirectory(one);
        await using var first = await OneHost.StartAsync();
        var enrolment = await DemoWorld.TokenAsync(first.Api, "Saltmarsh Ferry", 1, "second", default);
        await new Enroller(new StateDirectory(first.In("second")), new LinuxPlatform()).EnrolAsync(first.Address, enrolment, "desk-2", AccessKeyChoice.None, default);
        await using var agent = await Measured.StartAsync(ChildProgram.Find("umbrek-agent"), "linked with", "run", "--state", first.In("second"));
        List<Wire.Estate.HostSummary> hosts;
        do
        {
            await Task.Delay(100);
            hosts = [.. (await first.Api.GetAsync("hosts", WireJson.Default.PageHostSummary, default)).Items.Where(h => h.Presence.State == PresenceState.Linked)];
        }
        while (hosts.Count < 2);
        var other = hosts.Single(h => h.Label == "desk-2");
        var twin = await first.Api.PostAsync(
            "twins", new NewTwin("bench", new TwinPlace(hosts.Single(h => h.Id != other.Id).Id, new FileName(one)), new TwinPlace(other.Id, new FileName(two)), new TwinRules(TwinWay.OneWay, Deletes: true)), WireJson.Default.NewTwin, WireJson.Default.TwinInfo, default);
        var (service, resident) = (first.Service.Resident(), agent.Resident());

        var file = Path.Combine(one, "large");
        await FileBench.WriteAsync(file, Bytes);
        var (whole, wholeTook) = await TurnAsync(first, twin);
        await using (var stream = File.OpenWrite(file))
        {
            var bytes = new byte[Changed];
            new Random(1).NextBytes(bytes);
            stream.Position = Bytes / 3;
            await stream.WriteAsync(bytes);
        }
        var (delta, deltaTook) = await TurnAsync(first, twin);
        Figures.Line("a changed MiB in 1 GiB, bytes on the lines", delta.BytesMoved / 1e6, whole.Bytes / 1e6, "MB", "at most 0.02");
        Figures.Line("  the same, time against the whole file", deltaTook, wholeTook, "s", "");
        var copy = await OneHost.TimeAsync("sh", ["-c", "cp \"$0\" \"$0.copy\" && sync \"$0.copy\" && rm \"$0.copy\"", file], []);
        Figures.Line("  the whole file, against a copy here", wholeTook, copy, "s", "");
        File.Delete(file);

        for (var i = 0; i < Small; i++)
        {
            var folder = Path.Combine(one, $"{i / 500}");
            Directory.CreateDirectory(folder);
            var bytes = new byte[4096];
            new Random(i).NextBytes(bytes);
            await File.WriteAllBytesAsync(Path.Combine(folder, $"{i}"), bytes);
        }
        var (_, smallTook) = await TurnAsync(first, twin);
        var tar = await OneHost.TimeAsync("sh", ["-c", "mkdir \"$1\" && tar cC \"$0\" . | tar xC \"$1\"", one, Path.Combine(directory.Path, "three")], []);
        Figures.Line($"{Small:N0} files of 4 kB, against tar here", smallTook, tar, "s", "");
        var (same, sameTook) = await TurnAsync(first, twin);
        Figures.Alone($"  {same.Same:N0} things that are in step, looked at", sameTook, "s", "");
        Figures.Alone("  service: more resident after it", (first.Service.Resident() - service) / 1e6, "MB", "under 64 MB");
        Figures.Alone("  agent that wrote: more resident after it", (agent.Resident() - resident) / 1e6, "MB", "under 64 MB");
    }

    private static async Task<(TurnInfo Turn, double Seconds)> TurnAsync(OneHost first, TwinInfo twin)
    {
        var watch = System.Diagnostics.Stopwatch.StartNew();
        await first.Api.PostAsync($"twins/{twin.Id}/turns", new NewTurn(), WireJson.Default.NewTurn, WireJson.Default.TwinInfo, default);
        while (true)
        {
            await Task.Delay(50);
            var turn = (await first.Api.GetAsync($"twins/{twin.Id}", WireJson.Default.TwinInfo, default)).Turn!;
            if (turn.EndedAt is not null)
            {
                return turn is { State: TurnState.Done, Problems: 0 } ? (turn, watch.Elapsed.TotalSeconds) : throw new InvalidOperationException($"A turn ended as {turn.State}: {turn.Reason}");
            }
        }
    }
}
