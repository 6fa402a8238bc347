using System.CommandLine;
using System.Text.Json;
using Umbrek.Agent.Access;
using Umbrek.Agent.Enrolment;
using Umbrek.Core.Access;
using Umbrek.Core.Text;

namespace Umbrek.Agent.Hosting;

/// <summary><c>umbrek-agent status</c>: one screen on whether this host is linked, to whom, what is allowed, and what is wrong.</summary>
public static class StatusCommand
{
    public static Command Status()
    {
        var state = AgentCommands.StateOption();
        var output = new Option<string>("--output") { Description = "text, or json for machines.", DefaultValueFactory = _ => "text" };
        output.AcceptOnlyFromAmong("text", "json");
        var command = new Command("status", "Says whether this host is linked, with whom, what is allowed, and what is wrong. Example: umbrek-agent status") { state, output };
        command.SetAction(parsed =>
        {
            try
            {
                var report = Read(new StateDirectory(parsed.GetRequiredValue(state)), TimeProvider.System.GetUtcNow());
                Console.WriteLine(parsed.GetValue(output) == "json" ? JsonSerializer.Serialize(report, AgentJson.Default.StatusReport) : Describe(report, TimeProvider.System.GetUtcNow()));
                return report.Problem is null ? 0 : AgentCommands.Failed;
            }
            catch (Exception e) when (e is InvalidDataException or IOException or UnauthorizedAccessException or JsonException)
            {
                return AgentCommands.Complain(e.Message);
            }
        });
        return command;
    }

    public static StatusReport Read(StateDirectory directory, DateTimeOffset now)
    {
        var identity = AgentIdentity.Load(directory);
        var installation = Installation.Load(directory);
        var link = File.Exists(directory.StatusFile) ? JsonSerializer.Deserialize(File.ReadAllBytes(directory.StatusFile), AgentJson.Default.AgentStatus) : null;
        var running = directory.IsHeld();
        var side = identity is null ? null : new HostRules(directory, identity.Allowed, new HostKeys(directory, null, TimeProvider.System), new AgentLog(TextWriter.Null, TimeProvider.System)).Side();
        var problem = identity is null
            ? File.Exists(directory.EnrollingFile)
                ? "joining was begun and not finished. Install or enrol again; it goes on where it was."
                : "this computer is not enrolled. Ask for an installer, or: umbrek-agent install --service URL --token TOKEN"
            : (running, link) switch
            {
                (false, _) => installation is null ? "the agent is not running. Start it: umbrek-agent run" : $"the agent is not running. Start it: {StartLine(installation)}",
                (true, null) => null,
                (true, { State: LinkState.Refused }) => $"the service refuses the link: {link!.Problem}",
                (true, { State: LinkState.Waiting }) => $"no link for {Units.Span(now - link!.Since)}: {link.Problem} It tries again by itself.",
                (true, { State: LinkState.AwaitingApproval }) => link!.Problem,
                _ => null,
            };
        return new StatusReport(
            identity is not null, running, directory.Path, identity?.Service, identity?.NewPin().ToString(), identity?.HostId, identity?.Label, identity?.GroupPath,
            side?.InForce, side?.HasAccessKey == true, side, installation, link, problem ?? side?.Problem);
    }

    private static string StartLine(Installation installation) => installation.KeptBy switch
    {
        "systemd" => "systemctl start umbrek-agent",
        "init script" => "/etc/init.d/umbrek-agent start",
        _ => $"sh {installation.Launch}",
    };

    private static string Describe(StatusReport report, DateTimeOffset now)
    {
        if (!report.Enrolled)
        {
            return $"Not enrolled (looked in {report.StateDirectory}).\nIn short: {report.Problem}";
        }
        var link = report.Link;
        var state = (report.Running, link) switch
        {
            (false, _) => "not running",
            (true, null) => "starting",
            (true, { State: LinkState.Linked }) => $"linked since {link!.Since.ToLocalTime():yyyy-MM-dd HH:mm:ss} ({Units.Span(now - link.Since)})",
            (true, { State: LinkState.Refused }) => "refused by the service",
            (true, { State: LinkState.AwaitingApproval }) => "waiting to be let in",
            (true, { State: LinkState.Waiting }) => "no link",
            _ => "connecting",
        };
        var side = report.Side!;
        var policy = side.InForce;
        var kept = report.Installation is null ? "run by hand"
            : report.Installation.KeptBy == "nothing" ? $"{report.Installation.Directory}; nothing starts it after a restart of this computer"
            : $"{report.Installation.Directory}, started by {(report.Installation.KeptBy == "systemd" ? "systemd" : "an init script")}";
        return $"""
            Agent      {state}
            Host       {report.Label} in {report.GroupPath}
            Service    {report.Service}
            Its key    {report.ServiceKey}
            Allowed    {(policy.Allowed.Count == 0 ? "nothing" : string.Join(", ", policy.Allowed.Select(HostPolicyWords.Describe)))}{(side.Limit is null ? "" : "; limited on this computer")}
            Consent    {HostPolicyWords.Describe(policy.Consent)}
            Notice     {HostPolicyWords.Describe(policy.Notice)}
            Access key {(side.HasAccessKey ? "set" : "none")}{(policy.KeyFor is { Count: > 0 } acts ? $"; asked for to {string.Join(", ", acts.Select(HostPolicyWords.Describe))}" : "")}
            Restart    {HostPolicyWords.DescribePutOff(policy.PutOffMinutes)}
            Recording  {HostPolicyWords.Describe(policy.Record ?? RecordRule.None)}
            Files in   {HostPolicyWords.DescribeRoots(policy.FileRoots)}
            Screen     {HostPolicyWords.DescribeGiveScreen(policy.GiveScreen)}
            Version    {link?.AgentVersion ?? AgentVersion.Text}
            Installed  {kept}
            Runs       {link?.UnfinishedRuns ?? 0} unfinished
            State in   {report.StateDirectory}
            {(report.Problem is null ? "Nothing is wrong." : $"Wrong      {report.Problem}")}
            """;
    }
}
