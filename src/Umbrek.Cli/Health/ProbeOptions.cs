using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Health;

namespace Umbrek.Cli.Health;

/// <summary>Options that say what agents look at; exactly one of the first eight.</summary>
public sealed class ProbeOptions
{
    private readonly Option<string?> service = new("--service") { Description = "A service of the system that has to run." };
    private readonly Option<string?> program = new("--program") { Description = "A program that has to run: its name, or its whole path." };
    private readonly Option<string?> port = new("--port") { Description = "A host and TCP port that have to take connections: printer-2.quay.example:9100." };
    private readonly Option<string?> web = new("--web") { Description = "A web address that has to answer well: https://tickets.example/health." };
    private readonly Option<string?> ping = new("--ping") { Description = "A host that has to answer ICMP echoes." };
    private readonly Option<string?> log = new("--log") { Description = "A log that must not get lines like --lines." };
    private readonly Option<FileInfo?> script = new("--script") { Description = "A file here with a script that has to end with 0; what it prints as name=value are figures. It is run on the hosts." };
    private readonly Option<string?> certificate = new("--certificate") { Description = "A file, or a host and port, whose certificate has to be valid; its figure is 'left'." };
    private readonly Option<string?> lines = new("--lines") { Description = "With --log: a regular expression." };
    private readonly Option<string?> with = new("--with") { Description = "With --program: a text its command line has to hold; with --web: a text the answer has to hold." };
    private readonly Option<string?> every = new("--every") { Description = "From look to look; a minute when left out." };
    private readonly Option<string?> within = new("--within") { Description = "How long one look may take; 10 s when left out." };
    private readonly Option<string?> grace = new("--grace") { Description = "How long after the host's start, and after help, a failure does not count; a minute when left out." };
    private readonly Option<bool> restart = new("--restart") { Description = "The agent starts the service again, three times an hour at most." };
    private readonly Option<FileInfo?> help = new("--help-script") { Description = "A file here with a script that the agent runs when it has failed, three times an hour at most." };

    public void AddTo(Command command, bool act)
    {
        command.Add(service, program, port, web, ping, log, script, certificate, lines, with, every, within);
        if (act)
        {
            command.Add(grace, restart, help);
        }
    }

    /// <returns>Null when none of them is given.</returns>
    public Probe? Read(ParseResult parsed)
    {
        (ProbeKind Kind, string? Target)[] kinds =
        [
            (ProbeKind.Service, parsed.GetValue(service)), (ProbeKind.Program, parsed.GetValue(program)), (ProbeKind.Port, parsed.GetValue(port)), (ProbeKind.Web, parsed.GetValue(web)),
            (ProbeKind.Ping, parsed.GetValue(ping)), (ProbeKind.Log, parsed.GetValue(log)), (ProbeKind.Script, parsed.GetValue(script)?.FullName), (ProbeKind.Certificate, parsed.GetValue(certificate)),
        ];
        var given = kinds.Where(k => k.Target is not null).ToList();
        var (pattern, holds) = (parsed.GetValue(lines), parsed.GetValue(with));
        if (given.Count == 0)
        {
            return parsed.GetValue(restart) || parsed.GetValue(help) is not null || pattern is not null || holds is not null || parsed.GetValue(every) is not null
                ? throw new ClientException("Say what the hosts' agents look at: --service, --program, --port, --web, --ping, --log, --script or --certificate.", ExitCodes.WrongUse) : null;
        }
        if (given.Count > 1)
        {
            throw new ClientException($"One check looks at one thing; here are {string.Join(" and ", given.Select(g => "--" + g.Kind.ToString().ToLowerInvariant()))}. Make a check of each.", ExitCodes.WrongUse);
        }
        var (kind, target) = given[0];
        if ((pattern is not null && kind != ProbeKind.Log) || (holds is not null && kind is not (ProbeKind.Program or ProbeKind.Web)))
        {
            throw new ClientException(pattern is not null && kind != ProbeKind.Log ? "--lines goes with --log." : "--with goes with --program or --web.", ExitCodes.WrongUse);
        }
        if (parsed.GetValue(restart) && parsed.GetValue(help) is not null)
        {
            throw new ClientException("Say --restart or --help-script, not both.", ExitCodes.WrongUse);
        }
        return new Probe(
            kind, kind == ProbeKind.Script ? "" : target!, kind == ProbeKind.Script ? Text(parsed.GetValue(script)!) : pattern ?? holds,
            Seconds(every, 60), Seconds(within, 10), Seconds(grace, 60),
            parsed.GetValue(restart) ? ProbeAct.Restart : parsed.GetValue(help) is not null ? ProbeAct.Script : ProbeAct.None,
            parsed.GetValue(help) is { } helping ? Text(helping) : null);

        double Seconds(Option<string?> option, double otherwise) => parsed.GetResult(option) is not null && parsed.GetValue(option) is { } typed ? Typed.Span(typed).TotalSeconds : otherwise;
    }

    private static string Text(FileInfo file)
    {
        try
        {
            return file.Exists && file.Length > 64 * 1024 ? throw new ClientException($"{file} is no script: it has {file.Length} bytes.") : File.ReadAllText(file.FullName);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new ClientException($"{file} can't be read: {e.Message}");
        }
    }
}
