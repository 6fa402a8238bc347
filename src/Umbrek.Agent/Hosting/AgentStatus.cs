using System.Text.Json.Serialization;
using Umbrek.Agent.Access;
using Umbrek.Agent.Enrolment;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Wire.Links;
using Umbrek.Agent.Shell;

namespace Umbrek.Agent.Hosting;

public enum LinkState
{
    Connecting,
    Linked,
    Waiting,
    Refused,

    /// <summary>The host joined, and a person has yet to let it in.</summary>
    AwaitingApproval,
    Stopped,
}

/// <summary>What a running agent says of itself, kept in status.json.</summary>
public sealed record AgentStatus(LinkState State, DateTimeOffset Since, int Pid, string AgentVersion, string? Problem, int UnfinishedRuns, int WaitingSamples);

/// <summary>JSON that stays on the host.</summary>
[JsonSourceGenerationOptions(
    PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
    WriteIndented = true,
    Converters = [typeof(Wire.WordConverter<LinkState>), typeof(Wire.WordConverter<HostAct>), typeof(Wire.WordConverter<ConsentRule>), typeof(Wire.WordConverter<RecordRule>), typeof(Wire.WordConverter<NoticeRule>)])]
[JsonSerializable(typeof(AgentStatus))]
[JsonSerializable(typeof(PersonWord))]
[JsonSerializable(typeof(PersonReply))]
[JsonSerializable(typeof(AgentIdentity))]
[JsonSerializable(typeof(StatusReport))]
[JsonSerializable(typeof(Enrolling))]
[JsonSerializable(typeof(ReleaseManifest))]
[JsonSerializable(typeof(KeptKey))]
[JsonSerializable(typeof(KeptPasscode))]
[JsonSerializable(typeof(KeptShell))]
[JsonSerializable(typeof(Lockout))]
[JsonSerializable(typeof(Installation))]
[JsonSerializable(typeof(HostPolicy))]
[JsonSerializable(typeof(HostPolicyPart))]
public sealed partial class AgentJson : JsonSerializerContext;

/// <summary>What <c>umbrek-agent status --output json</c> prints.</summary>
/// <param name="Problem">Null, or what is wrong and what to do.</param>
public sealed record StatusReport(
    bool Enrolled, bool Running, string StateDirectory, Uri? Service, string? ServiceKey, Guid? HostId, string? Label, string? GroupPath,
    HostPolicy? Policy, bool HasAccessKey, HostSide? Side, Installation? Installation, AgentStatus? Link, string? Problem);
