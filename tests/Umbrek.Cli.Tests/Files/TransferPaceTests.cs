using Umbrek.Cli.Files;

namespace Umbrek.Cli.Tests.Files;

public sealed class TransferPaceTests
{
    [Theory]
    [InlineData(1, 100, 0.4, "")]
    [InlineData(1, 1 << 30, 8, " in 8 s, 128 MiB/s")]
    [InlineData(1, 40, 2, " in 2 s, 20 B/s")]
    [InlineData(1_000_000, 6_000_000, 250, " in 4 min, 4000 files a second")]
    [InlineData(30, 60_000, 20, " in 20 s, 1.5 files a second")]
    [InlineData(20, 20 << 20, 10, " in 10 s, 2.00 MiB/s")]
    [InlineData(0, 0, 3, " in 3 s, 0 B/s")]
    public void Says_what_took_the_time(int files, long bytes, double seconds, string words) =>
        TransferPace.Words(files, bytes, TimeSpan.FromSeconds(seconds)).ShouldBe(words);
}
