using System.Diagnostics;
using Umbrek.Agent.Inventory;
using Umbrek.Core.Inventory;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>
/// What programs of the system have to be asked for: failed services (systemctl) at each look, pending updates (apt-get) once an hour and in the background, for
/// that takes seconds.
/// </summary>
public sealed class LinuxUpkeep(TimeProvider time)
{
    private static readonly TimeSpan UpdatesEvery = TimeSpan.FromHours(1);
    private static readonly TimeSpan Within = TimeSpan.FromSeconds(60);

    /// <summary>A host that has just begun has better things to do than to count updates.</summary>
    private static readonly TimeSpan FirstAfter = TimeSpan.FromMinutes(1);
    private const int MostUnits = 32;
    private const int MostLines = 20_000;

    private readonly Lock gate = new();
    private (int All, int Security)? updates;
    private DateTimeOffset? beganAt;
    private DateTimeOffset updatesAt;
    private bool looking;

    public void AddTo(FactList facts)
    {
        if (Directory.Exists("/run/systemd/system") && Ask("systemctl", "list-units", "--failed", "--plain", "--no-legend", "--no-pager") is { } failed)
        {
            facts.Add(FactNames.ServicesFailed, ReadFailed(failed));
        }
        BeginUpdates();
        lock (gate)
        {
            if (updates is { } known)
            {
                facts.Add(FactNames.UpdatesPending, known.All);
                facts.Add(FactNames.UpdatesSecurity, known.Security);
            }
        }
    }

    /// <summary>Units of lines like "ticket-print.service loaded failed failed Prints tickets".</summary>
    public static IReadOnlyList<string> ReadFailed(IEnumerable<string> lines) =>
        [.. lines.Select(l => l.TrimStart('●', '*', ' ').Split(' ', StringSplitOptions.RemoveEmptyEntries).FirstOrDefault()).OfType<string>().Take(MostUnits)];

    /// <summary>Counts lines of a simulated upgrade, like "Inst libssl3 [3.0.1] (3.0.2 Debian-Security:12/stable-security [amd64])".</summary>
    public static (int All, int Security) ReadUpdates(IEnumerable<string> lines)
    {
        var (all, security) = (0, 0);
        foreach (var line in lines.Where(l => l.StartsWith("Inst ", StringComparison.Ordinal)))
        {
            all++;
            security += line.Contains("-security", StringComparison.OrdinalIgnoreCase) ? 1 : 0;
        }
        return (all, security);
    }

    private void BeginUpdates()
    {
        lock (gate)
        {
            beganAt ??= time.GetUtcNow();
            if (looking || time.GetUtcNow() - beganAt < FirstAfter || (updatesAt != default && time.GetUtcNow() - updatesAt < UpdatesEvery) || !File.Exists("/usr/bin/apt-get"))
            {
                return;
            }
            (looking, updatesAt) = (true, time.GetUtcNow());
        }
        var asking = new Thread(() =>
        {
            // Nothing is fetched and nothing is locked: this is what the package lists that are there say.
            var lines = Ask("nice", "-n", "19", "apt-get", "--simulate", "--quiet", "-o", "Debug::NoLocking=true", "upgrade");
            lock (gate)
            {
                looking = false;
                updates = lines is null ? updates : ReadUpdates(lines);
            }
        })
        { IsBackground = true, Name = "look for updates" };
        asking.Start();
    }

    /// <returns>Its lines, or null when it could not be run or failed.</returns>
    private static List<string>? Ask(string program, params string[] arguments)
    {
        try
        {
            using var process = Process.Start(new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true, RedirectStandardError = true, RedirectStandardInput = true, Environment = { ["LC_ALL"] = "C" } })!;
            process.StandardInput.Close();
            process.ErrorDataReceived += (_, _) => { };
            process.BeginErrorReadLine();
            using var limit = new Timer(_ => Kill(process), null, Within, Timeout.InfiniteTimeSpan);
            var lines = new List<string>();
            while (process.StandardOutput.ReadLine() is { } line)
            {
                if (lines.Count < MostLines)
                {
                    lines.Add(line);
                }
            }
            process.WaitForExit();
            return process.ExitCode == 0 ? lines : null;
        }
        catch (Exception e) when (e is System.ComponentModel.Win32Exception or IOException or InvalidOperationException)
        {
            return null;
        }
    }

    private static void Kill(Process process)
    {
        try
        {
            process.Kill(entireProcessTree: true);
        }
        catch (Exception e) when (e is InvalidOperationException or System.ComponentModel.Win32Exception)
        {
            // It has ended meanwhile.
        }
    }
}
