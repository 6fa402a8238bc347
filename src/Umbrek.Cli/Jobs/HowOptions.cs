using System.CommandLine;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;

namespace Umbrek.Cli.Jobs;

/// <summary>How a command or a script runs on a host.</summary>
public sealed class HowOptions
{
    private readonly Option<string?> input = new("--input") { Description = "Gives it this file on standard input; - hands on the client's own.", HelpName = "file" };
    private readonly Option<string?> user = new("--as") { Description = "System user that it runs as; takes the permission choose-user.", HelpName = "user" };
    private readonly Option<string?> directory = new("--in-directory") { Description = "Absolute directory to run in.", HelpName = "directory" };
    private readonly Option<int?> niceness = new("--niceness") { Description = "From -20, before everything else, to 19, behind it.", HelpName = "number" };
    private readonly Option<string?> timeout = new("--time-out") { Description = "End the command after this time, for example 90s or 2h; no limit when left out.", HelpName = "time" };
    private readonly Option<string?> outputLimit = new("--output-limit") { Description = "Keeps so much of each host's output, for example 10MiB; 1 GiB when left out.", HelpName = "size" };

    public IEnumerable<Option> All => [input, user, directory, niceness, timeout, outputLimit];

    public bool ReadsStandardInput(ParseResult parsed) => parsed.GetValue(input) == "-";

    /// <summary>The command with what was said; what was not said stays.</summary>
    public async Task<CommandSpec> ApplyAsync(ParseResult parsed, CommandSpec command, CancellationToken cancel) => command with
    {
        Input = parsed.GetValue(input) is { } from ? await ReadAsync(from, "input", cancel).ConfigureAwait(false) : command.Input,
        User = parsed.GetValue(user) ?? command.User,
        WorkingDirectory = parsed.GetValue(directory) ?? command.WorkingDirectory,
        Niceness = parsed.GetValue(niceness) ?? command.Niceness,
        TimeoutSeconds = Seconds(parsed.GetValue(timeout)) ?? command.TimeoutSeconds,
        OutputLimitBytes = parsed.GetValue(outputLimit) is { } size ? ReadSize(size) : command.OutputLimitBytes,
    };

    public static double? Seconds(string? text) =>
        text is null ? null : (Units.ParseSpan(text) ?? throw new ClientException($"'{text}' is no length of time; write it like 90s, 15min or 2h.", ExitCodes.WrongUse)).TotalSeconds;

    private static long ReadSize(string text)
    {
        var amountText = string.Concat(text.TakeWhile(c => char.IsAsciiDigit(c) || c == '.'));
        var unit = text[amountText.Length..].Trim();
        return Quantity.ReadAmount(amountText) is { } amount && QuantityUnit.Find(unit.Length == 0 ? "B" : unit) is { Dimension: Dimension.Size } found
            ? (long)new Quantity(amount, found).Value
            : throw new ClientException($"'{text}' is no size; write it like 10MiB, with one of {QuantityUnit.Signs(Dimension.Size)}.", ExitCodes.WrongUse);
    }

    internal static async Task<byte[]> ReadAsync(string file, string what, CancellationToken cancel)
    {
        try
        {
            await using var source = file == "-" ? Console.OpenStandardInput() : File.OpenRead(file);
            using var read = new MemoryStream();
            var buffer = new byte[16 * 1024];
            while (await source.ReadAsync(buffer, cancel).ConfigureAwait(false) is > 0 and var got)
            {
                read.Write(buffer, 0, got);
                if (read.Length > CommandSpec.MaxTextBytes)
                {
                    throw new ClientException($"The {what} has more than {Units.Bytes(CommandSpec.MaxTextBytes)}, the most that goes with an order. Put longer work into a file on the host.", ExitCodes.WrongUse);
                }
            }
            return read.ToArray();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new ClientException($"The {what} '{file}' can't be read: {e.Message}", ExitCodes.WrongUse);
        }
    }
}
