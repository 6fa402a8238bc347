using System.Globalization;
using Umbrek.Core.Text;

namespace Umbrek.Cli.Files;

/// <summary>How a transfer went, in words behind what it moved.</summary>
public static class TransferPace
{
    /// <summary>Below it, what takes the time is that there are many files, not that they are large.</summary>
    private const long SmallFile = 64 * 1024;

    /// <param name="bytes">Of all the files together.</param>
    /// <returns>" in 4 min, 3700 files a second" or " in 8 s, 130 MiB/s"; nothing for what took no time to speak of.</returns>
    public static string Words(int files, long bytes, TimeSpan took) =>
        took.TotalSeconds < 1 ? ""
        : files > 1 && bytes / files < SmallFile ? $" in {Units.Span(took)}, {(files / took.TotalSeconds).ToString(files < 10 * took.TotalSeconds ? "0.#" : "0", CultureInfo.InvariantCulture)} files a second"
        : $" in {Units.Span(took)}, {Units.Bytes(bytes / took.TotalSeconds)}/s";
}
