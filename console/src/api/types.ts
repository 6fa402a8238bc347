import type { components } from "./schema.generated";

type Schemas = components["schemas"];

// The service leaves out what is null, so whatever may be null may be missing too.
type MayMiss<T> = { [K in keyof T]: null extends T[K] ? T[K] | undefined : T[K] };

type Always<T, K extends keyof T> = Omit<T, K> & { [P in K]-?: NonNullable<T[P]> };

// The service always writes tags and the time of joining; the description can't say so of members with a default.
export type HostSummary = Always<MayMiss<Schemas["HostSummary"]>, "tags" | "enrolledAt" | "alerts">;
export type HostDetail = Omit<MayMiss<Schemas["HostDetail"]>, "latestSample" | "summary"> & {
  latestSample?: Sample | null;
  summary: HostSummary;
};
export type HostLink = Schemas["HostLink"];
export type OwnFieldInfo = Schemas["OwnFieldInfo"];
export type OwnFieldKind = Schemas["OwnFieldKind"];
export type CustomerInfo = MayMiss<Schemas["CustomerInfo"]>;
export type SavedSelectionInfo = MayMiss<Schemas["SavedSelectionInfo"]>;
export type TimelineEntry = MayMiss<Schemas["TimelineEntry"]>;
export type BulkOutcome = Schemas["BulkOutcome"];
export type ImportOutcome = Schemas["ImportOutcome"];
export type HostOutlook = Schemas["HostOutlook"];
export type FindHit = Omit<Schemas["FindHit"], "host"> & { host: HostSummary };
export type Fact = Schemas["Fact"];
// The service always writes these; the description can't say so of members with a default.
export type Sample = Required<Omit<Schemas["Sample"], "fileSystems">> & {
  fileSystems: Required<Schemas["FileSystemSample"]>[];
};
export type PresenceInfo = Schemas["PresenceInfo"];
export type GroupInfo = Schemas["GroupInfo"];
export type CommandSpec = Omit<MayMiss<Schemas["CommandSpec"]>, "steps"> & { steps?: RunbookStep[] | null | undefined };
export type StepCondition = MayMiss<Schemas["StepCondition"]>;
// The service leaves out what is usual; the description gives its defaults.
export type RunbookStep = Omit<MayMiss<Schemas["RunbookStep"]>, "when" | "text"> & {
  text: string;
  when?: StepCondition[] | null | undefined;
};
export type StepState = Schemas["StepState"];
export type StepStatus = MayMiss<Schemas["StepStatus"]>;
export type RunbookDocument = Omit<MayMiss<Schemas["RunbookDocument"]>, "command" | "parameters"> & {
  command: CommandSpec;
  parameters: ScriptParameter[];
};
export type RunPace = MayMiss<Schemas["RunPace"]>;
export type JobAnswers = Omit<MayMiss<Schemas["JobAnswers"]>, "folds"> & { folds: FoldedAnswer[] };
export type FoldedAnswer = Omit<MayMiss<Schemas["FoldedAnswer"]>, "state"> & { state: RunState };
export type AnswerLine = MayMiss<Schemas["AnswerLine"]>;
export type AnswerComparison = Schemas["AnswerComparison"];
export type FoundLines = Schemas["FoundLines"];
export type JobInfo = MayMiss<Schemas["JobInfo"]>;
/** As a host says it on a channel; see docs/protocol.md. */
export interface HostProcess {
  pid: number;
  parent: number;
  start: number;
  startedAt: string;
  user: string;
  name: string;
  commandLine?: string;
  state: string;
  niceness: number;
  threads: number;
  memoryBytes: number;
  processorSeconds: number;
  processorPercent?: number;
}
export type ServiceState = "runs" | "starting" | "stopping" | "done" | "stopped" | "failed" | "unknown";
export type ServiceStart = "with-system" | "by-hand" | "by-others" | "never" | "unknown";
export type ServiceAct = "start" | "stop" | "restart" | "reload" | "enable" | "disable" | "show";
/** As a host says it on a channel; see docs/protocol.md. */
export interface HostService {
  name: string;
  description?: string;
  state: ServiceState;
  start: ServiceStart;
  detail?: string;
  since?: string;
  pid?: number;
  memoryBytes?: number;
}
export interface ProcessMark {
  pid: number;
  start: number;
  name: string;
}
export interface ProcessChanges {
  at: string;
  boot: string;
  processors: number;
  memoryBytes: number;
  reset: boolean;
  changed: HostProcess[];
  gone: number[];
}
interface ProcessChoice {
  marks?: ProcessMark[];
  boot?: string;
  program?: string;
}
/** Something that the agent does itself: one of these. */
export interface HostAction {
  end?: { which: ProcessChoice; force: boolean };
  rank?: { which: ProcessChoice; niceness: number };
  find?: { text: string };
  service?: { name: string; act: ServiceAct };
  power?: PowerWish;
  wake?: { targets: { name: string; cards: string[] }[] };
  deliver?: { digest: string; name: string; files: number; bytes: number };
}
export type PowerAct = "restart" | "shut-down" | "sleep" | "log-out" | "lock";
export interface PowerWish {
  act: PowerAct;
  graceSeconds: number;
  message?: string;
  person?: string;
}
export type WakeHost = MayMiss<Schemas["WakeHost"]>;
export type WakeInfo = MayMiss<Schemas["WakeInfo"]>;
export type ParameterKind = Schemas["ParameterKind"];
export type ScriptParameter = Omit<MayMiss<Schemas["ScriptParameter"]>, "kind"> & { kind: ParameterKind };
export type ScriptShare = MayMiss<Schemas["ScriptShare"]>;
export type ScriptInfo = Omit<MayMiss<Schemas["ScriptInfo"]>, "parameters" | "sharing"> & {
  parameters: ScriptParameter[];
  sharing: ScriptShare[];
};
export type ScriptVersion = Omit<MayMiss<Schemas["ScriptVersion"]>, "parameters" | "command"> & {
  parameters: ScriptParameter[];
  command: CommandSpec;
};
export type ScriptVersionMark = MayMiss<Schemas["ScriptVersionMark"]>;
export interface ScriptDetail {
  script: ScriptInfo;
  shown: ScriptVersion;
  versions: ScriptVersionMark[];
}
export type FilledScript = Omit<Schemas["FilledScript"], "command"> & { command: CommandSpec };
export type ScriptComparison = Omit<Schemas["ScriptComparison"], "settings" | "text"> & {
  settings: AnswerLine[];
  text: AnswerLine[];
};
export type AuditInfo = MayMiss<Schemas["AuditInfo"]>;
export type RunInfo = Omit<MayMiss<Schemas["RunInfo"]>, "steps" | "state"> & {
  state: RunState;
  steps?: StepStatus[] | null | undefined;
};
export type RunCounts = Schemas["RunCounts"];
export type RunState = NonNullable<Schemas["RunState"]>;
export type HostAct = Schemas["HostAct"];
// Where a part of a policy may come from above, the description says so of the word itself.
export type ConsentRule = NonNullable<Schemas["ConsentRule"]>;
export type NoticeRule = NonNullable<Schemas["NoticeRule"]>;
export type RecordRule = NonNullable<Schemas["RecordRule"]>;
export type AccessKeyRule = Schemas["AccessKeyRule"];
export interface HostPolicy {
  allowed: HostAct[];
  consent: ConsentRule;
  notice?: NoticeRule;
  keyFor?: HostAct[] | null;
  putOffMinutes?: number | null;
  record?: RecordRule | null;
  fileRoots?: string[] | null;
  giveScreen?: boolean | null;
}
export interface HostPolicyPart {
  allowed?: HostAct[] | null;
  consent?: ConsentRule | null;
  notice?: NoticeRule | null;
  keyFor?: HostAct[] | null;
  putOffMinutes?: number | null;
  record?: RecordRule | null;
  fileRoots?: string[] | null;
  giveScreen?: boolean | null;
}
export interface HostSide {
  inForce: HostPolicy;
  limit?: HostPolicyPart | null;
  problem?: string | null;
  hasAccessKey: boolean;
}
export type PolicyInfo = Omit<MayMiss<Schemas["PolicyInfo"]>, "own" | "wanted" | "side" | "from"> & {
  own: HostPolicyPart;
  wanted: HostPolicy;
  side?: HostSide | null;
  from: MayMiss<Schemas["PolicyFrom"]>;
};
export type PolicyPlace = Omit<MayMiss<Schemas["PolicyPlace"]>, "own" | "wanted"> & {
  own: HostPolicyPart;
  wanted: HostPolicy;
};
export type InstallerInfo = MayMiss<Schemas["InstallerInfo"]>;
export type InstallerDetail = Omit<Schemas["InstallerDetail"], "info" | "enrolments"> & {
  info: InstallerInfo;
  enrolments: EnrolmentInfo[];
};
export type EnrolmentInfo = MayMiss<Schemas["EnrolmentInfo"]>;
export type UpdateState = Schemas["UpdateState"];
export type RolloutInfo = MayMiss<Schemas["RolloutInfo"]>;
export type RolloutDetail = { info: RolloutInfo; hosts: MayMiss<Schemas["RolloutHostInfo"]>[] };
export type ScanInfo = MayMiss<Schemas["ScanInfo"]>;
export type ScanFind = MayMiss<Schemas["ScanFind"]>;
export type EnrolmentDecision = Schemas["EnrolmentDecision"];
export type InstallerOffer = MayMiss<Schemas["InstallerOffer"]>;
export type TechnicianInfo = Schemas["TechnicianInfo"];
export type Permission = Schemas["Permission"];
export type Me = Schemas["Me"];
export type SignInInfo = MayMiss<Schemas["SignInInfo"]>;
export type SecondFactorOffer = Schemas["SecondFactorOffer"];
export type RoleInfo = MayMiss<Schemas["RoleInfo"]>;
export type TeamInfo = Schemas["TeamInfo"];
export type GrantInfo = MayMiss<Schemas["GrantInfo"]>;
export type AccessExplanation = Omit<MayMiss<Schemas["AccessExplanation"]>, "answers"> & {
  answers: MayMiss<Schemas["AccessAnswer"]>[];
};
export type MatrixGrant = MayMiss<Schemas["MatrixGrant"]>;
export type AccessMatrix = Omit<Schemas["AccessMatrix"], "rows"> & {
  rows: { technicianId: string; technician: string; cells: { grants: MatrixGrant[] }[] }[];
};
export type PasskeyInfo = Schemas["PasskeyInfo"];
export type DeviceInfo = MayMiss<Schemas["DeviceInfo"]>;
export type SessionInfo = MayMiss<Schemas["SessionInfo"]>;
export type ScreenInfo = Schemas["ScreenInfo"];
export type ShellInfo = Schemas["ShellInfo"];
export type RecordingInfo = MayMiss<Schemas["RecordingInfo"]>;
export type PairingInfo = MayMiss<Schemas["PairingInfo"]>;
export type FilmInfo = MayMiss<Schemas["FilmInfo"]>;
export type SessionAct = Schemas["SessionAct"];
export type Colleague = Schemas["Colleague"];
export type InvitationInfo = Schemas["InvitationInfo"];
export type ChannelRecording = Schemas["ChannelRecording"];
export type ChannelTicket = Schemas["ChannelTicket"];
export type SealedOrder = Schemas["SealedOrder"];
export type SecretInfo = MayMiss<Schemas["SecretInfo"]>;
export type SecretDetail = Omit<Schemas["SecretDetail"], "info"> & { info: SecretInfo };
export type RevealedSecret = MayMiss<Schemas["RevealedSecret"]>;
export type VaultState = Schemas["VaultState"];
export type VaultBackupFile = Schemas["VaultBackup"];
export type VaultRestored = Schemas["VaultRestored"];
export type KeyRotationInfo = Schemas["KeyRotationInfo"];
export type KeyRotationDetail = Omit<Schemas["KeyRotationDetail"], "hosts"> & {
  hosts: MayMiss<Schemas["KeyRotationHost"]>[];
};
export type Severity = NonNullable<Schemas["Severity"]>;
export type Subsystem = Schemas["Subsystem"];
export type AlertState = Schemas["AlertState"];
export type AlertActKind = Schemas["AlertActKind"];
export type AlertInfo = Omit<MayMiss<Schemas["AlertInfo"]>, "severity"> & { severity: Severity };
export type AlertLine = Omit<MayMiss<Schemas["AlertLine"]>, "alerts" | "severity"> & {
  severity: Severity;
  alerts: AlertInfo[];
};
export type NoticeWay = Schemas["NoticeWay"];
export type NoticeInfo = Omit<MayMiss<Schemas["NoticeInfo"]>, "atLeast"> & { atLeast: Severity };
export type NewNotice = Schemas["NewNotice"];
export interface NoticeMade {
  notice: NoticeInfo;
  /** Shown this once. */
  secret?: string | null;
}
export type DeliveryInfo = MayMiss<Schemas["DeliveryInfo"]>;
export type DeliveryState = Schemas["DeliveryState"];
export type MailSettings = MayMiss<Schemas["MailSettings"]>;
export type MailSecurity = Schemas["MailSecurity"];
export type MaintenanceInfo = MayMiss<Schemas["MaintenanceInfo"]>;
export type AlertNotice = MayMiss<Schemas["AlertNotice"]>;
export type ReactionInfo = MayMiss<Schemas["ReactionInfo"]>;
export type NewReaction = MayMiss<Schemas["NewReaction"]>;
export type AlertReaction = MayMiss<Schemas["AlertReaction"]>;
export type AlertDetail = Omit<
  MayMiss<Schemas["AlertDetail"]>,
  "alert" | "same" | "before" | "graph" | "notices" | "reactions"
> & {
  notices: AlertNotice[];
  reactions: AlertReaction[];
  alert: AlertInfo;
  graph?: MayMiss<Schemas["AlertGraph"]> | null;
  before: TimelineEntry[];
  same: AlertInfo[];
};
export interface AlertsChanged {
  open: number;
  critical: number;
}
export type PlaceHealth = Omit<Schemas["PlaceHealth"], "subsystems"> & {
  subsystems: { subsystem: Subsystem; worst: Severity; alerts: number; hosts: number }[];
};
export type HealthOverview = { whole: PlaceHealth; places: PlaceHealth[] };
export type HealthTrend = Omit<MayMiss<Schemas["HealthTrend"]>, "filling"> & {
  filling: MayMiss<Schemas["FillingHost"]>[];
};
export type CheckSetting = MayMiss<Schemas["CheckSetting"]>;
export type ProbeKind = Schemas["ProbeKind"];
export type ProbeState = Schemas["ProbeState"];
export type Probe = MayMiss<Schemas["Probe"]>;
export type ProbeFigure = Schemas["ProbeFigure"];
export type ProbeResult = Omit<MayMiss<Schemas["ProbeResult"]>, "figures"> & { figures: ProbeFigure[] };
export type ProbeOnHost = Omit<MayMiss<Schemas["ProbeOnHost"]>, "result"> & { result?: ProbeResult | null };
export type ProbeTrialLine = MayMiss<Schemas["ProbeTrialLine"]>;
export type CheckInfo = Omit<MayMiss<Schemas["CheckInfo"]>, "settings" | "severity" | "probe"> & {
  probe?: Probe | null;
  severity: Severity;
  settings: CheckSetting[];
};
export type CheckTrialResult = Omit<MayMiss<Schemas["CheckTrialResult"]>, "times"> & {
  times: MayMiss<Schemas["TrialAlert"]>[];
};
export type SeriesMark = MayMiss<Schemas["SeriesMark"]>;
export type MetricLine = Schemas["MetricLine"];
export type MetricSeries = Omit<Schemas["MetricSeries"], "marks"> & { marks: SeriesMark[] };
export type Problem = Schemas["Problem"];

export interface EstateChanges {
  reset: boolean;
  hosts: HostSummary[];
  gone?: string[] | null;
}

export interface SelectionChanges {
  reset: boolean;
  added: string[];
  removed: string[];
}

export interface OutputPiece {
  runId: string;
  sequence: number;
  stream: "stdout" | "stderr";
  data: string;
}

export interface JobChanges {
  reset: boolean;
  job: JobInfo;
  runs: RunInfo[];
  output: OutputPiece[];
  caughtUp: boolean;
  finished: boolean;
}

export interface ScanChanges {
  reset: boolean;
  info: ScanInfo;
  finds: ScanFind[];
}

/** Every invitation to the reader or from him that stands. */
export interface InvitationsNow {
  invitations: InvitationInfo[];
}

export interface EnrolmentPulse {
  waiting: number;
}
export type ShelfInfo = MayMiss<Schemas["ShelfInfo"]>;
export type TwinSide = Schemas["TwinSide"];
export type TwinChoice = Schemas["TwinChoice"];
export type TwinFolder = MayMiss<Schemas["TwinFolder"]>;
export type TwinRules = MayMiss<Schemas["TwinRules"]>;
export type TurnInfo = MayMiss<Schemas["TurnInfo"]>;
export type TurnAct = MayMiss<Schemas["TurnAct"]>;
export type TwinInfo = Omit<MayMiss<Schemas["TwinInfo"]>, "first" | "second" | "rules" | "turn"> & {
  first: TwinFolder;
  second: TwinFolder;
  rules: TwinRules;
  turn?: TurnInfo | null;
};
