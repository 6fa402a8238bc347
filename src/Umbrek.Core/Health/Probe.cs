using System.Text.Json.Serialization;
using System.Text.RegularExpressions;
using Umbrek.Core.Access;
using Umbrek.Core.Text;

namespace Umbrek.Core.Health;

/// <summary>What the agent looks at for a check.</summary>
public enum ProbeKind
{
    /// <summary>A service of the system has to run.</summary>
    Service,

    /// <summary>A program has to run, whoever started it.</summary>
    Program,

    /// <summary>A TCP port has to take connections.</summary>
    Port,

    /// <summary>An address of the web has to answer well, over HTTP or HTTPS.</summary>
    Web,

    /// <summary>A host has to answer ICMP echoes (RFC 792, RFC 4443).</summary>
    Ping,

    /// <summary>A file must not get lines like this.</summary>
    Log,

    /// <summary>A script has to end with status 0; what it prints as <c>name=value</c> are its figures.</summary>
    Script,

    /// <summary>A certificate, in a file or shown at a port, has to be valid.</summary>
    Certificate,
}

/// <summary>What the agent does when a probe has failed.</summary>
public enum ProbeAct
{
    None,

    /// <summary>Starts the service again.</summary>
    Restart,

    /// <summary>Runs <see cref="Probe.ActScript"/>.</summary>
    Script,
}

/// <summary>Something that the agent itself looks at, again and again, linked or not.</summary>
/// <param name="Target">The service, the program, host:port, the web address, the host, or the file.</param>
/// <param name="Text">For a program what its command line has to hold, for a web address what the answer has to hold, for a log the pattern, for a script the script.</param>
/// <param name="EverySeconds">From look to look.</param>
/// <param name="TimeoutSeconds">How long one look may take.</param>
/// <param name="GraceSeconds">How long after the host's start, and after an act, a failure does not count yet.</param>
/// <param name="ActScript">With <see cref="ProbeAct.Script"/>.</param>
public sealed record Probe(ProbeKind Kind, string Target, string? Text = null, double EverySeconds = 60, double TimeoutSeconds = 10, double GraceSeconds = 60, ProbeAct Act = ProbeAct.None, string? ActScript = null)
{
    public const int MaxScriptBytes = 8 * 1024;
    public const int MaxPattern = 500;
    private const int MaxTarget = 500;
    public static readonly TimeSpan LeastEvery = TimeSpan.FromSeconds(10);
    public static readonly TimeSpan MostEvery = TimeSpan.FromDays(1);
    public static readonly TimeSpan MostTimeout = TimeSpan.FromMinutes(5);

    /// <summary>How long a match in a log counts.</summary>
    public static readonly TimeSpan MatchCounts = TimeSpan.FromMinutes(10);

    /// <summary>A line takes no longer than this to be held against a pattern: one that runs away is stopped.</summary>
    public static readonly TimeSpan PatternWithin = TimeSpan.FromMilliseconds(100);

    /// <summary>What the host has to allow for a look; null when every host does.</summary>
    [JsonIgnore]
    public HostAct? Needs => Kind switch { ProbeKind.Script => HostAct.Run, ProbeKind.Log => HostAct.ReadFiles, _ => null };

    /// <summary>Figures that limits may speak of; null when a script names its own.</summary>
    [JsonIgnore]
    public IReadOnlyList<string>? Figures => Kind switch
    {
        ProbeKind.Program => ["count"],
        ProbeKind.Port => ["took"],
        ProbeKind.Web => ["status", "took"],
        ProbeKind.Ping => ["lost", "took"],
        ProbeKind.Log => ["lines"],
        ProbeKind.Certificate => ["left"],
        ProbeKind.Script => null,
        _ => [],
    };

    /// <returns>The same without what means nothing for its kind; null with what is wrong with it, and what to do.</returns>
    public Probe? Normalise(out string problem)
    {
        problem = Problem() ?? "";
        return problem.Length > 0 ? null : this with
        {
            Target = Kind == ProbeKind.Script ? "" : Target.Trim(),
            Text = Kind is ProbeKind.Program or ProbeKind.Web or ProbeKind.Log or ProbeKind.Script && !string.IsNullOrEmpty(Text) ? Text.Replace("\r\n", "\n") : null,
            ActScript = Act == ProbeAct.Script ? ActScript!.Replace("\r\n", "\n") : null,
        };
    }

    /// <summary>What raises it, in words.</summary>
    public string Describe() => Kind switch
    {
        ProbeKind.Service => $"service {Target} does not run",
        ProbeKind.Program => $"program {Target}{(Text is null ? "" : $" with '{Text}'")} does not run",
        ProbeKind.Port => $"port {Target} takes no connection",
        ProbeKind.Web => $"{Target} does not answer well{(Text is null ? "" : $", or without '{Text}'")}",
        ProbeKind.Ping => $"{Target} does not answer",
        ProbeKind.Log => $"{Target} gets a line like {Text}",
        ProbeKind.Script => "the script does not end with 0",
        _ => $"the certificate of {Target} is not valid",
    };

    private string? Problem()
    {
        if (!Enum.IsDefined(Kind) || !Enum.IsDefined(Act))
        {
            return $"A probe is one of {string.Join(", ", Enum.GetNames<ProbeKind>().Select(n => n.ToLowerInvariant()))}.";
        }
        if (!(EverySeconds >= LeastEvery.TotalSeconds && EverySeconds <= MostEvery.TotalSeconds))
        {
            return $"A probe looks every {Units.Span(LeastEvery)} at most and every {Units.Span(MostEvery)} at least.";
        }
        if (!(TimeoutSeconds >= 1 && TimeoutSeconds <= MostTimeout.TotalSeconds))
        {
            return $"One look may take 1 s at least and {Units.Span(MostTimeout)} at most.";
        }
        if (!(GraceSeconds >= 0 && GraceSeconds <= 3600))
        {
            return "The grace after a start is an hour at most.";
        }
        var target = Target?.Trim() ?? "";
        if (target.Length > MaxTarget || target.Any(char.IsControl))
        {
            return $"What the probe looks at has {MaxTarget} characters at most, and none that are invisible.";
        }
        return OfKind(target) ?? OfAct();
    }

    private string? OfKind(string target) => Kind switch
    {
        ProbeKind.Service => IsServiceName(target) ? null : "Name the service, for example: ticket-print.",
        ProbeKind.Program => target.Length > 0 ? null : "Name the program, for example: tillserver, or the whole path /opt/till/tillserver.",
        ProbeKind.Port => HostAndPort.Read(target) is not null ? null : "Name a host and its port, for example: printer-2.quay.example:9100, or [2001:db8::5]:9100.",
        ProbeKind.Web => Uri.TryCreate(target, UriKind.Absolute, out var url) && url.Scheme is "http" or "https" && url.UserInfo.Length == 0 && url.Host.Length > 0 ? null
            : "Give the whole address without a name or password in it, for example: https://tickets.example/health.",
        ProbeKind.Ping => HostAndPort.IsHost(target) ? null : "Name a host or its address, for example: 198.51.100.1.",
        ProbeKind.Log => !target.StartsWith('/') ? "Give the whole path of the log, for example: /var/log/till.log." : PatternProblem(Text),
        ProbeKind.Script => ScriptProblem(Text, "script"),
        _ => target.StartsWith('/') || HostAndPort.Read(target) is not null ? null : "Give the whole path of the certificate's file, or a host and port that shows it: tickets.example:443.",
    };

    private string? OfAct() => Act switch
    {
        ProbeAct.Restart when Kind != ProbeKind.Service => "Only a service can be restarted. Have a script do what helps here.",
        ProbeAct.Script => ScriptProblem(ActScript, "script that helps"),
        _ => null,
    };

    private static string? PatternProblem(string? pattern)
    {
        if (string.IsNullOrEmpty(pattern))
        {
            return "Say what such lines look like, as a regular expression: error|failed.";
        }
        if (pattern.Length > MaxPattern)
        {
            return $"The pattern has {pattern.Length} characters; {MaxPattern} is the most.";
        }
        try
        {
            _ = new Regex(pattern, RegexOptions.CultureInvariant, PatternWithin);
            return null;
        }
        catch (ArgumentException e)
        {
            return $"The pattern can't be read: {e.Message.TrimEnd('.')}.";
        }
    }

    private static string? ScriptProblem(string? script, string what) =>
        string.IsNullOrWhiteSpace(script) ? $"Give the {what}."
        : script.Contains('\0') ? $"The {what} holds a zero character, which no system accepts; leave it out."
        : System.Text.Encoding.UTF8.GetByteCount(script) is var bytes && bytes > MaxScriptBytes ? $"The {what} has {bytes} bytes; {MaxScriptBytes} is the most. Put longer work into a file on the host." : null;

    /// <summary>As systemd.unit(5) allows, which is more than init scripts are called; never what a command takes for an option.</summary>
    private static bool IsServiceName(string name) => name.Length is > 0 and <= 200 && name[0] != '-' && name[0] != '.' && name.All(c => char.IsAsciiLetterOrDigit(c) || c is ':' or '-' or '_' or '.' or '@' or '\\');
}

/// <summary>A host and a TCP port, as in RFC 3986, 3.2: an IPv6 address stands in brackets.</summary>
public readonly record struct HostAndPort(string Host, int Port)
{
    public static HostAndPort? Read(string text)
    {
        var colon = text.LastIndexOf(':');
        if (colon < 1 || !int.TryParse(text.AsSpan(colon + 1), System.Globalization.NumberStyles.None, System.Globalization.CultureInfo.InvariantCulture, out var port) || port is < 1 or > 65535)
        {
            return null;
        }
        var host = text[..colon];
        var bracketed = host.StartsWith('[') && host.EndsWith(']');
        host = bracketed ? host[1..^1] : host;
        return IsHost(host) && bracketed == host.Contains(':') ? new HostAndPort(host, port) : null;
    }

    public static bool IsHost(string text) => text.Length <= 253 && !text.StartsWith('-') && Uri.CheckHostName(text) is UriHostNameType.Dns or UriHostNameType.IPv4 or UriHostNameType.IPv6;
}
