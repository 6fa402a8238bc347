using System.Diagnostics;
using System.Security.Cryptography;
using Umbrek.Bench.Hosting;
using Umbrek.Bench.Links;
using Umbrek.Simulation.Demo;

namespace Umbrek.Bench.Files;

/// <summary>Files of one host to the client and back, against the same bytes over the same TLS hops by programs that do nothing else.</summary>
public static class FileBench
{
    private const int LargeBytes = 1 << 30;
    private const int Times = 3;

    public static async Task RunAsync()
    {
        Console.WriteLine("-- files of one host");
        using var directory = new Scratch();
        var (there, here) = (Path.Combine(directory.Path, "there"), Path.Combine(directory.Path, "here"));
        Directory.CreateDirectory(Path.Combine(there, "put"));
        Directory.CreateDirectory(here);
        await WriteAsync(Path.Combine(there, "large"), LargeBytes);
        await using var host = await OneHost.StartAsync();
        var environment = await host.SignInClientAsync();
        var client = ChildProgram.Find("umbrek");
        Task<double> FetchAsync(string what) => OneHost.TimeAsync(client, ["fetch", host.Host.SystemName, Path.Combine(there, what), "--to", here], environment);

        await using var relay = await TwoServers.StartAsync(directory, there, host.In("service/tls.crt"), host.In("service/tls.key"));
        var (ours, theirs, hashed) = (new List<double>(), new List<double>(), new List<double>());
        var before = (Service: host.Service.Resident(), Agent: host.Agent.Resident());
        for (var i = 0; i < Times; i++)
        {
            ours.Add(await FetchAsync("large"));
            File.Delete(Path.Combine(here, "large"));
            theirs.Add(await OneHost.TimeAsync("curl", ["-fsSk", "-o", Path.Combine(here, "large"), relay.Address("large")], environment));
            File.Delete(Path.Combine(here, "large"));
            // Nothing takes the place of the hashes: the same, with both ends hashed by a program that does nothing else.
            hashed.Add(await OneHost.TimeAsync("bash", ["-c", $"set -eo pipefail; sha256sum {Path.Combine(there, "large")} >/dev/null & curl -fsSk {relay.Address("large")} | tee {Path.Combine(here, "large")} | sha256sum >/dev/null; wait"], environment));
            File.Delete(Path.Combine(here, "large"));
        }
        Figures.Line("a file of 1 GiB", Figures.Median(ours), Figures.Median(theirs), "s", "1.25");
        Figures.Line("  the same, the reference hashed on both sides as ours is", Figures.Median(ours), Figures.Median(hashed), "s", "1.25");
        Figures.Alone("  service: more resident after it", (host.Service.Resident() - before.Service) / 1e6, "MB", "under 64 MB");
        Figures.Alone("  agent: more resident after it", (host.Agent.Resident() - before.Agent) / 1e6, "MB", "under 64 MB");
        Figures.Alone("  SHA-256 of 1 GiB, once", Hash(Path.Combine(there, "large")), "s", "");

        await SendAsync(host, there, here, relay, environment);
    }

    /// <summary>The same bytes the other way.</summary>
    private static async Task SendAsync(OneHost host, string there, string here, TwoServers relay, Dictionary<string, string> environment)
    {
        // Sent from where it was fetched from: what is read is in memory for both.
        Task<double> SendOneAsync(string what) => OneHost.TimeAsync(ChildProgram.Find("umbrek"), ["send", host.Host.SystemName, Path.Combine(there, what), "--to", here], environment);
        var (ours, theirs) = (new List<double>(), new List<double>());
        var before = (Service: host.Service.Resident(), Agent: host.Agent.Resident());
        for (var i = 0; i < Times; i++)
        {
            ours.Add(await SendOneAsync("large"));
            File.Delete(Path.Combine(here, "large"));
            theirs.Add(await OneHost.TimeAsync("curl", ["-fsSk", "-T", Path.Combine(there, "large"), relay.Address("put/large")], environment));
            File.Delete(Path.Combine(there, "put", "large"));
        }
        Figures.Line("a file of 1 GiB, sent", Figures.Median(ours), Figures.Median(theirs), "s", "1.25");
        Figures.Alone("  service: more resident after it", (host.Service.Resident() - before.Service) / 1e6, "MB", "under 64 MB");
        Figures.Alone("  agent: more resident after it", (host.Agent.Resident() - before.Agent) / 1e6, "MB", "under 64 MB");
    }

    internal static async Task WriteAsync(string file, long bytes)
    {
        await using var target = File.Create(file);
        var block = new byte[1 << 20];
        for (; bytes > 0; bytes -= block.Length)
        {
            RandomNumberGenerator.Fill(block);
            await target.WriteAsync(block);
        }
    }

    /// <summary>What both ends do beside moving it.</summary>
    private static double Hash(string file)
    {
        var began = Stopwatch.GetTimestamp();
        using var stream = File.OpenRead(file);
        SHA256.HashData(stream);
        return Stopwatch.GetElapsedTime(began).TotalSeconds;
    }

    /// <summary>A server of files, and another one through which it is reached: both over TLS.</summary>
    private sealed class TwoServers(Process nginx, int port) : IAsyncDisposable
    {
        public static async Task<TwoServers> StartAsync(Scratch directory, string root, string certificate, string key)
        {
            var (port, behind) = (LinkBench.FreePort(), LinkBench.FreePort());
            var configuration = Path.Combine(directory.Path, "nginx.conf");
            await File.WriteAllTextAsync(configuration, $$"""
                daemon off; pid {{directory.Path}}/nginx.pid; error_log {{directory.Path}}/nginx.log; worker_processes 2; user root;
                events {}
                http { access_log off; sendfile on; client_max_body_size 0; ssl_certificate {{certificate}}; ssl_certificate_key {{key}};
                  server { listen 127.0.0.1:{{behind}} ssl; root {{root}}; location /put/ { dav_methods PUT; client_body_temp_path {{root}}/put; } }
                  server { listen 127.0.0.1:{{port}} ssl; location / { proxy_pass https://127.0.0.1:{{behind}}; proxy_max_temp_file_size 0; proxy_request_buffering off; } } }
                """);
            var nginx = Process.Start(new ProcessStartInfo("/usr/sbin/nginx", ["-c", configuration]))!;
            while (!File.Exists(Path.Combine(directory.Path, "nginx.pid")))
            {
                await Task.Delay(20);
            }
            return new TwoServers(nginx, port);
        }

        public string Address(string name) => $"https://localhost:{port}/{name}";

        public async ValueTask DisposeAsync()
        {
            nginx.Kill(entireProcessTree: true);
            await nginx.WaitForExitAsync();
            nginx.Dispose();
        }
    }
}
