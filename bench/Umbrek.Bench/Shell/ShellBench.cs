using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Bench.Hosting;
using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;
using Umbrek.Simulation.Demo;
using Umbrek.Wire;
using Umbrek.Wire.Sessions;
using Umbrek.Wire.Shell;

namespace Umbrek.Bench.Shell;

/// <summary>How long a key takes to come back, beside a pseudo-terminal at hand; and how fast much output comes, beside a program that writes into a connection on loopback.</summary>
internal static class ShellBench
{
    private const int Keys = 2000;
    private const int Settling = 6000;
    private const int OutputBytes = 100_000_000;
    private const int Times = 3;
    private static readonly ShellWish Cat = new() { Terminal = TerminalSize.Usual, Command = new CommandSpec { Arguments = ["cat"] } };

    public static async Task RunAsync()
    {
        Console.WriteLine("-- shell and output of one host");
        await using var host = await OneHost.StartAsync();
        await EchoAsync(host);
        await OutputAsync(host);
        Figures.Alone("agent: resident after all that", host.Agent.Resident() / 1e6, "MB", "");
    }

    private static async Task EchoAsync(OneHost host)
    {
        var bare = Echo();
        var (early, ours) = await EchoThroughAsync(host);
        Figures.Line("a key and its echo, median", At(ours, 0.5), At(bare, 0.5), "ms", "");
        Figures.Line("a key and its echo, 95 of 100", At(ours, 0.95), At(bare, 0.95), "ms", "");
        Figures.Line("  in a host's first seconds, 95 of 100", At(early, 0.95), At(bare, 0.95), "ms", "");
    }

    private static double At(List<double> sorted, double share) => sorted[(int)(sorted.Count * share)];

    /// <summary>A pseudo-terminal in this process.</summary>
    private static List<double> Echo()
    {
        using var shell = new LinuxShellRunner().Start(Cat, "bench");
        var output = shell.Outputs[0].From;
        var key = new byte[] { (byte)'k' };
        var back = new byte[16];
        var took = new List<double>();
        for (var i = 0; i < Keys; i++)
        {
            var from = Stopwatch.GetTimestamp();
            shell.Input.Write(key);
            if (output.Read(back) != 1)
            {
                throw new InvalidOperationException("The terminal sent something else than the key.");
            }
            took.Add(Stopwatch.GetElapsedTime(from).TotalMilliseconds);
            if (i % 100 == 99)
            {
                // A line of a terminal has an end (termios(3): 4096 characters).
                shell.Input.Write([(byte)'\n']);
                for (var rest = 2 + 100 + 2; rest > 0;)
                {
                    rest -= output.Read(back);
                }
            }
        }
        shell.HangUp(force: true);
        took.Sort();
        return took;
    }

    /// <summary>The same from a technician's side: service, agent, keeper, terminal, and all the way back.</summary>
    /// <returns>In the first seconds, while service and host still look at themselves for the first time, and after <see cref="Settling"/> more keys.</returns>
    private static async Task<(List<double> Early, List<double> Settled)> EchoThroughAsync(OneHost host)
    {
        var session = await host.Api.PostAsync($"hosts/{host.Host.Id}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);
        var (socket, _) = await ChannelSocket.OpenAsync(host.Api, host.Pin, session.Id, new NewChannel(ChannelKinds.Shell, Cat), default);
        using var open = socket;
        using var frames = new ShellFrames(socket);
        if ((await frames.ReceiveAsync(default))?.Word?.Opened is null)
        {
            throw new InvalidOperationException("There is no shell.");
        }
        var early = await KeysAsync(frames, Keys);
        await KeysAsync(frames, Settling);
        var settled = await KeysAsync(frames, Keys);
        await frames.SendAsync(new ShellWord(End: true), default);
        return (early, settled);
    }

    /// <summary>Types, each key when the one before has come back.</summary>
    private static async Task<List<double>> KeysAsync(ShellFrames frames, int keys)
    {
        async Task ReadAsync(int bytes)
        {
            while (bytes > 0)
            {
                var message = await frames.ReceiveAsync(default) ?? throw new InvalidOperationException(frames.ClosedBecause);
                bytes -= message.Data.Length;
            }
        }
        var key = new byte[] { (byte)'k' };
        var took = new List<double>();
        for (var i = 0; i < keys; i++)
        {
            var from = Stopwatch.GetTimestamp();
            await frames.SendAsync(ShellStream.Input, key, default);
            await ReadAsync(1);
            took.Add(Stopwatch.GetElapsedTime(from).TotalMilliseconds);
            if (i % 100 == 99)
            {
                await frames.SendAsync(ShellStream.Input, new[] { (byte)'\n' }, default);
                await ReadAsync(2 + 100 + 2);
            }
        }
        took.Sort();
        return took;
    }

    private static async Task OutputAsync(OneHost host)
    {
        var environment = await host.SignInClientAsync();
        var client = ChildProgram.Find("umbrek");
        var name = host.Host.SystemName;
        // Lines, as programs write them; nothing that packs to nothing.
        var line = $"seq -f 'line %.0f of an output that is long enough to be worth a line' 2000000 | head -c {OutputBytes}";
        var bare = new List<double>();
        var job = new List<double>();
        var shell = new List<double>();
        for (var i = 0; i < Times; i++)
        {
            bare.Add(await BareAsync(line));
            shell.Add(await OneHost.TimeAsync(client, ["shell", name, "--", line], environment));
            job.Add(await OneHost.TimeAsync(client, ["run", "--on", name, "--plain", "--", line], environment));
        }
        Figures.Line("100 MB of output through a shell", Figures.Median(shell), Figures.Median(bare), "s", "");
        Figures.Line("100 MB of output of a job, kept on the way", Figures.Median(job), Figures.Median(bare), "s", "");
    }

    /// <summary>The same command, its output copied into a connection on loopback and read there.</summary>
    private static async Task<double> BareAsync(string line)
    {
        var began = Stopwatch.GetTimestamp();
        using var listening = new TcpListener(IPAddress.Loopback, 0);
        listening.Start();
        using var sending = new TcpClient();
        await sending.ConnectAsync((IPEndPoint)listening.LocalEndpoint);
        using var receiving = await listening.AcceptTcpClientAsync();
        using var process = Process.Start(new ProcessStartInfo("/bin/sh", ["-c", line]) { RedirectStandardOutput = true })!;
        var copying = Task.Run(async () =>
        {
            await process.StandardOutput.BaseStream.CopyToAsync(sending.GetStream(), 64 * 1024);
            sending.Client.Shutdown(SocketShutdown.Send);
        });
        await receiving.GetStream().CopyToAsync(Stream.Null, 64 * 1024);
        await copying;
        await process.WaitForExitAsync();
        return Stopwatch.GetElapsedTime(began).TotalSeconds;
    }
}
