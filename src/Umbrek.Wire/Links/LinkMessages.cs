using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Core.Jobs;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Files;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Shell;

namespace Umbrek.Wire.Links;

/// <summary>The link's version and its limits. docs/protocol.md describes the whole of it.</summary>
public static class LinkProtocol
{
    public const int Version = 1;

    /// <summary>The oldest agent that this service still speaks with.</summary>
    public const int OldestVersion = 1;
    public const string Path = "/link";

    /// <summary>A larger message closes the link.</summary>
    public const int MaxMessageBytes = 32 * 1024;
    public static readonly TimeSpan PingInterval = TimeSpan.FromSeconds(10);
    public static readonly TimeSpan Silence = TimeSpan.FromSeconds(Presence.SilenceSeconds);

    /// <summary>Time that an agent has to answer the challenge.</summary>
    public static readonly TimeSpan HelloWithin = TimeSpan.FromSeconds(15);

    /// <summary>Most unfinished runs on one host.</summary>
    public const int MaxUnfinishedRuns = 400;
}

/// <summary>Names of the methods that the agent calls on the service.</summary>
public static class ToService
{
    public const string Hello = nameof(Hello);
    public const string Facts = nameof(Facts);
    public const string Samples = nameof(Samples);
    public const string RunEvents = nameof(RunEvents);
    public const string RunHeld = nameof(RunHeld);
    public const string ScanReport = nameof(ScanReport);
    public const string UpdateEnded = nameof(UpdateEnded);
    public const string OwnSide = nameof(OwnSide);
    public const string KeyTried = nameof(KeyTried);
    public const string PersonAnswered = nameof(PersonAnswered);
    public const string FilesRead = nameof(FilesRead);
    public const string Probes = nameof(Probes);
    public const string ProbeTried = nameof(ProbeTried);
    public const string Goodbye = nameof(Goodbye);
}

/// <summary>Names of the methods that the service calls on the agent.</summary>
public static class ToAgent
{
    public const string Challenge = nameof(Challenge);
    public const string StartRun = nameof(StartRun);
    public const string CancelRun = nameof(CancelRun);
    public const string RunsKept = nameof(RunsKept);
    public const string SamplesKept = nameof(SamplesKept);
    public const string WantPolicy = nameof(WantPolicy);
    public const string WantProbes = nameof(WantProbes);
    public const string OpenChannel = nameof(OpenChannel);
    public const string EndSession = nameof(EndSession);
    public const string Ask = nameof(Ask);
}

/// <summary>Sent by the service when a connection opens. Nothing but <see cref="LinkHello"/> is heard before it is answered.</summary>
/// <param name="Nonce">Fresh random bytes to sign (<see cref="Umbrek.Core.Links.LinkProof"/>).</param>
public sealed record LinkChallenge(int Version, int OldestVersion, byte[] Nonce, DateTimeOffset ServiceTime);

/// <param name="UnfinishedRuns">Runs whose journal this agent holds; a run that the service believes to be here and is not in it was interrupted.</param>
/// <param name="EndedUpdate">An update that was taken back since the last hello.</param>
/// <param name="Side">What the host allows as it says hello; told anew (<see cref="ToService.OwnSide"/>) whenever it changes.</param>
/// <param name="HardwareId">The board's id, and <paramref name="BootId"/> the running boot's: two machines with one identity are told apart by them.</param>
public sealed record LinkHello(
    int Version, Guid HostId, byte[] Proof, string AgentVersion, string SystemName, DateTimeOffset HostTime, IReadOnlyList<Guid> UnfinishedRuns,
    string? HardwareId = null, string? BootId = null, UpdateReport? EndedUpdate = null, HostSide? Side = null);

public enum LinkRefusal
{
    None,
    VersionTooOld,
    VersionTooNew,
    UnknownHost,
    WrongProof,
    HostRetired,

    /// <summary>A person has to let the host in first; it asks again until then.</summary>
    AwaitingApproval,

    /// <summary>A person decided against the host.</summary>
    EnrolmentRejected,

    /// <summary>Another machine is linked with this identity: this one takes one of its own, with <see cref="LinkWelcome.SplitToken"/>.</summary>
    ClonedIdentity,
}

/// <summary>The answer to a hello.</summary>
/// <param name="Refusal">None, or why the link ends now.</param>
/// <param name="Message">A sentence for the agent's log and status when refused.</param>
/// <param name="HostId">The entry that this host goes on under, when it is another than it said.</param>
/// <param name="Policy">What the service wants the host to allow; told anew (<see cref="ToAgent.WantPolicy"/>) whenever it changes.</param>
/// <param name="SplitToken">With <see cref="LinkRefusal.ClonedIdentity"/>: an enrolment token for this one machine, good for minutes.</param>
public sealed record LinkWelcome(LinkRefusal Refusal, string? Message, string Label, string GroupPath, int SampleIntervalSeconds, Guid? HostId = null, string? SplitToken = null, HostPolicy? Policy = null);

/// <summary>Facts that are new or changed since the last report on this link.</summary>
public sealed record FactReport(IReadOnlyList<Fact> Facts);

/// <summary>Samples, oldest first; at most <see cref="MaxCount"/>.</summary>
/// <param name="SentAt">By the host's clock, so that the service sees how far that is off; null from an agent that does not say.</param>
public sealed record SampleBatch(IReadOnlyList<Sample> Samples, DateTimeOffset? SentAt = null)
{
    public const int MaxCount = 20;
}

/// <summary>What a host is to look at for one check.</summary>
/// <param name="Check">The check's key.</param>
/// <param name="Name">The check's name, for the host's own log.</param>
public sealed record ProbeOrder(string Check, string Name, Probe Probe);

/// <summary>Everything that a host is to look at from now on, in place of what it was told before.</summary>
public sealed record WantedProbes(IReadOnlyList<ProbeOrder> Probes)
{
    /// <summary>A host looks at no more.</summary>
    public const int MaxCount = 50;
}

/// <summary>Where probes stand that have news, and what happened; told again until the service has answered.</summary>
/// <param name="SentAt">By the host's clock, as all times in it.</param>
public sealed record ProbeReport(DateTimeOffset SentAt, IReadOnlyList<ProbeResult> Results, IReadOnlyList<ProbeEvent> Events)
{
    public const int MaxResults = 4;
    public const int MaxEvents = 8;
}

/// <summary>What a look found that was asked for once.</summary>
public sealed record ProbeTried(Guid TrialId, ProbeReading Found);

/// <summary>Events of runs in the order of their sequences.</summary>
public sealed record RunEventBatch(IReadOnlyList<RunEvent> Events);

/// <summary>An order to run a command, once.</summary>
/// <param name="OrderedAt">When the service made the run; an agent takes no order older than <see cref="OldestOrder"/>.</param>
/// <param name="Sealed">The command as its technician sealed it, where the host asks for its access key: a <see cref="CommandSpec"/> as JSON.</param>
/// <param name="Ticket">With it the host fetches what the command has it put somewhere.</param>
public sealed record RunOrder(Guid RunId, Guid JobId, DateTimeOffset OrderedAt, CommandSpec Command, string OrderedBy, SealedOrder? Sealed = null, string? Ticket = null)
{
    /// <summary>How long an agent remembers run ids, and so the oldest order that it can take safely.</summary>
    public static readonly TimeSpan OldestOrder = TimeSpan.FromDays(90);
}

public sealed record RunCancel(Guid RunId, string CancelledBy);

/// <summary>An order to come to a channel of a session.</summary>
/// <param name="Kind">One of <see cref="Sessions.ChannelKinds"/>.</param>
/// <param name="Ticket">For <see cref="Sessions.ChannelJoin"/>.</param>
/// <param name="Shell">With the kind <c>shell</c>.</param>
/// <param name="View">With the kinds <c>processes</c> and <c>services</c>.</param>
/// <param name="Log">With the kind <c>logs</c>.</param>
/// <param name="Files">With the kind <c>files</c>.</param>
/// <param name="Desktop">With the kind <c>desktop</c>.</param>
/// <param name="From">The address that the technician comes from.</param>
/// <param name="Reason">What he has said that the session is for.</param>
public sealed record ChannelOrder(
    Guid ChannelId, Guid SessionId, string Kind, string Ticket, string Technician, ShellOrder? Shell = null, ViewOrder? View = null, LogOrder? Log = null, FilesOrder? Files = null, DesktopOrder? Desktop = null,
    string? From = null, string? Reason = null);

/// <summary>Somebody tried a secret of the host.</summary>
/// <param name="Secret">Its name: the access key, or the passcode.</param>
/// <param name="Why">Why it was refused; null when it was proven.</param>
/// <param name="Changed">Another access key was set with it.</param>
public sealed record KeyReport(Guid SessionId, string Secret, string? Why, bool Changed = false);

/// <summary>A person at the host was asked whether a run, or what a channel is for, may begin, and has answered.</summary>
/// <param name="RunId">The run, or the channel.</param>
/// <param name="Person">The person's logon there.</param>
/// <param name="PutOffMinutes">Said instead of an answer: by how much the person has put it off.</param>
/// <param name="Deed">Said instead of an answer: what was done at the host while the channel was open.</param>
public sealed record ConsentReport(Guid RunId, string Technician, string Person, bool Agreed, double? PutOffMinutes = null, DeskDeed? Deed = null);

/// <summary>What is done at a host while a technician is at its desktop.</summary>
public enum DeskDeed
{
    /// <summary>A person there has ended it.</summary>
    Ended,

    /// <summary>The technician has taken keyboards and mice away from the people there.</summary>
    InputTaken,

    /// <summary>They have them back.</summary>
    InputGivenBack,

    /// <summary>The technician has hidden the screens from them.</summary>
    ScreenHidden,

    /// <summary>They see them again.</summary>
    ScreenShown,

    /// <summary>Their screens were locked when he left.</summary>
    Locked,

    /// <summary>They were to be, and were not.</summary>
    NotLocked,

    /// <summary>The host had no screen, and was given one for him.</summary>
    ScreenGiven,
}

/// <summary>The session is over: what was proven in it counts no longer.</summary>
/// <param name="KeepsShells">Nobody used it any more, and nothing was taken from its technician: his shells go on as long as he wanted.</param>
public sealed record SessionEnd(Guid SessionId, bool KeepsShells = false);

/// <summary>Everything of the run up to this sequence is stored; the agent may forget it.</summary>
public sealed record RunKept(Guid RunId, long Sequence);

public sealed record RunsKept(IReadOnlyList<RunKept> Runs);

/// <summary>All samples up to this time are stored.</summary>
public sealed record SamplesKept(DateTimeOffset UpTo);

/// <summary>The run goes on but stands still on the host, for example because its journal's disk is full.</summary>
public sealed record RunHeld(Guid RunId, string? Reason);

public sealed record LinkGoodbye(AwayReason Reason);

/// <summary>Something that the service asks of an agent and waits for.</summary>
/// <param name="Kind">What is asked: <c>facts</c> gathers and reports all facts now; <c>ping</c> only answers; <c>update</c> takes a release, and answers before it has;
/// <c>scan</c> begins one, <c>cancel-scan</c> ends it; <c>probe</c> looks once, does nothing about it, and tells of it by <see cref="ToService.ProbeTried"/>.</param>
/// <param name="Release">With <c>update</c>.</param>
/// <param name="Scan">With <c>scan</c> and <c>cancel-scan</c>.</param>
/// <param name="Look">With <c>probe</c>.</param>
/// <param name="Typing">With <c>type-secret</c>, which answers when it is typed.</param>
public sealed record HostRequest(string Kind, ReleaseOffer? Release = null, ScanOrder? Scan = null, LookOrder? Look = null, Guid? ShellId = null, SecretTyping? Typing = null)
{
    public const string TypeSecret = "type-secret";
    public const string Shells = "shells";
    public const string Screens = "screens";
    public const string EndShell = "end-shell";
    public const string BeginLook = "probe";
    public const string BeginScan = "scan";
    public const string CancelScan = "cancel-scan";
    public const string Update = "update";
    public const string Facts = "facts";
    public const string Ping = "ping";
}

/// <summary>An agent program that the host is to run, fetched from <see cref="PathOf"/> of the service.</summary>
public sealed record ReleaseOffer(ReleaseManifest Manifest, byte[] Signature)
{
    public static string PathOf(string sha256) => $"releases/{sha256}";
}

/// <summary>A secret that is to be typed at the desktop which one of these sessions controls.</summary>
/// <param name="Name">What it is called: this is told, and the text never is.</param>
/// <param name="Enter">The key Enter is pressed behind it.</param>
public sealed record SecretTyping(IReadOnlyList<Guid> SessionIds, string Name, string Text, bool Enter)
{
    public const int MostText = 512;

    /// <summary>No text of it stands in any log.</summary>
    public override string ToString() => $"{nameof(SecretTyping)} {{ {Name} }}";
}

/// <summary>An order to look once.</summary>
public sealed record LookOrder(Guid TrialId, Probe Probe);

/// <summary>An order to look who answers at the addresses from the first to the last.</summary>
public sealed record ScanOrder(Guid ScanId, uint First, uint Last, IReadOnlyList<int> Ports, int ProbesPerSecond);

/// <param name="HardwareAddress">Like 00:00:5e:00:53:07, from the neighbour table.</param>
/// <param name="Name">From reverse DNS, or from multicast DNS.</param>
public sealed record ScanAnswer(string Address, string? HardwareAddress, string? Name, IReadOnlyList<int> OpenPorts);

/// <summary>How far a scan is, and who answered since the last report.</summary>
/// <param name="Problem">Null, or why it ended before its end.</param>
public sealed record ScanReport(Guid ScanId, int Probed, bool Ended, string? Problem, IReadOnlyList<ScanAnswer> Answers)
{
    public const int MaxAnswers = 50;
}

/// <summary>An update did not come to a link with the new version, and the old one runs.</summary>
/// <param name="WentBack">True when the new version ran and did not prove itself; false when it was never started.</param>
public sealed record UpdateReport(string Version, bool WentBack, string Reason);

/// <param name="Error">Null, or a sentence saying what went wrong on the host.</param>
/// <param name="Shells">The shells that go on there, where that was asked.</param>
/// <param name="Screens">The screens that there are, where that was asked.</param>
public sealed record HostAnswer(string? Error, IReadOnlyList<ShellInfo>? Shells = null, IReadOnlyList<ScreenInfo>? Screens = null);
