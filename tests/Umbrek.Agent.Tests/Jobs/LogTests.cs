using Umbrek.Agent.Platform.Linux;
using Umbrek.Core.Jobs;
using Umbrek.Tests;
using Umbrek.Wire.Jobs;

namespace Umbrek.Agent.Tests.Jobs;

/// <summary>Text files read as logs.</summary>
public sealed class LogTests : IDisposable
{
    private readonly TestDirectory directory = new();
    private readonly LinuxLogs logs = new(TimeProvider.System);

    public void Dispose() => directory.Dispose();

    private string Log => directory.In("tide.log");

    [Fact]
    public async Task The_newest_lines_that_are_wanted_come_oldest_first()
    {
        await File.WriteAllLinesAsync(Log, Enumerable.Range(1, 3000).Select(n => $"2026-11-26T08:{n / 60 % 60:00}:{n % 60:00}Z quay kiosk[{n}]: {(n % 100 == 0 ? "ERROR" : "INFO")} ticket {n}"));
        var lines = await ReadAsync(new LogWish(5, Log));
        lines.Select(l => l.Pid).ShouldBe([2996, 2997, 2998, 2999, 3000]);
        (await ReadAsync(new LogWish(3, Log, Least: LogSeverity.Error))).Select(l => l.Text).ShouldBe(["ERROR ticket 2800", "ERROR ticket 2900", "ERROR ticket 3000"]);
        (await ReadAsync(new LogWish(11, Log, Text: "TICKET 299"))).Select(l => l.Pid).ShouldBe([299, .. Enumerable.Range(2990, 10).Select(p => (int?)p)]);
        (await ReadAsync(new LogWish(0, Log))).ShouldBeEmpty();
        (await ReadAsync(new LogWish(10_000, Log))).Count.ShouldBe(3000);
        (await ReadAsync(new LogWish(100, Log, Since: DateTimeOffset.Parse("2026-11-26T08:49:58Z", System.Globalization.CultureInfo.InvariantCulture), Until: DateTimeOffset.Parse("2026-11-26T08:50:00Z", System.Globalization.CultureInfo.InvariantCulture)))).Count.ShouldBe(2);
    }

    [Fact]
    public async Task What_is_no_log_says_so()
    {
        await File.WriteAllBytesAsync(Log, [1, 0, 2]);
        (await WhyAsync(Log)).ShouldEndWith("is no text.");
        (await WhyAsync(directory.In("none"))).ShouldStartWith("There is no file ");
        (await WhyAsync("/var/log")).ShouldBe("/var/log is a directory; name a file in it.");
        // Neither has an end, and the second would wait for somebody for ever.
        (await WhyAsync("/dev/zero")).ShouldBe("/dev/zero is no file that could be read to an end.");
        (await TestPrograms.RunAsync("/usr/bin/mkfifo", [directory.In("pipe")])).Status.ShouldBe(0);
        (await WhyAsync(directory.In("pipe"))).ShouldEndWith("is no file that could be read to an end.");
        await File.WriteAllBytesAsync(Log, []);
        (await ReadAsync(new LogWish(10, Log))).ShouldBeEmpty();
    }

    [Fact]
    public async Task Only_files_in_folders_that_technicians_are_let_into_are_read()
    {
        await File.WriteAllTextAsync(Log, "one\n");
        Directory.CreateDirectory(directory.In("in"));
        await File.WriteAllTextAsync(directory.In("in/log"), "two\n");
        File.CreateSymbolicLink(directory.In("in/link"), Log);
        File.CreateSymbolicLink(directory.In("in/up"), "..");
        var logs = new LinuxLogs(TimeProvider.System, [directory.In("in")]);
        async Task<string> WhyNotAsync(string file) => (await Should.ThrowAsync<IOException>(async () => await logs.ReadAsync(new LogWish(1, file), default).ToListAsync())).Message;
        (await logs.ReadAsync(new LogWish(1, directory.In("in/log")), default).FirstAsync())[0].Text.ShouldBe("two");
        foreach (var file in (string[])[Log, directory.In("in/link"), directory.In("in/up/" + Path.GetFileName(Log))])
        {
            (await WhyNotAsync(file)).ShouldContain("does not lie in what this host lets technicians into");
        }
    }

    [Fact]
    public async Task Rubbish_and_lines_without_end_are_borne()
    {
        await File.WriteAllBytesAsync(Log, [.. Enumerable.Repeat((byte)'x', 300_000), (byte)'\n', 0xff, 0xfe, (byte)'a', (byte)'\r', (byte)'\n', (byte)'e', (byte)'n', (byte)'d']);
        var lines = await ReadAsync(new LogWish(10, Log));
        lines.Count.ShouldBe(2);
        lines[0].Text.ShouldBe(new string('x', 16 * 1024));
        lines[1].Text.ShouldBe("\ufffd\ufffda");
    }

    [Fact]
    public async Task Lines_come_as_they_are_written_whole_and_over_a_rotation()
    {
        await File.WriteAllTextAsync(Log, "one\n");
        using var enough = new CancellationTokenSource(TimeSpan.FromMinutes(1));
        var seen = new List<string>();
        var caughtUp = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        var reading = Task.Run(async () =>
        {
            await foreach (var portion in logs.ReadAsync(new LogWish(10, Log, Text: "o", Follow: true), enough.Token))
            {
                lock (seen)
                {
                    seen.AddRange(portion.Select(l => l.Text));
                }
                if (portion.Count == 0)
                {
                    caughtUp.TrySetResult();
                }
            }
        });
        string[] Seen()
        {
            lock (seen)
            {
                return [.. seen];
            }
        }
        await caughtUp.Task;
        Seen().ShouldBe(["one"]);
        await File.AppendAllTextAsync(Log, "this is left\ntwo is not fin");
        await File.AppendAllTextAsync(Log, "ished\n");
        await Wait.UntilAsync(() => Seen().Contains("two is not finished"), "the second line");
        // Rotated: the file has another name, and another file its name.
        File.Move(Log, directory.In("tide.log.1"));
        await File.WriteAllTextAsync(Log, "four\n");
        await Wait.UntilAsync(() => Seen().Contains("four"), "the new file's line");
        // Emptied and begun anew.
        await File.WriteAllTextAsync(Log, "");
        await File.WriteAllTextAsync(Log, "of five\n");
        await Wait.UntilAsync(() => Seen().Contains("of five"), "the line behind that");
        Seen().ShouldBe(["one", "two is not finished", "four", "of five"]);
        await enough.CancelAsync();
        await Should.ThrowAsync<OperationCanceledException>(() => reading);
    }

    [Fact]
    public void What_is_asked_is_looked_at_first()
    {
        new LogWish().Check().ShouldBeNull();
        new LogWish(-1).Check()!.ShouldContain("From 0 to 10000 lines");
        new LogWish(10_001).Check()!.ShouldContain("From 0 to 10000 lines");
        new LogWish(1, "var/log/syslog").Check()!.ShouldContain("whole path");
        new LogWish(1, "/a\0b").Check()!.ShouldContain("whole path");
        new LogWish(1, "/var/log/syslog", "cups").Check()!.ShouldContain("leave out the service, or the file");
        new LogWish(1, Service: "cups; reboot").Check()!.ShouldContain("is no name of a service");
        new LogWish(1, Text: "a\nb").Check()!.ShouldContain("one line");
        new LogWish(1, Since: DateTimeOffset.UnixEpoch, Until: DateTimeOffset.UnixEpoch).Check()!.ShouldContain("turn them round");
        new LogWish(1, Until: DateTimeOffset.UnixEpoch, Follow: true).Check()!.ShouldContain("has no end yet");
    }

    private async Task<List<LogLine>> ReadAsync(LogWish wish)
    {
        var lines = new List<LogLine>();
        await foreach (var portion in logs.ReadAsync(wish, default))
        {
            lines.AddRange(portion);
        }
        return lines;
    }

    private async Task<string> WhyAsync(string file) => (await Should.ThrowAsync<IOException>(() => ReadAsync(new LogWish(10, file)))).Message;
}
