using System.CommandLine;
using System.Text.Json.Serialization;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>What has become of one step of a runbook on one host, as <c>umbrek job steps</c> prints it.</summary>
/// <param name="State">Null for a step that was not reached.</param>
public sealed record HostStep(string Host, string Group, int Step, string Name, StepState? State, int Tries, int? ExitStatus, DateTimeOffset? StartedAt, DateTimeOffset? EndedAt, string? Reason);

/// <summary><c>umbrek job steps</c>: how far a runbook is on each host.</summary>
internal static class StepCommand
{
    public static Command Steps(ClientContext client)
    {
        var id = JobCommands.IdArgument();
        var host = new Option<string?>("--host") { Description = "Only this host's.", HelpName = "host" };
        var step = new Option<int?>("--step") { Description = "Only this step, counted from 1.", HelpName = "number" };
        var command = ClientCommands.Named("steps", "Shows how a runbook's steps stand on each host.", "umbrek job steps 8fda0d97 --step 2");
        command.Add(id, host, step);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var job = await JobCommands.FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var steps = job.Command.Steps ?? throw new ClientException($"Job {Words.ShortId(job.Id)} is no runbook and has no steps: umbrek job show {Words.ShortId(job.Id)}", ExitCodes.NothingMatched);
            if (parsed.GetValue(step) is { } number && (number < 1 || number > steps.Count))
            {
                throw new ClientException($"There is no step {number}; the runbook has 1 to {steps.Count}.", ExitCodes.NothingMatched);
            }
            var detail = await api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, cancel).ConfigureAwait(false);
            var runs = detail.Runs.Where(r => parsed.GetValue(host) is not { } wanted || r.HostLabel.Equals(wanted, StringComparison.OrdinalIgnoreCase) || r.SystemName.Equals(wanted, StringComparison.OrdinalIgnoreCase)).ToList();
            if (runs.Count == 0)
            {
                throw new ClientException($"The job has no run on '{TerminalText.Line(parsed.GetValue(host) ?? "")}': umbrek job show {Words.ShortId(job.Id)}", ExitCodes.NothingMatched);
            }
            var rows = runs.SelectMany(r => steps.Select((s, index) => Of(r, index, s))).Where(s => parsed.GetValue(step) is not { } only || s.Step == only).ToList();
            Listing.Print(client.Format(parsed), rows, HostStepJson.Default.ListHostStep, "",
                new("Host", s => s.Host), new("Step", s => $"{s.Step}", Right: true), new("Does", s => s.Name), new("State", s => s.State is { } state ? Words.Of(state) : "not reached"), new("Exit", s => $"{s.ExitStatus}", Right: true),
                new("Tries", s => s.Tries > 1 ? $"{s.Tries}" : "", Right: true, Machine: s => $"{s.Tries}"), new("Took", s => s is { StartedAt: { } from, EndedAt: { } to } ? JobCommands.Took(to - from) : "", Right: true), new("Reason", s => s.Reason ?? ""));
            return ExitCodes.Done;
        });
        return command;
    }

    /// <summary>Where a run of a runbook stands, in a few words.</summary>
    public static string Place(RunInfo run, IReadOnlyList<RunbookStep> steps)
    {
        if (run.Steps is not { Count: > 0 } known)
        {
            return "";
        }
        var telling = known.FirstOrDefault(s => s.State is StepState.Running or StepState.Stopped) ?? known.FirstOrDefault(s => s.State is StepState.Failed or StepState.TimedOut && !steps[s.Index].MayFail) ?? known[^1];
        return run.State == RunState.Succeeded
            ? $"{known.Count(s => s.State == StepState.Succeeded)} done, {known.Count(s => s.State == StepState.LeftOut)} left out"
            : $"{RunbookSteps.Place(telling.Index, steps.Count)}, {steps[telling.Index].Name}: {Words.Of(telling.State)}";
    }

    private static HostStep Of(RunInfo run, int index, RunbookStep step)
    {
        var known = (run.Steps ?? []).FirstOrDefault(s => s.Index == index);
        return new HostStep(run.HostLabel, run.GroupPath, index + 1, step.Name, known?.State, known?.Tries ?? 0, known?.ExitStatus, known?.StartedAt, known?.EndedAt, known?.Reason);
    }
}

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, DefaultIgnoreCondition = JsonIgnoreCondition.Never, Converters = [typeof(WordConverter<StepState>)])]
[JsonSerializable(typeof(List<HostStep>))]
internal sealed partial class HostStepJson : JsonSerializerContext;
