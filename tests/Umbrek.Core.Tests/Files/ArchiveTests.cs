using Umbrek.Core.Files;

namespace Umbrek.Core.Tests.Files;

public sealed class ArchiveTests
{
    private const long Gigabyte = 1L << 30;

    [Theory]
    [InlineData("/srv/a.zip", ArchiveFormat.Zip)]
    [InlineData("/srv/A.ZIP", ArchiveFormat.Zip)]
    [InlineData("a.tar", ArchiveFormat.Tar)]
    [InlineData("a.tar.gz", ArchiveFormat.TarGzip)]
    [InlineData("a.tgz", ArchiveFormat.TarGzip)]
    [InlineData("a.gz", null)]
    [InlineData("zip", null)]
    [InlineData("a.tar.xz", null)]
    public void The_ending_says_what_it_is(string name, ArchiveFormat? format) => ArchiveFormats.Of(new FileName(name)).ShouldBe(format);

    [Theory]
    [InlineData("a", "a")]
    [InlineData("./a/b", "a/b")]
    [InlineData("a//b/", "a/b")]
    [InlineData("a/./b", "a/b")]
    [InlineData("c:\\windows", "c:\\windows")]
    [InlineData("a\nb", "a\nb")]
    [InlineData("/etc/passwd", null)]
    [InlineData("../a", null)]
    [InlineData("a/../../b", null)]
    [InlineData("a/..", null)]
    [InlineData("", null)]
    [InlineData("./", null)]
    [InlineData("a\0b", null)]
    public void What_is_in_it_stays_below_where_it_is_unpacked(string name, string? path) => ArchiveFormats.PathOf(name)?.Text.ShouldBe(path);

    [Fact]
    public void A_name_that_is_too_long_for_any_folder_is_none()
    {
        ArchiveFormats.PathOf(new string('n', 256)).ShouldBeNull();
        ArchiveFormats.PathOf(string.Join('/', Enumerable.Repeat("part", 1000))).ShouldBeNull();
    }

    [Fact]
    public void What_grows_beyond_the_room_or_many_times_its_length_is_stopped()
    {
        var honest = new UnpackLimit(Gigabyte, 10 * Gigabyte, large: false);
        honest.Add(1000, 3 * Gigabyte).ShouldBeNull();
        honest.Add(1, 7 * Gigabyte).ShouldNotBeNull().ShouldContain("there is room for 9.75 GiB");
        // 42 kB that say they are petabytes.
        new UnpackLimit(42_000, long.MaxValue, large: true).Add(1, 4L << 50).ShouldBeNull();
        new UnpackLimit(42_000, long.MaxValue, large: false).Add(1, 4L << 50).ShouldNotBeNull().ShouldContain("more than 200 times its length");
        new UnpackLimit(42_000, Gigabyte, large: true).Add(1, 4L << 50).ShouldNotBeNull().ShouldContain("there is room for 768 MiB");
        // A small one may be all zeros.
        new UnpackLimit(1000, 10 * Gigabyte, large: false).Add(1, Gigabyte).ShouldBeNull();
        var slow = new UnpackLimit(1000, 10 * Gigabyte, large: false);
        slow.Add(0, Gigabyte).ShouldBeNull();
        slow.Add(0, 1).ShouldNotBeNull();
        new UnpackLimit(1, long.MaxValue, large: true).Add(UnpackLimit.MostEntries, 0).ShouldBeNull();
        new UnpackLimit(1, long.MaxValue, large: true).Add(UnpackLimit.MostEntries + 1, 0).ShouldNotBeNull().ShouldContain("more than 1000000 files");
        // Sums that no number holds are still too much.
        new UnpackLimit(1, Gigabyte, large: true).Add(1, -1).ShouldNotBeNull();
        var twice = new UnpackLimit(1, Gigabyte, large: true);
        twice.Add(1, long.MaxValue).ShouldNotBeNull();
        twice.Add(1, long.MaxValue).ShouldNotBeNull();
    }
}
