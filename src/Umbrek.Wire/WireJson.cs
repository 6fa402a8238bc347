using System.Text.Json;
using System.Text.Json.Serialization;
using Umbrek.Core.Access;
using Umbrek.Core.Audit;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Core.Jobs;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Audit;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Health;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;

namespace Umbrek.Wire;

/// <summary>Enum words on the wire: lower case with hyphens, never numbers.</summary>
public sealed class WordConverter<T>() : JsonStringEnumConverter<T>(JsonNamingPolicy.KebabCaseLower, allowIntegerValues: false)
    where T : struct, Enum;

/// <summary>
/// What an agent says and hears, apart from the rest so that the agent's program does not carry the bodies of the whole API. The
/// service reads and writes the same messages with <see cref="WireJson"/>.
/// </summary>
[JsonSourceGenerationOptions(
    PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    PropertyNameCaseInsensitive = false,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
    NumberHandling = JsonNumberHandling.Strict,
    Converters =
    [
        typeof(WordConverter<AwayReason>), typeof(WordConverter<LinkRefusal>), typeof(WordConverter<RunState>), typeof(WordConverter<RunOutcome>), typeof(WordConverter<RunEventKind>),
        typeof(WordConverter<HostAct>), typeof(WordConverter<ConsentRule>), typeof(WordConverter<NoticeRule>), typeof(WordConverter<AccessKeyRule>), typeof(WordConverter<EnrolmentState>),
    ])]
[JsonSerializable(typeof(LinkChallenge))]
[JsonSerializable(typeof(LinkHello))]
[JsonSerializable(typeof(LinkWelcome))]
[JsonSerializable(typeof(FactReport))]
[JsonSerializable(typeof(SampleBatch))]
[JsonSerializable(typeof(RunEventBatch))]
[JsonSerializable(typeof(RunOrder))]
[JsonSerializable(typeof(RunCancel))]
[JsonSerializable(typeof(RunsKept))]
[JsonSerializable(typeof(SamplesKept))]
[JsonSerializable(typeof(RunHeld))]
[JsonSerializable(typeof(LinkGoodbye))]
[JsonSerializable(typeof(HostSide))]
[JsonSerializable(typeof(ChannelOrder))]
[JsonSerializable(typeof(SessionEnd))]
[JsonSerializable(typeof(SealedOrder))]
[JsonSerializable(typeof(CommandSpec))]
[JsonSerializable(typeof(ChannelJoin))]
[JsonSerializable(typeof(KeyFrame))]
[JsonSerializable(typeof(KeyWish))]
[JsonSerializable(typeof(HostPolicyPart))]
[JsonSerializable(typeof(HostRequest))]
[JsonSerializable(typeof(HostAnswer))]
[JsonSerializable(typeof(ReleaseOffer))]
[JsonSerializable(typeof(UpdateReport))]
[JsonSerializable(typeof(ScanOrder))]
[JsonSerializable(typeof(ScanReport))]
[JsonSerializable(typeof(RunStart))]
[JsonSerializable(typeof(RunEnd))]
[JsonSerializable(typeof(Sample))]
[JsonSerializable(typeof(IReadOnlyList<FileSystemSample>))]
[JsonSerializable(typeof(IReadOnlyList<InterfaceSample>))]
[JsonSerializable(typeof(EnrolmentRequest))]
[JsonSerializable(typeof(EnrolmentAnswer))]
[JsonSerializable(typeof(InstallerSettings))]
[JsonSerializable(typeof(HostPolicy))]
[JsonSerializable(typeof(Problem))]
[JsonSerializable(typeof(string))]
[JsonSerializable(typeof(bool))]
[JsonSerializable(typeof(int))]
[JsonSerializable(typeof(long))]
[JsonSerializable(typeof(double))]
[JsonSerializable(typeof(Guid))]
[JsonSerializable(typeof(List<string>))]
[JsonSerializable(typeof(JsonElement))]
public sealed partial class LinkJson : JsonSerializerContext;

/// <summary>
/// Everything that crosses a wire, known at compile time, so that the agent and the client can be native code.
/// camelCase names, words for enums, nulls left out.
/// </summary>
[JsonSourceGenerationOptions(
    PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    PropertyNameCaseInsensitive = false,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
    NumberHandling = JsonNumberHandling.Strict,
    Converters =
    [
        typeof(WordConverter<PresenceState>), typeof(WordConverter<AwayReason>), typeof(WordConverter<LinkRefusal>),
        typeof(WordConverter<RunState>), typeof(WordConverter<RunState>), typeof(WordConverter<RunOutcome>), typeof(WordConverter<RunEventKind>),
        typeof(WordConverter<InstallerState>), typeof(WordConverter<SignInUse>),
        typeof(WordConverter<HostAct>), typeof(WordConverter<ConsentRule>), typeof(WordConverter<NoticeRule>), typeof(WordConverter<AccessKeyRule>),
        typeof(WordConverter<EnrolmentState>), typeof(WordConverter<WaitingReason>), typeof(WordConverter<EnrolmentDecision>),
        typeof(WordConverter<UpdateState>), typeof(WordConverter<RolloutState>), typeof(WordConverter<ScanState>),
        typeof(WordConverter<OwnFieldKind>), typeof(WordConverter<HostEventKind>), typeof(WordConverter<AuditFault>),
        typeof(WordConverter<Permission>), typeof(WordConverter<AccessReason>), typeof(WordConverter<SignInKind>),
        typeof(WordConverter<SecretKind>), typeof(WordConverter<KeyRotationState>),
    ])]
[JsonSerializable(typeof(LinkChallenge))]
[JsonSerializable(typeof(LinkHello))]
[JsonSerializable(typeof(LinkWelcome))]
[JsonSerializable(typeof(FactReport))]
[JsonSerializable(typeof(SampleBatch))]
[JsonSerializable(typeof(RunEventBatch))]
[JsonSerializable(typeof(RunOrder))]
[JsonSerializable(typeof(RunCancel))]
[JsonSerializable(typeof(RunsKept))]
[JsonSerializable(typeof(SamplesKept))]
[JsonSerializable(typeof(RunHeld))]
[JsonSerializable(typeof(LinkGoodbye))]
[JsonSerializable(typeof(HostSide))]
[JsonSerializable(typeof(ChannelOrder))]
[JsonSerializable(typeof(SessionEnd))]
[JsonSerializable(typeof(SealedOrder))]
[JsonSerializable(typeof(CommandSpec))]
[JsonSerializable(typeof(ChannelJoin))]
[JsonSerializable(typeof(KeyFrame))]
[JsonSerializable(typeof(KeyWish))]
[JsonSerializable(typeof(HostPolicyPart))]
[JsonSerializable(typeof(HostRequest))]
[JsonSerializable(typeof(HostAnswer))]
[JsonSerializable(typeof(RunStart))]
[JsonSerializable(typeof(RunEnd))]
[JsonSerializable(typeof(Sample))]
[JsonSerializable(typeof(List<Sample>))]
[JsonSerializable(typeof(IReadOnlyList<FileSystemSample>))]
[JsonSerializable(typeof(IReadOnlyList<InterfaceSample>))]
[JsonSerializable(typeof(List<Fact>))]
[JsonSerializable(typeof(EnrolmentRequest))]
[JsonSerializable(typeof(EnrolmentAnswer))]
[JsonSerializable(typeof(NewInstaller))]
[JsonSerializable(typeof(InstallerDetail))]
[JsonSerializable(typeof(InstallerInfo))]
[JsonSerializable(typeof(InstallerOffer))]
[JsonSerializable(typeof(InstallerSettings))]
[JsonSerializable(typeof(EnrolmentDecisionRequest))]
[JsonSerializable(typeof(ReleaseOffer))]
[JsonSerializable(typeof(UpdateReport))]
[JsonSerializable(typeof(ScanOrder))]
[JsonSerializable(typeof(ScanReport))]
[JsonSerializable(typeof(NewScan))]
[JsonSerializable(typeof(ScanInfo))]
[JsonSerializable(typeof(ScanDetail))]
[JsonSerializable(typeof(ScanChanges))]
[JsonSerializable(typeof(Page<ScanInfo>))]
[JsonSerializable(typeof(List<ScanInfo>))]
[JsonSerializable(typeof(List<ScanFind>))]
[JsonSerializable(typeof(NewRollout))]
[JsonSerializable(typeof(RolloutInfo))]
[JsonSerializable(typeof(RolloutDetail))]
[JsonSerializable(typeof(ReleaseInfo))]
[JsonSerializable(typeof(Page<ReleaseInfo>))]
[JsonSerializable(typeof(Page<RolloutInfo>))]
[JsonSerializable(typeof(List<ReleaseInfo>))]
[JsonSerializable(typeof(List<RolloutInfo>))]
[JsonSerializable(typeof(List<RolloutHostInfo>))]
[JsonSerializable(typeof(EnrolmentPulse))]
[JsonSerializable(typeof(EnrolmentState))]
[JsonSerializable(typeof(HostPolicy))]
[JsonSerializable(typeof(Page<InstallerInfo>))]
[JsonSerializable(typeof(Page<EnrolmentInfo>))]
[JsonSerializable(typeof(SignInInfo))]
[JsonSerializable(typeof(Page<SignInInfo>))]
[JsonSerializable(typeof(List<SignInInfo>))]
[JsonSerializable(typeof(NewToken))]
[JsonSerializable(typeof(TokenAnswer))]
[JsonSerializable(typeof(PasswordProof))]
[JsonSerializable(typeof(PasswordChange))]
[JsonSerializable(typeof(SecondFactorOffer))]
[JsonSerializable(typeof(SecondFactorProof))]
[JsonSerializable(typeof(RecoveryCodes))]
[JsonSerializable(typeof(SignInSettings))]
[JsonSerializable(typeof(Me))]
[JsonSerializable(typeof(RoleInfo))]
[JsonSerializable(typeof(NewRole))]
[JsonSerializable(typeof(Page<RoleInfo>))]
[JsonSerializable(typeof(List<RoleInfo>))]
[JsonSerializable(typeof(TeamInfo))]
[JsonSerializable(typeof(NewTeam))]
[JsonSerializable(typeof(Page<TeamInfo>))]
[JsonSerializable(typeof(List<TeamInfo>))]
[JsonSerializable(typeof(GrantInfo))]
[JsonSerializable(typeof(NewGrant))]
[JsonSerializable(typeof(GrantChange))]
[JsonSerializable(typeof(Page<GrantInfo>))]
[JsonSerializable(typeof(List<GrantInfo>))]
[JsonSerializable(typeof(AccessExplanation))]
[JsonSerializable(typeof(List<AccessAnswer>))]
[JsonSerializable(typeof(NewSession))]
[JsonSerializable(typeof(SessionInfo))]
[JsonSerializable(typeof(Page<SessionInfo>))]
[JsonSerializable(typeof(List<SessionInfo>))]
[JsonSerializable(typeof(NewChannel))]
[JsonSerializable(typeof(ChannelTicket))]
[JsonSerializable(typeof(NewSecret))]
[JsonSerializable(typeof(SecretChange))]
[JsonSerializable(typeof(SecretInfo))]
[JsonSerializable(typeof(Page<SecretInfo>))]
[JsonSerializable(typeof(List<SecretInfo>))]
[JsonSerializable(typeof(SecretDetail))]
[JsonSerializable(typeof(List<SecretVersionInfo>))]
[JsonSerializable(typeof(RevealRequest))]
[JsonSerializable(typeof(RevealedSecret))]
[JsonSerializable(typeof(VaultState))]
[JsonSerializable(typeof(VaultBackupRequest))]
[JsonSerializable(typeof(VaultBackup))]
[JsonSerializable(typeof(VaultRestore))]
[JsonSerializable(typeof(VaultRestored))]
[JsonSerializable(typeof(List<SavedSecret>))]
[JsonSerializable(typeof(NewKeyRotation))]
[JsonSerializable(typeof(KeyRotationDetail))]
[JsonSerializable(typeof(Page<KeyRotationInfo>))]
[JsonSerializable(typeof(List<KeyRotationInfo>))]
[JsonSerializable(typeof(List<KeyRotationHost>))]
[JsonSerializable(typeof(PolicyInfo))]
[JsonSerializable(typeof(PolicyPlace))]
[JsonSerializable(typeof(Page<PolicyPlace>))]
[JsonSerializable(typeof(List<PolicyPlace>))]
[JsonSerializable(typeof(AccessMatrix))]
[JsonSerializable(typeof(Permission))]
[JsonSerializable(typeof(List<AccessMatrixRow>))]
[JsonSerializable(typeof(Page<AuditInfo>))]
[JsonSerializable(typeof(List<AuditFinding>))]
[JsonSerializable(typeof(Page<HostSummary>))]
[JsonSerializable(typeof(Page<GroupInfo>))]
[JsonSerializable(typeof(Page<JobInfo>))]
[JsonSerializable(typeof(Page<TechnicianInfo>))]
[JsonSerializable(typeof(List<InstallerInfo>))]
[JsonSerializable(typeof(List<EnrolmentInfo>))]
[JsonSerializable(typeof(List<AuditInfo>))]
[JsonSerializable(typeof(List<HostSummary>))]
[JsonSerializable(typeof(List<GroupInfo>))]
[JsonSerializable(typeof(List<JobInfo>))]
[JsonSerializable(typeof(List<RunInfo>))]
[JsonSerializable(typeof(List<TechnicianInfo>))]
[JsonSerializable(typeof(NewGroup))]
[JsonSerializable(typeof(GroupChange))]
[JsonSerializable(typeof(BulkEdit))]
[JsonSerializable(typeof(BulkOutcome))]
[JsonSerializable(typeof(List<BulkChange>))]
[JsonSerializable(typeof(List<ImportChange>))]
[JsonSerializable(typeof(HostEnd))]
[JsonSerializable(typeof(HostMerge))]
[JsonSerializable(typeof(HostOutlook))]
[JsonSerializable(typeof(Page<TimelineEntry>))]
[JsonSerializable(typeof(List<TimelineEntry>))]
[JsonSerializable(typeof(CustomerInfo))]
[JsonSerializable(typeof(List<CustomerInfo>))]
[JsonSerializable(typeof(Page<CustomerInfo>))]
[JsonSerializable(typeof(CustomerChange))]
[JsonSerializable(typeof(NewOwnField))]
[JsonSerializable(typeof(OwnFieldInfo))]
[JsonSerializable(typeof(SavedSelectionInfo))]
[JsonSerializable(typeof(List<SavedSelectionInfo>))]
[JsonSerializable(typeof(Page<SavedSelectionInfo>))]
[JsonSerializable(typeof(NewSavedSelection))]
[JsonSerializable(typeof(Completions))]
[JsonSerializable(typeof(Page<FindHit>))]
[JsonSerializable(typeof(List<FindHit>))]
[JsonSerializable(typeof(OwnMark))]
[JsonSerializable(typeof(Page<MarkedHost>))]
[JsonSerializable(typeof(SelectionChanges))]
[JsonSerializable(typeof(ImportOutcome))]
[JsonSerializable(typeof(List<TreeLine>))]
[JsonSerializable(typeof(List<HostLink>))]
[JsonSerializable(typeof(List<string>))]
[JsonSerializable(typeof(IReadOnlyDictionary<string, string>))]
[JsonSerializable(typeof(HostDetail))]
[JsonSerializable(typeof(HostChange))]
[JsonSerializable(typeof(EstateChanges))]
[JsonSerializable(typeof(SelectionCheck))]
[JsonSerializable(typeof(SetUpState))]
[JsonSerializable(typeof(SetUpRequest))]
[JsonSerializable(typeof(SignInRequest))]
[JsonSerializable(typeof(SignInAnswer))]
[JsonSerializable(typeof(TechnicianInfo))]
[JsonSerializable(typeof(NewTechnician))]
[JsonSerializable(typeof(NewJob))]
[JsonSerializable(typeof(CommandSpec))]
[JsonSerializable(typeof(JobDetail))]
[JsonSerializable(typeof(JobChanges))]
[JsonSerializable(typeof(SampleSeries))]
[JsonSerializable(typeof(PresenceInfo))]
[JsonSerializable(typeof(Problem))]
[JsonSerializable(typeof(string))]
[JsonSerializable(typeof(bool))]
[JsonSerializable(typeof(int))]
[JsonSerializable(typeof(long))]
[JsonSerializable(typeof(double))]
[JsonSerializable(typeof(Guid))]
[JsonSerializable(typeof(JsonElement))]
public sealed partial class WireJson : JsonSerializerContext;
