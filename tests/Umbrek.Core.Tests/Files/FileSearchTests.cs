using Umbrek.Core.Files;

namespace Umbrek.Core.Tests.Files;

public sealed class FileSearchTests
{
    private static readonly DateTimeOffset Noon = new(2026, 11, 23, 12, 0, 0, TimeSpan.Zero);
    private static readonly FileEntry Log = new(new FileName("var/log/Kiosk.LOG"), FileKind.File, 1000, 0x1a4, "kiosk", "adm", Noon, "1");
    private static readonly FileSearch All = new(new FileName("/"));

    [Fact]
    public void Each_part_says_what_is_meant_and_all_of_them_count()
    {
        All.Takes(Log).ShouldBeTrue();
        (All with { Name = "kiosk*.log", Kind = FileKind.File, Least = 1000, Most = 1000, Since = Noon, Until = Noon, Owner = "kiosk" }).Takes(Log).ShouldBeTrue();
        foreach (var other in (FileSearch[])
        [
            All with { Name = "log" }, All with { Name = "var*" }, All with { Kind = FileKind.Folder }, All with { Least = 1001 }, All with { Most = 999 }, All with { Since = Noon.AddSeconds(1) },
            All with { Until = Noon.AddSeconds(-1) }, All with { Owner = "root" },
        ])
        {
            other.Takes(Log).ShouldBeFalse(other.Describe());
        }
        // What has a size or a text is a file.
        var folder = Log with { Kind = FileKind.Folder, Bytes = 0 };
        All.Takes(folder).ShouldBeTrue();
        (All with { Most = 5 }).Takes(folder).ShouldBeFalse();
        (All with { Text = "x" }).Takes(folder).ShouldBeFalse();
    }

    [Fact]
    public void What_is_wrong_with_it_is_said()
    {
        All.Check().ShouldBeNull();
        (All with { Name = "" }).Check().ShouldNotBeNull();
        (All with { Name = "a/b" }).Check().ShouldNotBeNull().ShouldContain("no slash");
        (All with { Least = 5, Most = 4 }).Check().ShouldNotBeNull().ShouldContain("below the smallest");
        (All with { Since = Noon, Until = Noon.AddDays(-1) }).Check().ShouldNotBeNull().ShouldContain("before the earliest");
        (All with { Kind = (FileKind)9 }).Check().ShouldNotBeNull();
        (All with { Text = new string('x', 257) }).Check().ShouldNotBeNull();
        (All with { Folder = new FileName("srv") }).Check().ShouldNotBeNull().ShouldContain("no whole path");
    }

    [Fact]
    public void It_is_told_in_words() =>
        (All with { Name = "*.log", Kind = FileKind.File, Least = 1 << 20, Since = Noon, Owner = "kiosk", Text = "paper" }).Describe()
            .ShouldBe("*.log, file, at least 1.00 MiB, changed since 2026-11-23 12:00, of kiosk, with 'paper' in it");
}
