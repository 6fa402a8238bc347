using System.Diagnostics;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Bench.Links;
using Umbrek.Simulation.Demo;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Links;

namespace Umbrek.Bench.Hosting;

/// <summary>The native programs beside the least that programs of their kind can be; and what a browser loads first.</summary>
internal static class ProgramBench
{
    private const string Password = "tide-lantern-orchard";
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
        using var directory = new Scratch();
        var port = LinkBench.FreePort();
        var address = new Uri($"https://localhost:{port}");
        await using var service = await Measured.StartAsync(ChildProgram.Find("umbrekd"), "ready", "serve", "--data", directory.Path, "--listen", $"127.0.0.1:{port}", "--calls-per-second", "0");
        var pin = ServicePin.Parse(service.Said("key"))!;
        string token;
        using (var anonymous = new ApiClient(address, pin))
        {
            await anonymous.PostAsync("set-up", new SetUpRequest(service.Said("set-up code"), "Ines Okafor", Password), WireJson.Default.SetUpRequest, WireJson.Default.TechnicianInfo, default);
            token = (await anonymous.PostAsync("sign-in", new SignInRequest("Ines Okafor", Password, SignInUse.Token), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default)).Token!;
        }
        using var api = new ApiClient(address, pin, token);
        await api.PostAsync("groups", new NewGroup("Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);

        await MeasureAgentAsync(api, address, bare, directory);
        await MeasureClientAsync(address, pin, token, bare, directory);
        MeasureConsole();
    }

    private static async Task MeasureAgentAsync(ApiClient api, Uri address, string bare, Scratch directory)
    {
        var hubPort = LinkBench.FreePort();
        await using var hub = await Measured.StartAsync(Environment.ProcessPath!, "ready", "bare-hub", $"{hubPort}");
        await using var least = await Measured.StartAsync(bare, "linked", "link", $"http://127.0.0.1:{hubPort}/hub");
        var state = Path.Combine(directory.Path, "agent");
        var enrolment = await DemoWorld.TokenAsync(api, "Saltmarsh Ferry", 1, "bench", default);
        await new Enroller(new StateDirectory(state), new Umbrek.Agent.Platform.Linux.LinuxPlatform()).EnrolAsync(address, enrolment, null, AccessKeyChoice.None, default);
        await using var agent = await Measured.StartAsync(ChildProgram.Find("umbrek-agent"), "linked with", "run", "--state", state);
        var before = agent.ProcessorSeconds();
        var clock = Stopwatch.GetTimestamp();
        await Task.Delay(TimeSpan.FromSeconds(60));
        var processor = (agent.ProcessorSeconds() - before) / Stopwatch.GetElapsedTime(clock).TotalSeconds;
        Figures.Line("agent: program", new FileInfo(ChildProgram.Find("umbrek-agent")).Length / 1e6, new FileInfo(bare).Length / 1e6, "MB", "under 12 MB");
        Figures.Line("agent: resident after a minute", agent.Resident() / 1e6, least.Resident() / 1e6, "MB", "under 20 MB");
        Figures.Alone("agent: idle, of one core", processor * 100, "%", "under 0.2 %");
    }

    private static async Task MeasureClientAsync(Uri address, ServicePin pin, string token, string bare, Scratch directory)
    {
        var home = Path.Combine(directory.Path, "client");
        var client = ChildProgram.Find("umbrek");
        var environment = new Dictionary<string, string> { ["UMBREK_HOME"] = home };
        await RunAsync(client, ["sign-in", $"{address}", "--name", "Ines Okafor", "--password-stdin", "--trust", $"{pin}"], environment, Password + "\n");
        var listing = new List<double>();
        var get = new List<double>();
        var help = new List<double>();
        for (var i = 0; i < Runs; i++)
        {
            listing.Add(await RunAsync(client, ["host", "list", "--output", "json"], environment));
            get.Add(await RunAsync(bare, ["get", $"{address}api/v1/hosts", token], environment));
            help.Add(await RunAsync(client, ["--help"], environment));
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

    private static async Task<double> RunAsync(string program, string[] arguments, Dictionary<string, string> environment, string? input = null)
    {
        var start = new ProcessStartInfo(program, arguments) { RedirectStandardInput = true, RedirectStandardOutput = true, RedirectStandardError = true };
        foreach (var (name, value) in environment)
        {
            start.Environment[name] = value;
        }
        var began = Stopwatch.GetTimestamp();
        using var process = Process.Start(start)!;
        await process.StandardInput.WriteAsync(input ?? "");
        process.StandardInput.Close();
        var output = process.StandardOutput.ReadToEndAsync();
        var errors = process.StandardError.ReadToEndAsync();
        await process.WaitForExitAsync();
        var took = Stopwatch.GetElapsedTime(began).TotalSeconds;
        await output;
        return process.ExitCode == 0 ? took : throw new InvalidOperationException($"{program} {string.Join(' ', arguments)}: {await errors}");
    }
}
