using System.Text;
using System.Text.Json;
using System.Text.Json.Serialization;
using Umbrek.Wire;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>One host's answer, as <c>umbrek run --output json</c> prints it. The field names are stable.</summary>
public sealed record RunResult(Guid RunId, Guid JobId, Guid HostId, string Host, string SystemName, string Group, string State, int? ExitStatus, string? Reason, string Stdout, string Stderr)
{
    public static RunResult From(RunInfo run, (StringBuilder? Stdout, StringBuilder? Stderr) output) => new(
        run.Id, run.JobId, run.HostId, run.HostLabel, run.SystemName, run.GroupPath, JsonSerializer.Serialize(run.State, WireJson.Default.RunState).Trim('"'),
        run.ExitStatus, run.Reason, output.Stdout?.ToString() ?? "", output.Stderr?.ToString() ?? "");
}

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, DefaultIgnoreCondition = JsonIgnoreCondition.Never)]
[JsonSerializable(typeof(List<RunResult>))]
public sealed partial class RunResultJson : JsonSerializerContext;
