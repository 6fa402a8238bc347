using Umbrek.Core.Jobs;

namespace Umbrek.Core.Tests.Jobs;

public sealed class LogTests
{
    /// <summary>A host's own time, two hours ahead of UTC.</summary>
    private static readonly DateTimeOffset Now = new(2026, 1, 2, 12, 0, 0, TimeSpan.FromHours(2));

    [Theory]
    [InlineData("2026-01-02T09:08:07.123456+02:00 quay-ticket-03 kiosk[311]: no paper", "2026-01-02T07:08:07.1234560Z", null, "kiosk", 311, "no paper")]
    [InlineData("2026-01-02T09:08:07Z quay-ticket-03 systemd: Started", "2026-01-02T09:08:07.0000000Z", null, "systemd", null, "Started")]
    [InlineData("2026-01-02 09:08:07,250 ERROR could not print", "2026-01-02T07:08:07.2500000Z", LogSeverity.Error, null, null, "ERROR could not print")]
    [InlineData("[2026-01-02 09:08:07] level=warn msg=\"slow\"", "2026-01-02T07:08:07.0000000Z", LogSeverity.Warning, null, null, "level=warn msg=\"slow\"")]
    [InlineData("2026-01-02T09:08:07-0530 [error] it broke", "2026-01-02T14:38:07.0000000Z", LogSeverity.Error, null, null, "[error] it broke")]
    [InlineData("Jan  2 09:08:07 quay-ticket-03 kernel: usb 1-2: reset", "2026-01-02T07:08:07.0000000Z", null, "kernel", null, "usb 1-2: reset")]
    [InlineData("Dec 31 23:59:59 quay-ticket-03 CRON[42]: (root) CMD (x)", "2025-12-31T21:59:59.0000000Z", null, "CRON", 42, "(root) CMD (x)")]
    [InlineData("no time at all, but FATAL: gone", null, LogSeverity.Critical, null, null, "no time at all, but FATAL: gone")]
    [InlineData("the word error in a sentence is no severity", null, null, null, null, "the word error in a sentence is no severity")]
    [InlineData("Feb 30 09:08:07 host x: y", null, null, null, null, "Feb 30 09:08:07 host x: y")]
    [InlineData("2026-13-02T09:08:07Z x", null, null, null, null, "2026-13-02T09:08:07Z x")]
    [InlineData("", null, null, null, null, "")]
    public void A_line_says_when_and_who_as_far_as_it_can_be_read(string line, string? at, LogSeverity? severity, string? source, int? pid, string text)
    {
        var read = LogText.Read(line, Now);
        read.ShouldBe(new LogLine(at is null ? null : DateTimeOffset.Parse(at, System.Globalization.CultureInfo.InvariantCulture), severity, source, pid, text));
    }

    [Fact]
    public void Only_what_is_wanted_is_taken()
    {
        var line = new LogLine(Now, LogSeverity.Warning, "kiosk", 3, "No Paper");
        new LogFilter().Takes(line).ShouldBeTrue();
        new LogFilter("paper", LogSeverity.Warning, Now, Now.AddSeconds(1)).Takes(line).ShouldBeTrue();
        new LogFilter("KIOSK").Takes(line).ShouldBeTrue();
        new LogFilter("ink").Takes(line).ShouldBeFalse();
        new LogFilter(Least: LogSeverity.Error).Takes(line).ShouldBeFalse();
        new LogFilter(Since: Now.AddSeconds(1)).Takes(line).ShouldBeFalse();
        new LogFilter(Until: Now).Takes(line).ShouldBeFalse();
        // What is not known is not wanted; a line without a time goes with the one before it.
        new LogFilter(Least: LogSeverity.Debug).Takes(line with { Severity = null }).ShouldBeFalse();
        new LogFilter(Since: Now).Takes(line with { At = null }).ShouldBeFalse();
        new LogFilter(Since: Now).Takes(line with { At = null }, Now).ShouldBeTrue();
    }
}
