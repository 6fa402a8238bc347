using System.Text.Json.Serialization;
using Umbrek.Agent.Enrolment;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Hosting;

public enum LinkState
{
    Connecting,
    Linked,
    Waiting,
    Refused,
    Stopped,
}

/// <summary>What a running agent says of itself, kept in status.json.</summary>
public sealed record AgentStatus(LinkState State, DateTimeOffset Since, int Pid, string AgentVersion, string? Problem, int UnfinishedRuns, int WaitingSamples);

/// <summary>JSON that stays on the host.</summary>
[JsonSourceGenerationOptions(
    PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
    WriteIndented = true,
    Converters = [typeof(Wire.WordConverter<LinkState>)])]
[JsonSerializable(typeof(AgentStatus))]
[JsonSerializable(typeof(AgentIdentity))]
[JsonSerializable(typeof(StatusReport))]
public sealed partial class AgentJson : JsonSerializerContext;

/// <summary>What <c>umbrek-agent status --output json</c> prints.</summary>
public sealed record StatusReport(bool Enrolled, bool Running, string StateDirectory, Uri? Service, string? ServiceKey, Guid? HostId, string? Label, string? GroupPath, AgentStatus? Link);
