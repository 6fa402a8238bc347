using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Health;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Health;

namespace Umbrek.Cli.Health;

/// <summary>What agents look at for checks: <c>umbrek check hosts</c>, <c>umbrek check look</c>.</summary>
internal static class ProbeCommands
{
    public static Command Hosts(ClientContext client)
    {
        var key = CheckCommands.KeyArgument(client);
        var command = ClientCommands.Named("hosts", "Shows what the agents found for a check with a probe, host by host.", "umbrek check hosts ticket-printing-runs");
        command.Add(key);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var check = await CheckCommands.FindAsync(api, parsed.GetRequiredValue(key), cancel).ConfigureAwait(false);
            var hosts = (await api.GetAsync($"checks/{Uri.EscapeDataString(check.Key)}/hosts", WireJson.Default.PageProbeOnHost, cancel).ConfigureAwait(false)).Items;
            Listing.Print(client.Format(parsed), [.. hosts], WireJson.Default.ListProbeOnHost, "It is for no host.",
                new("Host", h => h.Label),
                new("Group", h => h.GroupPath),
                new("State", h => StateOf(h.Result?.State ?? ProbeState.Unknown, h.Past)),
                new("Since", h => h.Result is { } r ? Words.Iso(r.Since) : ""),
                new("Found", h => h.Result?.Says ?? "Its agent has told nothing yet."),
                new("Figures", h => FiguresOf(h.Result?.Figures ?? [])),
                new("Alert", h => h.Raised ? "yes" : ""));
            return ExitCodes.Done;
        });
        return command;
    }

    public static Command Look(ClientContext client)
    {
        var on = new Option<string>("--on") { Description = $"The hosts that look, as a selection; {ProbeTrialWish.MaxHosts} at most.", Required = true };
        var when = new Option<string?>("--when") { Description = "Limits to its figures: 'left < 14 d or took > 2 s'." };
        var probe = new ProbeOptions();
        var command = ClientCommands.Named("look", "Has hosts look at something once, as a check with a probe would, and does nothing about it.", "umbrek check look --port printer-2.quay.example:9100 --on 'quay-ticket-*'");
        command.Add(on, when);
        probe.AddTo(command, act: false);
        command.SetAction(async (parsed, cancel) =>
        {
            var looks = probe.Read(parsed) ?? throw new ClientException("Say what the hosts look at: --service, --program, --port, --web, --ping, --log, --script or --certificate.", ExitCodes.WrongUse);
            using var api = client.State.Open();
            var lines = (await api.PostAsync("checks/probe-trial", new ProbeTrialWish(looks, parsed.GetRequiredValue(on), parsed.GetValue(when) ?? ""), WireJson.Default.ProbeTrialWish, WireJson.Default.PageProbeTrialLine, cancel).ConfigureAwait(false)).Items;
            Listing.Print(client.Format(parsed), [.. lines], WireJson.Default.ListProbeTrialLine, "",
                new("Host", l => l.Label),
                new("State", l => StateOf(l.State, l.Past)),
                new("Found", l => l.Says),
                new("Figures", l => FiguresOf(l.Figures)));
            if (client.Format(parsed) == OutputFormat.Table)
            {
                Console.Out.WriteLine($"It would be bad on {lines.Count(l => l.Bad)} of {CheckCommands.Count(lines.Count, "host")}.");
            }
            return ExitCodes.Done;
        });
        return command;
    }

    public static string Pace(Probe probe) =>
        $"every {Units.Span(TimeSpan.FromSeconds(probe.EverySeconds))}, within {Units.Span(TimeSpan.FromSeconds(probe.TimeoutSeconds))}, {Units.Span(TimeSpan.FromSeconds(probe.GraceSeconds))} of grace after a start";

    public static string StateOf(ProbeState state, string? past) => (state, past) switch
    {
        (ProbeState.Failed, _) => "failed",
        (ProbeState.Well, { } limit) => $"past {limit}",
        (ProbeState.Well, _) => "well",
        (ProbeState.Starting, _) => "starting",
        _ => "not known",
    };

    public static string FiguresOf(IReadOnlyList<ProbeFigure> figures) => string.Join(", ", figures);
}
