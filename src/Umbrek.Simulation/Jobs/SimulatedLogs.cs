using System.Runtime.CompilerServices;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;
using Umbrek.Simulation.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Simulation.Jobs;

/// <summary>The journal of a made-up computer, which gets a line every few seconds, and two files: by the clock, so that whoever looks twice sees the same.</summary>
public sealed class SimulatedLogs(SimulatedHost host, SimulatedPlatform platform, TimeProvider time) : ILogReader
{
    private const string Updates = "/var/log/apt/history.log";
    private const string Kiosk = "/var/log/kiosk.log";

    /// <summary>Between two lines, and how far back they go.</summary>
    private static readonly TimeSpan Step = TimeSpan.FromSeconds(7);
    private static readonly TimeSpan Past = TimeSpan.FromHours(6);

    private static readonly (string Source, LogSeverity Severity, string Text)[] Usual =
    [
        ("systemd", LogSeverity.Information, "Started anacron.service - Run anacron jobs."),
        ("cron", LogSeverity.Information, "(root) CMD (test -x /usr/sbin/anacron || run-parts /etc/cron.hourly)"),
        ("kernel", LogSeverity.Information, "eth0: link becomes ready"),
        ("systemd-timesyncd", LogSeverity.Information, "Contacted time server 198.51.100.250:123 (time.example)."),
        ("sshd", LogSeverity.Information, "Connection closed by 198.51.100.7 port 51122 [preauth]"),
        ("dbus-daemon", LogSeverity.Notice, "[system] Successfully activated service 'org.example.Quay1'"),
        ("umbrek-agent", LogSeverity.Information, "a look at the processes for Ines Okafor"),
        ("systemd", LogSeverity.Debug, "Got message type=signal sender=:1.4"),
    ];

    public LogSources Sources()
    {
        var now = time.GetUtcNow();
        return new LogSources(true, [new(Kiosk, 48_211 + host.Number * 97, now - TimeSpan.FromSeconds(40)), new("/var/log/dpkg.log", 118_020, now - TimeSpan.FromHours(9)), new(Updates, 9_702, now - TimeSpan.FromHours(9))]);
    }

    public async IAsyncEnumerable<IReadOnlyList<LogLine>> ReadAsync(LogWish wish, [EnumeratorCancellation] CancellationToken cancel)
    {
        if (wish.File is { } file && !Sources().Files.Any(f => f.Path == file))
        {
            throw new IOException($"There is no file {file} on this host.");
        }
        var (step, now) = (Step.Ticks, time.GetUtcNow());
        var last = now.UtcTicks / step;
        var there = Enumerable.Range(0, (int)(Past.Ticks / step)).Select(n => LineAt(last - n, wish)).Where(l => Takes(wish, l)).Take(wish.Lines).Reverse().ToList();
        foreach (var portion in there.Chunk(500))
        {
            yield return portion;
        }
        yield return [];
        while (wish.Follow)
        {
            await Task.Delay(TimeSpan.FromTicks((last + 1) * step - time.GetUtcNow().UtcTicks) is { Ticks: > 0 } left ? left : TimeSpan.FromMilliseconds(1), time, cancel).ConfigureAwait(false);
            for (var next = time.GetUtcNow().UtcTicks / step; last < next;)
            {
                if (LineAt(++last, wish) is var line && Takes(wish, line))
                {
                    yield return [line];
                }
            }
        }
    }

    private static bool Takes(LogWish wish, LogLine line) => wish.Filter.Takes(line) && (wish.Service is not { } service || line.Source == service);

    private LogLine LineAt(long number, LogWish wish)
    {
        var at = new DateTimeOffset(number * Step.Ticks, TimeSpan.Zero);
        // As if thrown, but the same each time.
        var thrown = (int)((ulong)(number * 2654435761 + host.Number * 40503) >> 7 & 0xffff);
        var (source, severity, text) = wish.File is not null ? ("kiosk", LogSeverity.Information, $"ticket {thrown % 900 + 100} sold at desk {thrown % 3 + 1}")
            : thrown % 61 == 0 ? ("smartd", LogSeverity.Error, "Device: /dev/sda [SAT], 1 Currently unreadable (pending) sectors")
            : thrown % 23 == 0 ? ("kernel", LogSeverity.Warning, "usb 1-2: reset high-speed USB device number 4")
            : platform.PrinterFailed && thrown % 5 == 0 ? ("ticket-print", LogSeverity.Error, "printer does not answer: no paper")
            : Usual[thrown % Usual.Length];
        return new LogLine(at, severity, source, source == "kernel" ? null : 300 + source.Length * 31, text);
    }
}
