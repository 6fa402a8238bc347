using System.Diagnostics;
using System.Globalization;
using Microsoft.Data.Sqlite;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Bench.Hosting;
using Umbrek.Bench.Links;
using Umbrek.Simulation.Demo;
using Umbrek.Simulation.Estate;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Links;

namespace Umbrek.Bench.Enrolment;

/// <summary>Joining: a thousand hosts at once, the agent's download, and one host from the command to its link.</summary>
internal static class EnrolmentBench
{
    private const int Hosts = 1000;
    private const string Password = "tide-lantern-orchard";

    public static async Task RunAsync()
    {
        Console.WriteLine("-- joining");
        using var directory = new Scratch();
        var port = LinkBench.FreePort();
        var address = new Uri($"https://localhost:{port}");
        await using var service = await Measured.StartAsync(ChildProgram.Find("umbrekd"), "ready", "serve", "--data", Path.Combine(directory.Path, "service"), "--listen", $"127.0.0.1:{port}", "--calls-per-second", "0");
        var pin = ServicePin.Parse(service.Said("key"))!;
        string token;
        using (var anonymous = new ApiClient(address, pin))
        {
            await anonymous.PostAsync("set-up", new SetUpRequest(service.Said("set-up code"), "Ines Okafor", Password), WireJson.Default.SetUpRequest, WireJson.Default.TechnicianInfo, default);
            token = (await anonymous.PostAsync("sign-in", new SignInRequest("Ines Okafor", Password, SignInUse.Token), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default)).Token!;
        }
        using var api = new ApiClient(address, pin, token);
        await api.PostAsync("groups", new NewGroup("Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        var installer = await api.PostAsync("installers", new NewInstaller("Saltmarsh Ferry"), WireJson.Default.NewInstaller, WireJson.Default.InstallerDetail, default);

        await MeasureManyAsync(api, address, pin, installer.Token, directory);
        await MeasureDownloadAsync(address, installer, directory);
        await MeasureOneAsync(installer, directory);
    }

    private static async Task MeasureManyAsync(ApiClient api, Uri address, ServicePin pin, string token, Scratch directory)
    {
        await HandshakeAsync(address, pin, 50);
        var reference = await LinkBench.TimeAsync(() => HandshakeAsync(address, pin, Hosts)) + InsertAlone(Path.Combine(directory.Path, "reference.db"));
        var hosts = Scenario.Hosts(Hosts);
        var states = Path.Combine(directory.Path, "hosts");
        var seconds = await LinkBench.TimeAsync(() => Task.WhenAll(hosts.Select(async host =>
        {
            var state = new StateDirectory(Path.Combine(states, host.Name));
            await new Enroller(state, new SimulatedPlatform(host, TimeProvider.System)).EnrolAsync(address, token, null, AccessKeyChoice.None, default);
        })));
        var joined = await api.GetAsync("hosts?limit=1000", WireJson.Default.PageHostSummary, default);
        if (joined.Total != Hosts || joined.Items.Select(h => h.SystemName).Distinct().Count() != Hosts)
        {
            throw new InvalidOperationException($"{Hosts} hosts joined and {joined.Total} are known.");
        }
        Figures.Line($"{Hosts} hosts join at once (none lost or doubled)", seconds, reference, "s", "handshakes + inserts");
    }

    /// <summary>As many TLS connections, each with the smallest request.</summary>
    private static Task HandshakeAsync(Uri address, ServicePin pin, int count) => Task.WhenAll(Enumerable.Range(0, count).Select(async _ =>
    {
        using var http = new HttpClient(ApiClient.Handler(new ServicePin(pin.Sha256))) { BaseAddress = address, Timeout = TimeSpan.FromMinutes(2) };
        (await http.GetAsync("health/live")).EnsureSuccessStatusCode();
    }));

    /// <summary>As many rows, each in a transaction of its own, under the service's settings.</summary>
    private static double InsertAlone(string file)
    {
        using var database = new SqliteConnection($"Data Source={file}");
        database.Open();
        using var command = database.CreateCommand();
        command.CommandText = "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; CREATE TABLE Hosts (Id BLOB PRIMARY KEY, Name TEXT, Key BLOB)";
        command.ExecuteNonQuery();
        command.CommandText = "INSERT INTO Hosts VALUES ($id, 'quay-ticket-01', $key)";
        var id = command.Parameters.Add("$id", SqliteType.Blob);
        command.Parameters.AddWithValue("$key", new byte[91]);
        var began = Stopwatch.GetTimestamp();
        for (var i = 0; i < Hosts; i++)
        {
            id.Value = Guid.CreateVersion7().ToByteArray(true);
            command.ExecuteNonQuery();
        }
        return Stopwatch.GetElapsedTime(began).TotalSeconds;
    }

    /// <summary>The agent over TLS from the service, and the same file over TLS from nginx, by the same client.</summary>
    private static async Task MeasureDownloadAsync(Uri address, InstallerDetail installer, Scratch directory)
    {
        var secret = installer.Link.Split('/')[^1];
        var agent = ChildProgram.Find("umbrek-agent");
        var port = LinkBench.FreePort();
        var root = Path.Combine(directory.Path, "static");
        Directory.CreateDirectory(root);
        File.Copy(agent, Path.Combine(root, "agent"));
        var configuration = Path.Combine(directory.Path, "nginx.conf");
        await File.WriteAllTextAsync(configuration, $$"""
            daemon off; pid {{directory.Path}}/nginx.pid; error_log {{directory.Path}}/nginx.log; worker_processes 2; user root;
            events {}
            http { access_log off; sendfile on; server { listen 127.0.0.1:{{port}} ssl; root {{root}};
              ssl_certificate {{directory.Path}}/service/tls.crt; ssl_certificate_key {{directory.Path}}/service/tls.key; } }
            """);
        using var nginx = Process.Start(new ProcessStartInfo("/usr/sbin/nginx", ["-c", configuration]))!;
        try
        {
            while (!File.Exists(Path.Combine(directory.Path, "nginx.pid")))
            {
                await Task.Delay(20);
            }
            var (here, there) = ($"{address}get/{secret}/agent", $"https://localhost:{port}/agent");
            async Task CompareAsync(string what, Func<string, Task<double>> speed)
            {
                var (ours, theirs) = (new List<double>(), new List<double>());
                for (var round = 0; round < 7; round++)
                {
                    theirs.Add(await speed(there));
                    ours.Add(await speed(here));
                }
                Figures.Line(what, Figures.Median(ours) / 1e6, Figures.Median(theirs) / 1e6, "MB/s", "like a static server");
            }
            await CompareAsync("the agent's download, the first seven", SpeedAsync);
            for (var more = 0; more < 60; more++)
            {
                await SpeedAsync(here);
            }
            await CompareAsync("… after sixty others", SpeedAsync);
            await CompareAsync("… eight at once, all together", async from =>
            {
                var began = Stopwatch.GetTimestamp();
                await Task.WhenAll(Enumerable.Range(0, 8).Select(_ => SpeedAsync(from)));
                return 8 * new FileInfo(agent).Length / Stopwatch.GetElapsedTime(began).TotalSeconds;
            });
        }
        finally
        {
            nginx.Kill(entireProcessTree: true);
            await nginx.WaitForExitAsync();
        }
    }

    /// <summary>As the installer's script fetches it.</summary>
    private static async Task<double> SpeedAsync(string from)
    {
        using var curl = Process.Start(new ProcessStartInfo("curl", ["-fsSk", "--http1.1", "-o", "/dev/null", "-w", "%{speed_download}", from]) { RedirectStandardOutput = true })!;
        var speed = await curl.StandardOutput.ReadToEndAsync();
        await curl.WaitForExitAsync();
        return double.Parse(speed, CultureInfo.InvariantCulture);
    }

    /// <summary>The silent command in fresh namespaces, until it says that the host is linked.</summary>
    private static async Task MeasureOneAsync(InstallerDetail installer, Scratch directory)
    {
        var times = new List<double>();
        for (var round = 0; round < 5; round++)
        {
            var place = Path.Combine(directory.Path, $"fresh-{round}");
            var overlays = string.Join(" && ", new[] { "/etc", "/opt", "/usr", "/var" }.Select(d => $"mkdir -p {place}{d}/u {place}{d}/w && mount -t overlay overlay -o lowerdir={d},upperdir={place}{d}/u,workdir={place}{d}/w {d}"));
            var script = $"mount --make-rprivate / && {overlays} && hostname fresh-{round} && echo {Guid.NewGuid():N} >/etc/machine-id && date +%s.%N && {ChildProgram.Find("umbrek-agent")} {installer.SilentCommand["umbrek-agent ".Length..]} && date +%s.%N";
            using var process = Process.Start(new ProcessStartInfo("unshare", ["--mount", "--uts", "--pid", "--fork", "--kill-child", "--mount-proc", "/bin/sh", "-c", script]) { RedirectStandardOutput = true })!;
            var lines = (await process.StandardOutput.ReadToEndAsync()).Split('\n', StringSplitOptions.RemoveEmptyEntries);
            await process.WaitForExitAsync();
            if (lines.Length != 3 || !lines[1].Contains("and linked", StringComparison.Ordinal))
            {
                throw new InvalidOperationException($"The installation failed: {string.Join(' ', lines)}");
            }
            times.Add(double.Parse(lines[2], CultureInfo.InvariantCulture) - double.Parse(lines[0], CultureInfo.InvariantCulture));
        }
        Figures.Alone("from the command to the link, a fresh host", Figures.Median(times), "s", "under 2 s");
    }
}
