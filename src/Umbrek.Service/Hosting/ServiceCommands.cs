using System.CommandLine;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.OpenApi;
using Umbrek.Core.Audit;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Hosting;

/// <summary>The service's command line.</summary>
public static class ServiceCommands
{
    private const int Failed = 1;
    private const ulong EnoughDescriptors = 20_000;

    /// <param name="adjust">What else is done with the application before it is built; null is nothing.</param>
    public static RootCommand Build(Action<WebApplicationBuilder>? adjust = null)
    {
        var root = new RootCommand("The Umbrek service: knows the hosts, sends them work, keeps what they say, and serves the console.");
        root.Subcommands.Add(Serve(adjust));
        root.Subcommands.Add(VerifyAudit());
        root.Subcommands.Add(OpenApi());
        return root;
    }

    private static Command Serve(Action<WebApplicationBuilder>? adjust)
    {
        var data = new Option<string>("--data") { Description = "Directory for the database, certificate and keys; made when it is missing.", Required = true };
        var listen = new Option<string[]>("--listen") { Description = "Address and port for HTTPS, for example 0.0.0.0:8443; http://127.0.0.1:PORT for plain HTTP on this machine. May be given more than once.", DefaultValueFactory = _ => ["127.0.0.1:8443"] };
        var database = new Option<string?>("--database") { Description = "PostgreSQL connection string; also read from UMBREK_DATABASE. Without it an embedded database in the data directory is used." };
        var certificate = new Option<string?>("--certificate") { Description = "PEM file of a certificate (with its chain) to use instead of one made at the first start." };
        var certificateKey = new Option<string?>("--certificate-key") { Description = "PEM file of that certificate's private key." };
        var console = new Option<string?>("--console") { Description = "Directory of the console's built files; looked for beside the program by default." };
        var agents = new Option<string?>("--agents") { Description = "Directory of the agent programs to hand out, one folder for each system; looked for beside the program by default." };
        var interval = new Option<int>("--sample-interval") { Description = "Seconds between two health samples of a host.", DefaultValueFactory = _ => Core.Health.SampleRules.DefaultIntervalSeconds };
        var calls = new Option<int>("--calls-per-second") { Description = "API calls a second that one account, or one address without an account, may make over time; 0 for any number.", DefaultValueFactory = _ => CallLimit.DefaultPerSecond };
        var hooks = new Option<string[]>("--hooks-may-reach") { Description = "A network that web hooks may reach though not everybody can, for example 10.20.0.0/16. May be given more than once." };
        var syslog = new Option<string?>("--syslog") { Description = "Forward the audit log to this syslog receiver: tls://HOST:PORT or tcp://HOST:PORT." };
        var syslogAuthority = new Option<string?>("--syslog-ca") { Description = "PEM file of the authority that vouches for the receiver; the system's are used by default." };
        var otlp = new Option<string?>("--otlp") { Description = "Send the figures of hosts and service to this OTLP collector over HTTP, for example https://collector.halyard.example:4318." };
        var otlpHeaders = new Option<string?>("--otlp-headers") { Description = "File with the headers that the collector wants, one NAME=VALUE a line." };
        var otlpEvery = new Option<int>("--otlp-every") { Description = "Seconds from one sending to the next.", DefaultValueFactory = _ => 60 };
        var recordings = new Option<int>("--recording-days") { Description = "How many days recordings of shells and desktops are kept.", DefaultValueFactory = _ => 90 };
        var outputs = new Option<int>("--output-days") { Description = "How many days the output of commands is kept.", DefaultValueFactory = _ => 365 };
        var sso = new Option<string?>("--sign-on") { Description = "Address of an OpenID Connect provider that technicians may sign in with, for example https://id.halyard.example" };
        var ssoClient = new Option<string?>("--sign-on-client") { Description = "This service's client id there." };
        var ssoSecret = new Option<string?>("--sign-on-secret") { Description = "File with the client's secret." };
        var ssoName = new Option<string?>("--sign-on-name") { Description = "What technicians call the provider; its address when left out." };
        var command = new Command("serve", "Runs the service until it is stopped. Example: umbrekd serve --data /var/lib/umbrek --listen 0.0.0.0:8443") { data, listen, database, certificate, certificateKey, console, agents, interval, calls, hooks, syslog, syslogAuthority, otlp, otlpHeaders, otlpEvery, recordings, outputs, sso, ssoClient, ssoSecret, ssoName };
        command.SetAction(async (parsed, cancel) =>
        {
            try
            {
                if ((parsed.GetValue(certificate) is null) != (parsed.GetValue(certificateKey) is null))
                {
                    throw new InvalidDataException("--certificate and --certificate-key belong together; give both or neither.");
                }
                if (parsed.GetValue(interval) is < 1 or > 3600)
                {
                    throw new InvalidDataException("--sample-interval is 1 to 3600 seconds.");
                }
                if (parsed.GetValue(calls) is < 0 or > 100_000)
                {
                    throw new InvalidDataException("--calls-per-second is 0 (any number) to 100000.");
                }
                if (parsed.GetValue(recordings) is < 1 or > 36_500)
                {
                    throw new InvalidDataException("--recording-days is 1 to 36500.");
                }
                if (parsed.GetValue(outputs) is < 1 or > 36_500)
                {
                    throw new InvalidDataException("--output-days is 1 to 36500.");
                }
                if (parsed.GetValue(syslogAuthority) is { } authority && !File.Exists(authority))
                {
                    throw new InvalidDataException($"There is no file {authority}; --syslog-ca names a PEM file.");
                }
                var options = new ServiceOptions
                {
                    DataDirectory = Path.GetFullPath(parsed.GetRequiredValue(data)),
                    Listen = [.. parsed.GetRequiredValue(listen).Select(ListenAddress.Parse)],
                    Database = parsed.GetValue(database) ?? Environment.GetEnvironmentVariable("UMBREK_DATABASE"),
                    CertificateFile = parsed.GetValue(certificate),
                    CertificateKeyFile = parsed.GetValue(certificateKey),
                    ConsoleDirectory = parsed.GetValue(console),
                    AgentDirectory = parsed.GetValue(agents),
                    SampleIntervalSeconds = parsed.GetValue(interval),
                    CallsPerSecond = parsed.GetValue(calls),
                    RecordingDays = parsed.GetValue(recordings),
                    OutputDays = parsed.GetValue(outputs),
                    HooksMayReach = [.. (parsed.GetValue(hooks) ?? []).Select(text => System.Net.IPNetwork.TryParse(text, out var network) ? network : throw new InvalidDataException($"'{text}' is no network; --hooks-may-reach takes one like 10.20.0.0/16 or 2001:db8:1::/48."))],
                    SingleSignOn = ReadProvider(parsed.GetValue(sso), parsed.GetValue(ssoClient), parsed.GetValue(ssoSecret), parsed.GetValue(ssoName)),
                    Syslog = parsed.GetValue(syslog) is { } receiver ? SyslogTarget.Parse(receiver) : null,
                    SyslogAuthorityFile = parsed.GetValue(syslogAuthority),
                    Otlp = ReadCollector(parsed.GetValue(otlp), parsed.GetValue(otlpHeaders), parsed.GetValue(otlpEvery)),
                };
                return await ServeAsync(options, parsed.InvocationConfiguration.Output, adjust, cancel).ConfigureAwait(false);
            }
            catch (Exception e) when (e is InvalidDataException or FormatException or IOException or UnauthorizedAccessException or System.Data.Common.DbException or ArgumentException or System.Net.Sockets.SocketException)
            {
                await parsed.InvocationConfiguration.Error.WriteLineAsync($"umbrekd can't start: {e.Message}").ConfigureAwait(false);
                return Failed;
            }
        });
        return command;
    }

    private static Health.OtlpTarget? ReadCollector(string? address, string? headers, int every)
    {
        if (address is null)
        {
            return headers is null ? null : throw new InvalidDataException("--otlp-headers goes with --otlp; give the collector's address too.");
        }
        if (!Uri.TryCreate(address, UriKind.Absolute, out var collector) || collector.Scheme is not ("http" or "https") || collector.UserInfo.Length > 0)
        {
            throw new InvalidDataException($"'{address}' is no collector's address; --otlp takes one like https://collector.halyard.example:4318.");
        }
        if (every is < 1 or > 3600)
        {
            throw new InvalidDataException("--otlp-every is 1 to 3600 seconds.");
        }
        var lines = headers is null ? [] : File.ReadAllLines(headers).Select(l => l.Trim()).Where(l => l.Length > 0).ToList();
        return lines.Find(l => l.IndexOf('=') < 1) is { } wrong
            ? throw new InvalidDataException($"{headers} holds the line '{wrong[..Math.Min(20, wrong.Length)]}'; each is NAME=VALUE.")
            : new Health.OtlpTarget(collector, lines.Count == 0 ? null : string.Join(',', lines.Select(l => l[..(l.IndexOf('=') + 1)] + Uri.EscapeDataString(l[(l.IndexOf('=') + 1)..]))), every);
    }

    private static SingleSignOnProvider? ReadProvider(string? address, string? client, string? secret, string? name)
    {
        if (address is null && client is null && secret is null)
        {
            return null;
        }
        if (address is null || client is null || secret is null)
        {
            throw new InvalidDataException("--sign-on, --sign-on-client and --sign-on-secret belong together; give all three or none.");
        }
        if (!Uri.TryCreate(address, UriKind.Absolute, out var authority) || (authority.Scheme != Uri.UriSchemeHttps && !authority.IsLoopback))
        {
            throw new InvalidDataException($"'{address}' is no address of a provider; write it like https://id.halyard.example");
        }
        return File.Exists(secret) ? new SingleSignOnProvider(name ?? authority.Host, authority, client, secret) : throw new InvalidDataException($"There is no file {secret}; --sign-on-secret names a file with the client's secret.");
    }

    private static async Task<int> ServeAsync(ServiceOptions options, TextWriter output, Action<WebApplicationBuilder>? adjust, CancellationToken cancel)
    {
        if (DataDirectory.Open(options.DataDirectory) is { } note)
        {
            await output.WriteLineAsync(note).ConfigureAwait(false);
        }
        await using var app = ServiceHost.Build(options, TimeProvider.System, adjust);
        var lifetime = app.Services.GetRequiredService<IHostApplicationLifetime>();
        using var stop = cancel.Register(lifetime.StopApplication);
        await ServiceHost.StartAsync(app, cancel).ConfigureAwait(false);
        await AnnounceAsync(app, options, output).ConfigureAwait(false);
        await app.WaitForShutdownAsync(CancellationToken.None).ConfigureAwait(false);
        return 0;
    }

    private static async Task AnnounceAsync(WebApplication app, ServiceOptions options, TextWriter output)
    {
        var key = app.Services.GetRequiredService<ServiceKey>();
        foreach (var address in options.Listen)
        {
            await output.WriteLineAsync($"listening {address}").ConfigureAwait(false);
        }
        await output.WriteLineAsync($"key {key.Fingerprint}").ConfigureAwait(false);
        if (DescriptorLimit() is { } limit && limit < EnoughDescriptors)
        {
            await output.WriteLineAsync($"note: this process may open {limit} files; each linked host takes two to three while it reconnects. Raise the limit (ulimit -n) for more than {limit / 3} hosts.").ConfigureAwait(false);
        }
        await using var scope = app.Services.CreateAsyncScope();
        if ((await scope.ServiceProvider.GetRequiredService<TechnicianService>().SetUpStateAsync(CancellationToken.None).ConfigureAwait(false)).Needed)
        {
            await output.WriteLineAsync($"set-up code {app.Services.GetRequiredService<SetUpCode>().Text}").ConfigureAwait(false);
            await output.WriteLineAsync("There is no technician yet. Open the console, or use 'umbrek set-up', and give this code to make the first one.").ConfigureAwait(false);
        }
        await output.WriteLineAsync("ready").ConfigureAwait(false);
    }

    private static ulong? DescriptorLimit()
    {
        try
        {
            // proc(5) /proc/self/limits: name, soft limit, hard limit, unit.
            var line = File.ReadLines("/proc/self/limits").FirstOrDefault(l => l.StartsWith("Max open files", StringComparison.Ordinal));
            return line is not null && ulong.TryParse(line[26..].Split(' ', StringSplitOptions.RemoveEmptyEntries)[0], out var limit) ? limit : null;
        }
        catch (IOException)
        {
            return null;
        }
    }

    private static Command VerifyAudit()
    {
        var data = new Option<string>("--data") { Description = "The service's data directory.", Required = true };
        var database = new Option<string?>("--database") { Description = "PostgreSQL connection string; also read from UMBREK_DATABASE." };
        var command = new Command("verify-audit", "Checks the audit log in the database, whether the service runs or not. Example: umbrekd verify-audit --data /var/lib/umbrek") { data, database };
        command.SetAction(async (parsed, cancel) =>
        {
            var options = new ServiceOptions { DataDirectory = Path.GetFullPath(parsed.GetRequiredValue(data)), Database = parsed.GetValue(database) ?? Environment.GetEnvironmentVariable("UMBREK_DATABASE") };
            if (options.Database is null && !File.Exists(options.PathOf(SqliteDatabase.FileName)))
            {
                await Console.Error.WriteLineAsync($"There is no database in {options.DataDirectory}. Give the service's data directory, or its --database.").ConfigureAwait(false);
                return Failed;
            }
            try
            {
                using var opened = ServiceHost.OpenDatabase(options);
                var verifier = new AuditVerifier();
                await foreach (var line in new AuditLog(opened, TimeProvider.System).ReadAsync(new AuditFilter(), cancel).ConfigureAwait(false))
                {
                    verifier.Take(new AuditEntry(line.Number, line.At, line.Actor, line.Address, line.Action, line.Target, line.Detail), Convert.FromHexString(line.Hash));
                }
                foreach (var finding in verifier.Findings)
                {
                    Console.WriteLine(Core.Text.TerminalText.Neutralise(finding.Text));
                }
                Console.WriteLine(verifier.Findings.Count > 0 ? $"The audit log is not as it was written ({verifier.Lines} lines checked)." : $"{verifier.Lines} lines, all as they were written.{(verifier.Last is { } last ? $" Last line {last.Number}, {last.Hash}" : "")}");
                return verifier.Findings.Count > 0 ? Failed : 0;
            }
            catch (Exception e) when (e is System.Data.Common.DbException or IOException or ArgumentException)
            {
                await Console.Error.WriteLineAsync($"The database can't be read: {e.Message}").ConfigureAwait(false);
                return Failed;
            }
        });
        return command;
    }

    private static Command OpenApi()
    {
        var command = new Command("openapi", "Prints the API's description (OpenAPI 3.1, JSON). Example: umbrekd openapi > openapi.json");
        command.SetAction(async (_, cancel) =>
        {
            // Routes are known once the application has started: a service of a moment, on a port of chance.
            var options = new ServiceOptions { DataDirectory = Directory.CreateTempSubdirectory("umbrek-openapi-").FullName, Listen = [ListenAddress.Parse("http://127.0.0.1:0")] };
            try
            {
                await using var app = ServiceHost.Build(options, TimeProvider.System);
                await ServiceHost.StartAsync(app, cancel).ConfigureAwait(false);
                var document = await app.Services.GetRequiredKeyedService<IOpenApiDocumentProvider>("v1").GetOpenApiDocumentAsync(cancel).ConfigureAwait(false);
                Console.WriteLine(await document.SerializeAsJsonAsync(OpenApiSpecVersion.OpenApi3_1, cancel).ConfigureAwait(false));
                await app.StopAsync(cancel).ConfigureAwait(false);
                return 0;
            }
            finally
            {
                Directory.Delete(options.DataDirectory, recursive: true);
            }
        });
        return command;
    }
}
