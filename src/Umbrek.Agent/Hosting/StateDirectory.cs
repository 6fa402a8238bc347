using System.Text.Json;
using System.Text.Json.Serialization.Metadata;

namespace Umbrek.Agent.Hosting;

/// <summary>Where the agent keeps its identity, its runs and its status. Only its owner may look inside.</summary>
public sealed class StateDirectory
{
    private const string RootsOwn = "/var/lib/umbrek-agent";

    /// <summary>The people's socket of an agent that was installed.</summary>
    public const string SharedPeopleSocket = "/run/umbrek-agent/people.sock";

    public StateDirectory(string path)
    {
        Path = System.IO.Path.GetFullPath(path);
        Runs = System.IO.Path.Combine(Path, "runs");
        Seen = System.IO.Path.Combine(Path, "seen");
    }

    public string Path { get; }
    public string Runs { get; }

    /// <summary>One directory for each shell that goes on.</summary>
    public string Shells => System.IO.Path.Combine(Path, "shells");

    /// <summary>One file for each screen that this host was given.</summary>
    public string Screens => System.IO.Path.Combine(Path, ScreensName);
    public const string ScreensName = "screens";

    /// <summary>What was deleted here and can be put back (the home trash of the Desktop Trash specification).</summary>
    public string Trash => System.IO.Path.Combine(Path, "trash");

    /// <summary>Which files are being written by technicians, or were when they broke off.</summary>
    public string PartsFile => System.IO.Path.Combine(Path, "parts");

    /// <summary>The same of a run that puts files here, which is a process of its own.</summary>
    public string PartsFileOf(Guid runId) => System.IO.Path.Combine(Path, $"parts-{runId:N}");

    /// <summary>Those of runs that have ended and left something half written.</summary>
    public IEnumerable<string> LeftPartsFiles() => Directory.EnumerateFiles(Path, "parts-*").Where(f => !Directory.Exists(System.IO.Path.Combine(Runs, System.IO.Path.GetFileName(f)["parts-".Length..])));

    /// <summary>The state directory that a run's directory lies in.</summary>
    public static StateDirectory OfRun(string runDirectory) => new(System.IO.Path.GetDirectoryName(System.IO.Path.GetDirectoryName(System.IO.Path.GetFullPath(runDirectory).TrimEnd('/'))!)!);

    /// <summary>One empty file for each run that was finished and acknowledged, so that no order is taken twice.</summary>
    public string Seen { get; }
    public string IdentityFile => System.IO.Path.Combine(Path, "identity.json");

    /// <summary>The key and token of an enrolment whose answer has not come yet: a repeated attempt is the same one.</summary>
    public string EnrollingFile => System.IO.Path.Combine(Path, "enrolling.json");

    /// <summary>The verifier of the host's access key.</summary>
    public string AccessKeyFile => System.IO.Path.Combine(Path, "access-key.json");

    /// <summary>The host policy that the service wants.</summary>
    public string WantedPolicyFile => System.IO.Path.Combine(Path, "wanted-policy.json");

    /// <summary>What the service wants looked at.</summary>
    public string ProbesFile => System.IO.Path.Combine(Path, "probes.json");

    /// <summary>What the computer's owner narrows that to, whatever the service wants. Beside root's other settings where this is root's own directory.</summary>
    public string LimitFile => Path == RootsOwn ? "/etc/umbrek-agent/limit.json" : System.IO.Path.Combine(Path, "limit.json");

    /// <summary>Where people at this computer answer the agent; outside its own directory where that is root's, for they are not root.</summary>
    public string PeopleSocket => Path == RootsOwn ? SharedPeopleSocket : System.IO.Path.Combine(Path, "people.sock");

    /// <summary>The verifier of the host's passcode.</summary>
    public string PasscodeFile => System.IO.Path.Combine(Path, "passcode.json");

    /// <summary>How often the access key or the passcode was wrong.</summary>
    public string LockoutFile => System.IO.Path.Combine(Path, "lockout.json");

    /// <summary>Where the agent was installed, when it was.</summary>
    public string InstallationFile => System.IO.Path.Combine(Path, "installation.json");
    public string StatusFile => System.IO.Path.Combine(Path, "status.json");
    private string LockFile => System.IO.Path.Combine(Path, "agent.lock");

    /// <summary>/var/lib/umbrek-agent for root, else below $XDG_STATE_HOME (XDG Base Directory Specification).</summary>
    public static string Default()
    {
        if (Environment.IsPrivilegedProcess)
        {
            return RootsOwn;
        }
        var state = Environment.GetEnvironmentVariable("XDG_STATE_HOME");
        return string.IsNullOrEmpty(state)
            ? System.IO.Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".local", "state", "umbrek-agent")
            : System.IO.Path.Combine(state, "umbrek-agent");
    }

    public void Create()
    {
        foreach (var directory in new[] { Path, Runs, Seen })
        {
            OwnerOnly.CreateDirectory(directory);
        }
    }

    /// <summary>Holds the directory for one agent; null when another agent has it.</summary>
    public IDisposable? TryLock()
    {
        try
        {
            return new FileStream(LockFile, FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
        }
        catch (IOException)
        {
            return null;
        }
    }

    /// <summary>True while an agent holds the directory.</summary>
    public bool IsHeld()
    {
        if (!File.Exists(LockFile))
        {
            return false;
        }
        using var taken = TryLock();
        return taken is null;
    }

    /// <summary>Replaces a file in one step, readable by its owner alone, and on disk before this returns.</summary>
    public static void WriteWhole(string file, ReadOnlySpan<byte> content)
    {
        var temporary = file + ".new";
        File.Delete(temporary);
        using (var stream = OwnerOnly.CreateFile(temporary))
        {
            stream.Write(content);
            stream.Flush(flushToDisk: true);
        }
        File.Move(temporary, file, overwrite: true);
    }

    public static void WriteWhole<T>(string file, T content, JsonTypeInfo<T> type) =>
        WriteWhole(file, JsonSerializer.SerializeToUtf8Bytes(content, type));
}
