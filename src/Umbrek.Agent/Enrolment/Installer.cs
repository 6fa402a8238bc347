using Umbrek.Agent.Access;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Core.Text;

namespace Umbrek.Agent.Enrolment;

/// <summary>Puts the agent onto this host, and takes it off again without a trace.</summary>
public sealed class Installer(StateDirectory state, string directory, IHostPlatform platform, IServiceKeeper keeper, TimeProvider time, Action<string> say)
{
    private static readonly string[] ProxyVariables = ["HTTPS_PROXY", "https_proxy", "ALL_PROXY", "all_proxy", "NO_PROXY", "no_proxy"];
    private static readonly TimeSpan FirstLinkWithin = TimeSpan.FromSeconds(30);

    /// <summary>
    /// Program first, for that shows whether the place is usable; then the enrolment; then the service that starts it. What fails
    /// before the enrolment is taken back.
    /// </summary>
    /// <param name="handy">A link for typing <c>umbrek-agent</c>.</param>
    /// <returns>What to tell the person.</returns>
    public async Task<string> InstallAsync(Uri service, string token, string? label, Func<AccessKeyChoice> accessKey, TimeSpan patience, string handy, CancellationToken cancel)
    {
        NeedRoot("Installing");
        Enroller.ReadToken(token);
        Enroller.CheckAddress(service);
        var before = AgentIdentity.Load(state);
        if (before is not null && before.Service != service)
        {
            throw new EnrolmentException($"This host is enrolled already, as {before.Label} ({before.GroupPath}) with {before.Service}. To move it to {service} uninstall it first: umbrek-agent uninstall");
        }
        var installation = new Installation(directory, keeper.Name);
        var fresh = !Directory.Exists(directory);
        string version;
        try
        {
            version = installation.Place(Environment.ProcessPath ?? throw new IOException("The agent does not know its own file."), AgentVersion.Text);
        }
        catch (IOException e)
        {
            throw new EnrolmentException($"{e.Message} Nothing was installed. Free or remount it, or choose another place with --directory.");
        }
        var waits = false;
        if (before is null)
        {
            try
            {
                var (_, joined) = await new Enroller(state, platform).EnrolPatientlyAsync(service, token, label, accessKey(), patience, time, say, cancel).ConfigureAwait(false);
                waits = joined == Core.Enrolment.EnrolmentState.Waiting;
            }
            catch when (fresh)
            {
                Directory.Delete(directory, recursive: true);
                throw;
            }
        }
        installation.PointTo(version);
        File.Delete(installation.TrialFile);
        var environment = ProxyVariables.Select(v => KeyValuePair.Create(v, Environment.GetEnvironmentVariable(v))).Where(v => !string.IsNullOrEmpty(v.Value)).ToDictionary(v => v.Key, v => v.Value!);
        WriteLaunch(installation, LaunchScript.Text(directory, state.Path, environment, keeper.LogFile));
        installation.Save(state);
        Link(handy, installation.Program);
        keeper.Install(installation);
        keeper.Start(installation);
        return await DescribeAsync(installation, waits, cancel).ConfigureAwait(false);
    }

    /// <summary>Ends and delivers what runs by order, tells the service, and removes everything.</summary>
    /// <returns>What to tell the person.</returns>
    public async Task<string> UninstallAsync(TimeSpan patience, string handy, CancellationToken cancel)
    {
        NeedRoot("Uninstalling");
        var installation = Installation.Load(state);
        var identity = AgentIdentity.Load(state);
        if (installation is null && identity is null)
        {
            throw new EnrolmentException($"No agent is installed here (looked in {state.Path}).");
        }
        if (installation is not null)
        {
            keeper.Stop(installation);
        }
        var told = true;
        if (identity is not null)
        {
            using var alone = state.TryLock() ?? throw new EnrolmentException($"An agent still runs with {state.Path} that was not started by the system. Stop it, then uninstall again.");
            var log = new StringWriter();
            told = await new AgentRuntime(identity, state, platform, time, new AgentLog(log, time)).LeaveAsync(patience, cancel).ConfigureAwait(false);
        }
        if (installation is not null)
        {
            keeper.Remove(installation);
            if (new FileInfo(handy).LinkTarget == installation.Program)
            {
                File.Delete(handy);
            }
            Directory.Delete(installation.Directory, recursive: true);
        }
        Directory.Delete(state.Path, recursive: true);
        HostLimit.Remove(state.LimitFile);
        return told
            ? $"Removed. The service knows that {identity?.Label ?? "this computer"} left."
            : $"Removed. The service could not be told within {Units.Span(patience)}; it shows {identity!.Label} as lost until somebody there retires it.";
    }

    private async Task<string> DescribeAsync(Installation installation, bool waits, CancellationToken cancel)
    {
        var began = time.GetTimestamp();
        StatusReport report;
        do
        {
            await Task.Delay(20, cancel).ConfigureAwait(false);
            report = StatusCommand.Read(state, time.GetUtcNow());
        }
        while (!(report is { Running: true, Link.State: LinkState.Linked or LinkState.AwaitingApproval or LinkState.Refused }) && time.GetElapsedTime(began) < FirstLinkWithin);
        var identity = AgentIdentity.Load(state)!;
        var where = $"{identity.Label} in {identity.GroupPath.Replace("/", " ▸ ")}";
        var lasting = installation.KeptBy == "nothing"
            ? $"\nThis system has neither systemd nor init scripts: after a restart start it with: sh {installation.Launch}"
            : "";
        return (report.Link?.State, waits) switch
        {
            (LinkState.Linked, _) => $"Installed. This computer is {where}, and linked.{lasting}",
            (LinkState.AwaitingApproval, _) or (_, true) => $"Installed. This computer waits to be let in as {where}; nothing more is to be done here.{lasting}",
            _ => $"Installed as {where}, but there is no link yet: {report.Problem ?? "it is still connecting"} 'umbrek-agent status' tells more.{lasting}",
        };
    }

    private static void WriteLaunch(Installation installation, string text)
    {
        // For its owner alone: a proxy's address may hold a password.
        var making = installation.Launch + ".new";
        File.Delete(making);
        using (var stream = OwnerOnly.CreateFile(making))
        {
            stream.Write(System.Text.Encoding.UTF8.GetBytes(text));
            stream.Flush(flushToDisk: true);
        }
        File.Move(making, installation.Launch, overwrite: true);
    }

    private static void Link(string handy, string program)
    {
        if (new FileInfo(handy) is { LinkTarget: not null } || !File.Exists(handy))
        {
            Directory.CreateDirectory(Path.GetDirectoryName(handy)!);
            File.Delete(handy);
            File.CreateSymbolicLink(handy, program);
        }
    }

    private static void NeedRoot(string act)
    {
        if (!Environment.IsPrivilegedProcess)
        {
            throw new EnrolmentException($"{act} needs root: put sudo in front.");
        }
    }
}
