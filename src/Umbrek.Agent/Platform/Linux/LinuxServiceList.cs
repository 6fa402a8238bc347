using System.Globalization;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Platform.Linux.Probes;
using Umbrek.Core.Jobs;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Lists services: units where systemd runs (systemctl(1)), else init scripts (LSB Core 5.0, 22.2 "Init Script Actions").</summary>
public sealed class LinuxServiceList : IServiceReader
{
    private const int MostOutput = 8 << 20;

    /// <summary>An init script that does not answer its "status" in this time does not tell.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);

    private static readonly HashSet<string> NoServices = new(["README", "skeleton", "rc", "rcS", "rc.local", "functions", "halt", "reboot", "single", "sendsigs", "umountfs", "umountroot", "umountnfs.sh"], StringComparer.Ordinal);

    private static readonly string[] Shown = ["Id", "Description", "LoadState", "ActiveState", "SubState", "Type", "UnitFileState", "MainPID", "MemoryCurrent", "StateChangeTimestamp"];

    public Task<IReadOnlyList<HostService>> ReadAsync(CancellationToken cancel) => LinuxServices.HasSystemd ? UnitsAsync(cancel) : ScriptsAsync(cancel);

    private static async Task<IReadOnlyList<HostService>> UnitsAsync(CancellationToken cancel)
    {
        var loaded = await RunAsync(["systemctl", "--no-pager", "--all", "--type=service", "--timestamp=unix", $"--property={string.Join(',', Shown)}", "show", "--", "*.service"], cancel).ConfigureAwait(false);
        var files = await RunAsync(["systemctl", "--no-pager", "--no-legend", "--plain", "--type=service", "list-unit-files"], cancel).ConfigureAwait(false);
        return ReadUnits(loaded, files);
    }

    /// <summary>Units that are loaded, as blocks of properties, and those of which only the file is known.</summary>
    /// <param name="files">Lines of a name, and whether it is enabled.</param>
    public static IReadOnlyList<HostService> ReadUnits(string loaded, string files)
    {
        var services = new SortedDictionary<string, HostService>(StringComparer.Ordinal);
        foreach (var block in loaded.Split("\n\n", StringSplitOptions.RemoveEmptyEntries))
        {
            var properties = block.Split('\n').Select(l => l.Split('=', 2)).Where(p => p.Length == 2).GroupBy(p => p[0]).ToDictionary(g => g.Key, g => g.First()[1].Trim());
            string Of(string property) => properties.GetValueOrDefault(property, "");
            // What others only speak of is not there.
            if (Of("LoadState") is "not-found" or "" || Of("Id").Length == 0)
            {
                continue;
            }
            var name = NameOf(Of("Id"));
            services[name] = new HostService(
                name, Of("Description") is { Length: > 0 } says ? says : null, StateOf(Of("ActiveState"), Of("SubState")), Of("LoadState") == "masked" ? ServiceStart.Never : StartOf(Of("UnitFileState")), Of("SubState"),
                Of("StateChangeTimestamp") is ['@', .. var seconds] && long.TryParse(seconds, CultureInfo.InvariantCulture, out var since) && since > 0 ? DateTimeOffset.FromUnixTimeSeconds(since) : null,
                int.TryParse(Of("MainPID"), CultureInfo.InvariantCulture, out var pid) && pid > 0 ? pid : null,
                long.TryParse(Of("MemoryCurrent"), CultureInfo.InvariantCulture, out var memory) && memory > 0 ? memory : null);
        }
        foreach (var line in files.Split('\n', StringSplitOptions.RemoveEmptyEntries))
        {
            var fields = line.Split(' ', StringSplitOptions.RemoveEmptyEntries);
            // A template is no service, and an alias another's name.
            if (fields.Length >= 2 && !fields[0].Contains("@.", StringComparison.Ordinal) && fields[1] != "alias" && fields[0].EndsWith(".service", StringComparison.Ordinal))
            {
                services.TryAdd(NameOf(fields[0]), new HostService(NameOf(fields[0]), null, ServiceState.Stopped, StartOf(fields[1]), "not loaded"));
            }
        }
        return [.. services.Values];
    }

    internal static string NameOf(string unit) => unit.EndsWith(".service", StringComparison.Ordinal) ? unit[..^".service".Length] : unit;

    private static ServiceState StateOf(string active, string sub) => active switch
    {
        "active" or "reloading" => sub == "exited" ? ServiceState.Done : ServiceState.Runs,
        "activating" => ServiceState.Starting,
        "deactivating" => ServiceState.Stopping,
        "failed" => ServiceState.Failed,
        "inactive" => ServiceState.Stopped,
        _ => ServiceState.Unknown,
    };

    private static ServiceStart StartOf(string unitFile) => unitFile switch
    {
        "enabled" or "enabled-runtime" => ServiceStart.WithSystem,
        "disabled" => ServiceStart.ByHand,
        "static" or "indirect" or "generated" or "transient" or "alias" or "linked" or "linked-runtime" => ServiceStart.ByOthers,
        "masked" or "masked-runtime" => ServiceStart.Never,
        _ => ServiceStart.Unknown,
    };

    private static async Task<IReadOnlyList<HostService>> ScriptsAsync(CancellationToken cancel)
    {
        if (!Directory.Exists(LinuxServices.InitScripts))
        {
            throw new IOException("This host has neither systemd nor init scripts; it does not tell of services.");
        }
        var services = new List<HostService>();
        foreach (var script in Directory.EnumerateFiles(LinuxServices.InitScripts).Where(f => !NoServices.Contains(Path.GetFileName(f)) && IsProgram(f)).Order(StringComparer.Ordinal))
        {
            var name = Path.GetFileName(script);
            services.Add(new HostService(name, Says(script), await StatusAsync(script, cancel).ConfigureAwait(false), IsStarted(name) ? ServiceStart.WithSystem : ServiceStart.ByHand));
        }
        return services;
    }

    private static bool IsProgram(string file) => OperatingSystem.IsLinux() && (File.GetUnixFileMode(file) & UnixFileMode.UserExecute) != 0;

    /// <summary>LSB Core 5.0, 22.2: 0 runs, 1 and 2 are dead and left something behind, 3 does not run.</summary>
    private static async Task<ServiceState> StatusAsync(string script, CancellationToken cancel)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(Patience);
        try
        {
            return (await LinuxScript.RunAsync([script, "status"], limit.Token).ConfigureAwait(false)).Status switch
            {
                0 => ServiceState.Runs,
                1 or 2 => ServiceState.Failed,
                3 => ServiceState.Stopped,
                _ => ServiceState.Unknown,
            };
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            return ServiceState.Unknown;
        }
        catch (IOException)
        {
            return ServiceState.Unknown;
        }
    }

    /// <summary>LSB Core 5.0, 22.3 "Comment Conventions for Init Scripts".</summary>
    private static string? Says(string script) =>
        File.ReadLines(script).Take(40).FirstOrDefault(l => l.StartsWith("# Short-Description:", StringComparison.Ordinal)) is { } line ? line["# Short-Description:".Length..].Trim() : null;

    /// <summary>A link "S20cups" in the directory of the usual run level.</summary>
    private static bool IsStarted(string name) =>
        Directory.Exists("/etc/rc2.d") && Directory.EnumerateFileSystemEntries("/etc/rc2.d", $"S??{name}").Any();

    private static async Task<string> RunAsync(IReadOnlyList<string> command, CancellationToken cancel)
    {
        var end = await LinuxScript.RunAsync(command, cancel, MostOutput).ConfigureAwait(false);
        return end.Status == 0 ? end.Output : throw new IOException($"systemctl did not tell of the services ({end.Status}): {end.Output.Trim().Split('\n')[0]}");
    }
}
