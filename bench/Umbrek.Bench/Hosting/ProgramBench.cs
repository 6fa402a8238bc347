using System.Diagnostics;
using Umbrek.Bench.Links;
using Umbrek.Simulation.Demo;

namespace Umbrek.Bench.Hosting;

/// <summary>The native programs beside the least that programs of their kind can be; and what a browser loads first.</summary>
internal static class ProgramBench
{
    private const int Runs = 21;

    public static async Task RunAsync()
    {
        Console.WriteLine("-- programs");
        var bare = Path.Combine(Path.GetDirectoryName(ChildProgram.Find("umbrek"))!, "..", "lib", "bare", "bare");
        if (!File.Exists(bare))
        {
            Console.Error.WriteLine("The bare program is not built; use make bench.");
            return;
        }
        await using var host = await OneHost.StartAsync();
        await MeasureAgentAsync(host, bare);
        await MeasureClientAsync(host, bare);
        MeasureConsole();
    }

    private static async Task MeasureAgentAsync(OneHost host, string bare)
    {
        var hubPort = LinkBench.FreePort();
        await using var hub = await Measured.StartAsync(Environment.ProcessPath!, "ready", "bare-hub", $"{hubPort}");
        await using var least = await Measured.StartAsync(bare, "linked", "link", $"http://127.0.0.1:{hubPort}/hub");
        var agent = host.Agent;
        var before = agent.ProcessorSeconds();
        var clock = Stopwatch.GetTimestamp();
        await Task.Delay(TimeSpan.FromSeconds(60));
        var processor = (agent.ProcessorSeconds() - before) / Stopwatch.GetElapsedTime(clock).TotalSeconds;
        Figures.Line("agent: program", new FileInfo(ChildProgram.Find("umbrek-agent")).Length / 1e6, new FileInfo(bare).Length / 1e6, "MB", "under 12 MB");
        Figures.Line("agent: resident after a minute", agent.Resident() / 1e6, least.Resident() / 1e6, "MB", "under 20 MB");
        Figures.Alone("agent: idle, of one core", processor * 100, "%", "under 0.2 %");
    }

    private static async Task MeasureClientAsync(OneHost host, string bare)
    {
        var client = ChildProgram.Find("umbrek");
        var environment = await host.SignInClientAsync();
        var listing = new List<double>();
        var get = new List<double>();
        var help = new List<double>();
        for (var i = 0; i < Runs; i++)
        {
            listing.Add(await OneHost.TimeAsync(client, ["host", "list", "--output", "json"], environment));
            get.Add(await OneHost.TimeAsync(bare, ["get", $"{host.Address}api/v1/hosts", host.Token], environment));
            help.Add(await OneHost.TimeAsync(client, ["--help"], environment));
        }
        Figures.Line("client: host list, whole process", Figures.Median(listing) * 1000, Figures.Median(get) * 1000, "ms", "under 1.5x");
        Figures.Alone("client: --help", Figures.Median(help) * 1000, "ms", "under 40 ms");
        Figures.Alone("client: program", new FileInfo(client).Length / 1e6, "MB", "");
    }

    private static void MeasureConsole()
    {
        var files = Path.Combine(Path.GetDirectoryName(ChildProgram.Find("umbrek"))!, "..", "console");
        var page = File.ReadAllText(Path.Combine(files, "index.html"));
        double Packed(string pattern) => System.Text.RegularExpressions.Regex.Matches(page, pattern).Sum(m =>
        {
            using var packed = new MemoryStream();
            using (var brotli = new System.IO.Compression.BrotliStream(packed, System.IO.Compression.CompressionLevel.SmallestSize, leaveOpen: true))
            {
                brotli.Write(File.ReadAllBytes(Path.Combine(files, m.Groups[1].Value.TrimStart('/'))));
            }
            return (double)packed.Length;
        });
        Figures.Alone("console: script of the first load, compressed", Packed("(?:src|modulepreload\" crossorigin href)=\"([^\"]+\\.js)\"") / 1000, "kB", "under 300 kB");
        Figures.Alone("console: style of the first load, compressed", Packed("href=\"([^\"]+\\.css)\"") / 1000, "kB", "");
    }
}
