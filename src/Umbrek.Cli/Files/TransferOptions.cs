using System.CommandLine;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Files;
using Umbrek.Core.Text;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <summary>How files are moved: the same words for both directions.</summary>
internal sealed class TransferOptions
{
    private static readonly TimeSpan UsualPatience = TimeSpan.FromMinutes(10);

    private readonly Option<string?> existing;
    private readonly Option<string?> wait = new("--wait") { Description = $"How long to look for the host again when the line breaks; {Units.Span(UsualPatience)} when left out.", HelpName = "time" };
    private readonly Option<string?> rate = new("--rate") { Description = "At most so much in a second, to leave room on the line: 500KiB or 2MiB.", HelpName = "bytes" };

    /// <param name="place">Where the files come to lie: "here".</param>
    /// <param name="moved">What is done with them: "fetched".</param>
    public TransferOptions(string place, string moved)
    {
        existing = new("--existing") { Description = $"What becomes of a file that is {place} already and is another: keep, replace, replace-older or rename. Without it nothing is {moved} then.", HelpName = "way" };
        existing.AcceptOnlyFromAmong("keep", "replace", "replace-older", "rename");
    }

    public IEnumerable<Option> All => [existing, wait, rate];

    public Chosen Read(ParseResult parsed, TimeProvider time) => new(
        parsed.GetValue(existing) is { } word ? ReadExisting(word) : Existing.Ask,
        parsed.GetValue(wait) is not { } text ? UsualPatience : Units.ParseSpan(text) ?? throw new ClientException($"'{text}' is no length of time; write 90s, 15min or 2h.", ExitCodes.WrongUse),
        new RateLimit(ReadRate(parsed.GetValue(rate)), time));

    /// <returns>Bytes in a second; null for as many as there are.</returns>
    public static long? ReadRate(string? text) =>
        text is null ? null : Units.ParseBytes(text) is { } bytes and >= RateLimit.Least ? bytes : throw new ClientException($"'{text}' is no rate; write how many bytes in a second, 1 KiB at least: 500KiB or 2MiB.", ExitCodes.WrongUse);

    public static Existing ReadExisting(string word) => Enum.Parse<Existing>(word.Replace("-", "", StringComparison.Ordinal), ignoreCase: true);

    /// <param name="Existing">To ask means that a file that is there and is another one is complained of.</param>
    /// <param name="Patience">So long it is tried to find a line that broke.</param>
    internal sealed record Chosen(Existing Existing, TimeSpan Patience, RateLimit Rate);
}
