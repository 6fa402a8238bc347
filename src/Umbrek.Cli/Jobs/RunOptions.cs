using System.CommandLine;
using System.Text;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>What to run and how, as it is written on the command line.</summary>
public sealed class RunOptions
{
    private readonly Option<string?> script = new("--script") { Description = "Runs this file's text as a script there; - reads it from standard input.", HelpName = "file" };
    private readonly Option<string?> shell = new("--shell") { Description = "Program that is given the command with -c, or that reads the script; /bin/sh, or what the script's first line names, when left out.", HelpName = "program" };
    private readonly Option<string[]> variables = new("--set") { Description = "Sets a variable of its environment; as often as needed.", HelpName = "NAME=VALUE", AllowMultipleArgumentsPerToken = false };
    private readonly Argument<string[]> words = new("command") { Description = "One word is a line for the shell; several are a program and its arguments, run without a shell. With --script: its arguments.", Arity = ArgumentArity.ZeroOrMore };

    public IEnumerable<Option> Options => [script, shell, variables, .. How.All, .. Pace.All];

    public HowOptions How { get; } = new();
    public PaceOptions Pace { get; } = new();

    public Argument Words => words;

    public async Task<CommandSpec> ReadCommandAsync(ParseResult parsed, CancellationToken cancel)
    {
        var typed = parsed.GetValue(words) ?? [];
        var file = parsed.GetValue(script);
        if (file is null && typed.Length == 0)
        {
            throw new ClientException("Say what to run, behind --, or give a script with --script.", ExitCodes.WrongUse);
        }
        if (file == "-" && How.ReadsStandardInput(parsed))
        {
            throw new ClientException("Standard input can be the script or the command's input, not both.", ExitCodes.WrongUse);
        }
        var asLine = file is null && (typed.Length == 1 || parsed.GetValue(shell) is not null);
        return await How.ApplyAsync(parsed, new CommandSpec
        {
            Line = asLine ? string.Join(' ', typed) : null,
            Script = file is null ? null : await ReadScriptAsync(file, cancel).ConfigureAwait(false),
            Arguments = asLine || typed.Length == 0 ? null : typed,
            Shell = parsed.GetValue(shell),
            Environment = ReadVariables(parsed.GetValue(variables) ?? []),
        }, cancel).ConfigureAwait(false);
    }

    /// <summary>A script's text from a file; - is standard input.</summary>
    /// <exception cref="ClientException">It can't be read, or is no UTF-8: it would not be run as it is written.</exception>
    internal static async Task<string> ReadScriptAsync(string file, CancellationToken cancel)
    {
        var bytes = await HowOptions.ReadAsync(file, "script", cancel).ConfigureAwait(false);
        try
        {
            return new UTF8Encoding(false, throwOnInvalidBytes: true).GetString(bytes).TrimStart('\uFEFF');
        }
        catch (DecoderFallbackException)
        {
            throw new ClientException($"The script '{file}' is no UTF-8 text; save it as UTF-8.", ExitCodes.WrongUse);
        }
    }

    internal static Dictionary<string, string>? ReadVariables(string[] typed)
    {
        var read = new Dictionary<string, string>(StringComparer.Ordinal);
        foreach (var one in typed)
        {
            var equals = one.IndexOf('=');
            if (equals <= 0)
            {
                throw new ClientException($"'{one}' sets no variable; write NAME=VALUE.", ExitCodes.WrongUse);
            }
            read[one[..equals]] = one[(equals + 1)..];
        }
        return read.Count == 0 ? null : read;
    }
}
