using System.Security.Cryptography;
using Umbrek.Cli.Files;
using Umbrek.Cli.Hosting;
using Umbrek.Tests;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Tests.Files;

public sealed class LocalFileTests : IDisposable
{
    private readonly TestDirectory directory = new();

    public void Dispose() => directory.Dispose();

    [Fact]
    public void Letters_of_a_name_stand_for_what_is_here_and_a_name_for_itself()
    {
        foreach (var name in (string[])["b.log", "a.log", "c.txt", "odd*"])
        {
            File.WriteAllText(directory.In(name), "");
        }
        LocalFile.Expand([directory.In("*.log"), directory.In("c.txt")]).ShouldBe([directory.In("a.log"), directory.In("b.log"), directory.In("c.txt")]);
        LocalFile.Expand([directory.In("odd*")]).ShouldBe([directory.In("odd*")]);
        LocalFile.Expand([directory.In("none")]).ShouldBe([directory.In("none")]);
        Should.Throw<ClientException>(() => LocalFile.Expand([directory.In("?.none")]).ToList()).ExitCode.ShouldBe(ExitCodes.NothingMatched);
    }

    [Fact]
    public async Task What_has_no_content_is_not_waited_for()
    {
        (await TestPrograms.RunAsync("/usr/bin/mkfifo", [directory.In("pipe")])).Status.ShouldBe(0);
        foreach (var path in (string[])[directory.In("pipe"), "/dev/tty0x", directory.In("none")])
        {
            Should.Throw<IOException>(() => LocalFile.Open(path).Dispose()).Message.ShouldStartWith($"'{path}'");
        }
    }

    [Fact]
    public void A_version_is_another_when_the_content_is()
    {
        File.WriteAllBytes(directory.In("file"), RandomNumberGenerator.GetBytes(10));
        string Version()
        {
            using var handle = LocalFile.Open(directory.In("file"));
            return LocalFile.VersionOf(handle);
        }
        var before = Version();
        Version().ShouldBe(before);
        File.SetLastWriteTimeUtc(directory.In("file"), new DateTime(2024, 1, 2, 3, 4, 5, DateTimeKind.Utc));
        Version().ShouldNotBe(before);
        File.SetUnixFileMode(directory.In("file"), (UnixFileMode)0x9a0);
        using var opened = LocalFile.Open(directory.In("file"));
        LocalFile.ModeOf(opened).ShouldBe(0x1a0);
        LocalFile.NameOf("a/b").Text.ShouldBe("a/b");
    }

    [Theory]
    [InlineData("0640", 0x1a0)]
    [InlineData("755", 0x1ed)]
    [InlineData("000", 0)]
    public void Modes_are_read(string text, int mode) => FileModes.Read(text).ShouldBe(mode);

    [Theory]
    [InlineData("9")]
    [InlineData("0888")]
    [InlineData("4755")]
    [InlineData("rwx")]
    [InlineData("")]
    public void What_is_no_mode_says_what_is_one(string text) => Should.Throw<ClientException>(() => FileModes.Read(text)).Message.ShouldContain("0640");

    [Theory]
    [InlineData("kiosk", "kiosk", null)]
    [InlineData("kiosk:www-data", "kiosk", "www-data")]
    [InlineData(":www-data", null, "www-data")]
    [InlineData("kiosk:", "kiosk", null)]
    public void Owners_are_read(string text, string? user, string? group) => FileModes.ReadOwner(text).ShouldBe((user, group));

    [Theory]
    [InlineData("")]
    [InlineData(":")]
    [InlineData("a:b:c")]
    public void What_is_no_owner_says_what_is_one(string text) => Should.Throw<ClientException>(() => FileModes.ReadOwner(text)).Message.ShouldContain("kiosk:www-data");

    [Fact]
    public async Task A_rate_is_kept_to_and_what_was_not_used_is_not_saved_up()
    {
        var time = new Microsoft.Extensions.Time.Testing.FakeTimeProvider();
        var limit = new RateLimit(1_000_000, time);
        await limit.SpendAsync(10_000, default);
        var waiting = limit.SpendAsync(990_000, default);
        waiting.IsCompleted.ShouldBeFalse();
        time.Advance(TimeSpan.FromMilliseconds(990));
        waiting.IsCompleted.ShouldBeFalse();
        time.Advance(TimeSpan.FromMilliseconds(20));
        await waiting;
        time.Advance(TimeSpan.FromMinutes(5));
        var next = limit.SpendAsync(500_000, default);
        next.IsCompleted.ShouldBeFalse();
        time.Advance(TimeSpan.FromMilliseconds(500));
        await next;
        await new RateLimit(null, time).SpendAsync(int.MaxValue, default);
    }
}
