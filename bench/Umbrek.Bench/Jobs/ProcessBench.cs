using System.Diagnostics;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Bench.Hosting;
using Umbrek.Wire;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Sessions;

namespace Umbrek.Bench.Jobs;

/// <summary>What it costs a host that somebody looks at its processes, beside reading the same files and doing nothing with them.</summary>
internal static class ProcessBench
{
    private const int More = 200;
    private const int Readings = 15;

    public static async Task RunAsync()
    {
        Console.WriteLine($"-- processes of one host, {More} more than it has");
        await using var host = await OneHost.StartAsync();
        var sleepers = Enumerable.Range(0, More).Select(_ => Process.Start("sleep", "1000")).ToList();
        try
        {
            var idle = await ShareAsync(host, () => Task.Delay(TimeSpan.FromSeconds(Readings * ViewWish.Usual)));
            var watched = await ShareAsync(host, () => WatchAsync(host));
            Figures.Alone("agent, nobody looks, of a core", idle, "%", "");
            Figures.Alone("agent, one looks every 2 s, of a core", watched, "%", "under 1 % more");
            Figures.Line("one reading of all processes", ReadOurs(), ReadBare(), "ms", "");
        }
        finally
        {
            sleepers.ForEach(s => s.Kill());
        }
    }

    private static async Task<double> ShareAsync(OneHost host, Func<Task> meanwhile)
    {
        var (before, from) = (host.Agent.ProcessorSeconds(), Stopwatch.GetTimestamp());
        await meanwhile();
        return (host.Agent.ProcessorSeconds() - before) / Stopwatch.GetElapsedTime(from).TotalSeconds * 100;
    }

    private static async Task WatchAsync(OneHost host)
    {
        var session = await host.Api.PostAsync($"hosts/{host.Host.Id}/sessions", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, default);
        var (socket, _) = await ChannelSocket.OpenAsync(host.Api, host.Pin, session.Id, new NewChannel(ChannelKinds.Processes, View: new ViewWish()), default);
        using var open = socket;
        var frames = ViewWord.Frames(socket);
        for (var i = 0; i < Readings; i++)
        {
            _ = (await frames.ReceiveAsync(default))?.Changes ?? throw new InvalidOperationException("The host shows no processes.");
        }
    }

    private static double ReadOurs()
    {
        var reader = new LinuxPlatform().Processes();
        return Fastest(() => reader.Read(DateTimeOffset.UtcNow));
    }

    /// <summary>The system's own part: one of the files of each process, opened and read.</summary>
    private static double ReadBare()
    {
        var buffer = new byte[4096];
        return Fastest(() =>
        {
            foreach (var directory in Directory.EnumerateDirectories("/proc").Where(d => char.IsAsciiDigit(d[6])))
            {
                try
                {
                    using var file = File.OpenHandle(directory + "/stat");
                    RandomAccess.Read(file, buffer, 0);
                }
                catch (IOException)
                {
                    // It ended meanwhile.
                }
            }
        });
    }

    private static double Fastest(Action act)
    {
        var fastest = double.MaxValue;
        for (var i = 0; i < 50; i++)
        {
            var from = Stopwatch.GetTimestamp();
            act();
            fastest = Math.Min(fastest, Stopwatch.GetElapsedTime(from).TotalMilliseconds);
        }
        return fastest;
    }
}
