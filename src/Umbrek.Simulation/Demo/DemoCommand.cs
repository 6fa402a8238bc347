using System.CommandLine;
using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Runtime.InteropServices;
using Umbrek.Simulation.Estate;

namespace Umbrek.Simulation.Demo;

/// <summary><c>umbrek-sim demo</c>: the whole product with the demo world, by one command.</summary>
public static class DemoCommand
{
    private const int DefaultPort = 8443;
    private const int DefaultHosts = 60;
    private const int MostHosts = 30_000;

    public static Command Build()
    {
        var data = new Option<string?>("--data") { Description = "Directory for the demo's data; ./demo-data when left out, a temporary one with --check." };
        var port = new Option<int?>("--port") { Description = $"Port on this machine; {DefaultPort} when left out, a free one with --check." };
        var hosts = new Option<int>("--hosts") { Description = "How many simulated hosts.", DefaultValueFactory = _ => DefaultHosts };
        var check = new Option<bool>("--check") { Description = "Start, enrol this machine, list and run through the client, say what happened, and end." };
        var noWait = new Option<bool>("--no-wait") { Description = "Return when it is ready and leave it running." };
        var command = new Command("demo", "Starts the service with the demo world and stays until Ctrl-C.") { data, port, hosts, check, noWait };
        command.SetAction(async (parsed, cancel) =>
        {
            var many = parsed.GetValue(hosts);
            if (many is < 1 or > MostHosts)
            {
                await Console.Error.WriteLineAsync($"--hosts is 1 to {MostHosts}.").ConfigureAwait(false);
                return 2;
            }
            var checking = parsed.GetValue(check);
            var temporary = checking && parsed.GetValue(data) is null;
            var directory = temporary ? Directory.CreateTempSubdirectory("umbrek-check-").FullName : Path.GetFullPath(parsed.GetValue(data) ?? "demo-data");
            var onPort = parsed.GetValue(port) ?? (checking ? FreePort() : DefaultPort);
            if (parsed.GetValue(noWait))
            {
                return await LeaveRunningAsync(directory, onPort, many, cancel).ConfigureAwait(false);
            }
            try
            {
                return await RunAsync(directory, onPort, many, checking, cancel).ConfigureAwait(false);
            }
            catch (Exception e) when (e is InvalidOperationException or SocketException or FileNotFoundException or IOException or Wire.Api.ApiException or Wire.Api.UnreachableException or Umbrek.Agent.Enrolment.EnrolmentException or TimeoutException)
            {
                await Console.Error.WriteLineAsync($"The demo can't start: {e.Message}").ConfigureAwait(false);
                return 1;
            }
            finally
            {
                if (temporary)
                {
                    Directory.Delete(directory, recursive: true);
                }
            }
        });
        return command;
    }

    private static async Task<int> RunAsync(string directory, int port, int hosts, bool check, CancellationToken cancel)
    {
        using var stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        using var term = PosixSignalRegistration.Create(PosixSignal.SIGTERM, c => { c.Cancel = true; stop.Cancel(); });
        using var interrupt = PosixSignalRegistration.Create(PosixSignal.SIGINT, c => { c.Cancel = true; stop.Cancel(); });
        var began = Stopwatch.GetTimestamp();
        Console.WriteLine($"starting the service and {hosts} simulated hosts …");
        await using var receivers = DemoReceivers.Open(directory);
        var world = new DemoWorld(directory, port, hosts, receivers, Console.Out);
        await using var service = await world.PrepareAsync(stop.Token).ConfigureAwait(false);
        var agents = world.RunAgentsAsync(stop.Token);
        try
        {
            if (check)
            {
                return await DemoCheck.RunAsync(world, directory, stop.Token).ConfigureAwait(false);
            }
            using var api = await world.SignInAsync(stop.Token).ConfigureAwait(false);
            await using var own = await world.StartOwnAgentAsync(api, stop.Token).ConfigureAwait(false);
            Welcome(world, directory, Stopwatch.GetElapsedTime(began));
            await File.WriteAllTextAsync(Path.Combine(directory, "demo.pid"), $"{Environment.ProcessId}\n", stop.Token).ConfigureAwait(false);
            await new DemoSessions(world).WorkAsync(stop.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            await Task.Delay(Timeout.Infinite, stop.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            Console.WriteLine("stopping …");
            return 0;
        }
        finally
        {
            await stop.CancelAsync().ConfigureAwait(false);
            await agents.ConfigureAwait(false);
            File.Delete(Path.Combine(directory, "demo.pid"));
        }
    }

    private static void Welcome(DemoWorld world, string directory, TimeSpan took)
    {
        var lead = world.Accounts[0];
        Console.WriteLine($"""
            {world.Hosts.Count} simulated hosts and this machine, after {took.TotalSeconds:0.0} s. The data is in {directory}

            Console   open {world.Address} in a browser; its certificate is self-made, so the browser asks once
                      name {lead.Name}   password {lead.Password}
            Client    export UMBREK_HOME={Path.Combine(directory, "client")}
                      echo {lead.Password} | {ChildProgram.Find("umbrek")} sign-in {world.Address} --name '{lead.Name}' --password-stdin --trust {world.Pin}
                      {ChildProgram.Find("umbrek")} run --on 'in "{Scenario.Hosts(1)[0].GroupPath}"' -- uptime
            Mail      ends in {Path.Combine(directory, DemoReceivers.MailDirectory)}, what the web hook gets in {Path.Combine(directory, DemoReceivers.EventFile)}
            Others    {string.Join(", ", world.Accounts.Skip(1).Select(a => a.Name))}: see {Path.Combine(directory, "demo-accounts.json")}

            ready {world.Address.GetLeftPart(UriPartial.Authority)}
            Ctrl-C ends the demo; its data stays.
            """);
    }

    /// <summary>In the log when the demo has ended, of whatever.</summary>
    private const string Over = "The demo has ended.";

    /// <summary>Starts the same demo in a session of its own, shows what it says until it is ready, and returns.</summary>
    private static async Task<int> LeaveRunningAsync(string directory, int port, int hosts, CancellationToken cancel)
    {
        Directory.CreateDirectory(directory);
        var log = Path.Combine(directory, "demo.log");
        await File.WriteAllTextAsync(log, "", cancel).ConfigureAwait(false);
        var self = ChildProgram.Find("umbrek-sim");
        var start = new ProcessStartInfo("setsid", ["--fork", "sh", "-c", $"exec >\"$4\" 2>&1 </dev/null; \"$0\" demo --data \"$1\" --port \"$2\" --hosts \"$3\"; echo \"{Over}\"", self, directory, $"{port}", $"{hosts}", log]);
        using (var launcher = Process.Start(start)!)
        {
            await launcher.WaitForExitAsync(cancel).ConfigureAwait(false);
        }
        var began = Stopwatch.GetTimestamp();
        while (Stopwatch.GetElapsedTime(began) < TimeSpan.FromMinutes(10))
        {
            var said = await File.ReadAllTextAsync(log, cancel).ConfigureAwait(false);
            if (said.Contains("\nready https://", StringComparison.Ordinal))
            {
                Console.WriteLine(said.Replace("Ctrl-C ends the demo", $"It runs on; kill $(cat {Path.Combine(directory, "demo.pid")}) ends it"));
                return 0;
            }
            if (said.Contains("The demo can't start", StringComparison.Ordinal) || said.Contains(Over, StringComparison.Ordinal))
            {
                await Console.Error.WriteLineAsync(said).ConfigureAwait(false);
                return 1;
            }
            await Task.Delay(100, cancel).ConfigureAwait(false);
        }
        await Console.Error.WriteLineAsync($"The demo is not ready after ten minutes; {log} says how far it came.").ConfigureAwait(false);
        return 1;
    }

    private static int FreePort()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }
}
