using System.Net;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;

namespace Umbrek.Service.Hosting;

/// <summary>Where the service listens.</summary>
public sealed record ListenAddress(IPAddress Address, int Port, bool Tls)
{
    /// <summary>
    /// Reads "ADDRESS:PORT" (HTTPS), "https://ADDRESS:PORT" or "http://ADDRESS:PORT"; an address is an IP address, "localhost" or "*".
    /// </summary>
    /// <exception cref="FormatException">With a sentence that says what to write.</exception>
    public static ListenAddress Parse(string text)
    {
        var tls = !text.StartsWith("http://", StringComparison.OrdinalIgnoreCase);
        var rest = text[(text.IndexOf("://", StringComparison.Ordinal) is var at && at >= 0 ? at + 3 : 0)..].TrimEnd('/');
        var colon = rest.LastIndexOf(':');
        if (colon < 1 || !ushort.TryParse(rest[(colon + 1)..], out var port))
        {
            throw new FormatException($"'{text}' is no address to listen on; write it like 127.0.0.1:8443 or [::]:8443.");
        }
        var host = rest[..colon].Trim('[', ']');
        var address = host switch
        {
            "localhost" => IPAddress.Loopback,
            "*" => IPAddress.IPv6Any,
            _ => IPAddress.TryParse(host, out var parsed) ? parsed : throw new FormatException($"'{host}' is no IP address; write an address of this machine, 'localhost' or '*'."),
        };
        return !tls && !IPAddress.IsLoopback(address)
            ? throw new FormatException($"Plain http is for this machine itself only, and {address} is reachable from others. Leave out 'http://'.")
            : new ListenAddress(address, port, tls);
    }

    public override string ToString() =>
        $"{(Tls ? "https" : "http")}://{(Address.Equals(IPAddress.Loopback) ? "localhost" : Address.AddressFamily == System.Net.Sockets.AddressFamily.InterNetworkV6 ? $"[{Address}]" : Address)}:{Port}";
}

/// <summary>How a service was asked to run.</summary>
public sealed record ServiceOptions
{
    public required string DataDirectory { get; init; }
    public IReadOnlyList<ListenAddress> Listen { get; init; } = [];

    /// <summary>Nobody comes without TLS.</summary>
    public bool IsAllTls => Listen.All(l => l.Tls);

    /// <summary>A PostgreSQL connection string; null is the embedded database in the data directory.</summary>
    public string? Database { get; init; }

    /// <summary>PEM files; null is a certificate that the service makes itself.</summary>
    public string? CertificateFile { get; init; }
    public string? CertificateKeyFile { get; init; }

    /// <summary>The console's built files; null looks beside the program.</summary>
    public string? ConsoleDirectory { get; init; }
    /// <summary>The agent programs that are handed out, one directory for each system; null looks beside the program.</summary>
    public string? AgentDirectory { get; init; }

    /// <summary>Rounds of PBKDF2 with HMAC-SHA-512 for passwords: what OWASP advises. Older hashes are renewed when their password is typed.</summary>
    public int PasswordIterations { get; init; } = 210_000;

    /// <summary>Whom technicians may sign in with besides their passwords; null is nobody.</summary>
    public SingleSignOnProvider? SingleSignOn { get; init; }

    /// <summary>Where the audit log is forwarded to; null is nowhere.</summary>
    public SyslogTarget? Syslog { get; init; }

    /// <summary>PEM file of the authorities that may vouch for that receiver; null is those of the system.</summary>
    public string? SyslogAuthorityFile { get; init; }

    /// <summary>API calls that one account, or one address without an account, may make a second over time; 0 is any number.</summary>
    public int CallsPerSecond { get; init; } = CallLimit.DefaultPerSecond;

    /// <summary>Networks that web hooks may reach besides what everybody can reach: receivers of one's own house.</summary>
    public IReadOnlyList<IPNetwork> HooksMayReach { get; init; } = [];

    /// <summary>Where figures are sent to; null is nowhere.</summary>
    public Health.OtlpTarget? Otlp { get; init; }
    /// <summary>How long recordings are kept, from their end on.</summary>
    public int RecordingDays { get; init; } = 90;

    /// <summary>How long the output of commands is kept, from their end on.</summary>
    public int OutputDays { get; init; } = 365;

    /// <summary>Most bytes of one recording's text; a shell that goes on behind it is recorded anew.</summary>
    public long RecordingBytes { get; init; } = 64 * 1024 * 1024;

    /// <summary>Most bytes of one recorded desktop; what goes on behind it is recorded anew.</summary>
    public long ScreenRecordingBytes { get; init; } = 1024L * 1024 * 1024;
    public int SampleIntervalSeconds { get; init; } = Core.Health.SampleRules.DefaultIntervalSeconds;

    public string PathOf(string name) => Path.Combine(DataDirectory, name);
}
