using Umbrek.Core.Access;
using Umbrek.Core.Jobs;

namespace Umbrek.Wire.Jobs;

/// <param name="Selection">Which hosts; see docs/selections.md.</param>
/// <param name="ExpiresInSeconds">How long a run waits for a host that is away; null means a day.</param>
/// <param name="UsesVault">Whether the service proves the access key from the vault to hosts that ask for one; takes <c>use-secrets</c> there.</param>
/// <param name="Seals">The same command, sealed for each host that asks for its access key: its text is the <see cref="CommandSpec"/> as JSON.</param>
/// <param name="Command">May be left out beside <paramref name="Script"/>; if it is there, it must be what the library gives with these values, and only as whom, where and how long it runs may be said anew.</param>
/// <param name="Pace">How the hosts take turns; null means all at once.</param>
/// <param name="Script">The script of the library that the command is.</param>
public sealed record NewJob(string Selection, CommandSpec? Command = null, long? ExpiresInSeconds = null, IReadOnlyList<SealedOrder>? Seals = null, bool UsesVault = false, RunPace? Pace = null, ScriptUse? Script = null);

/// <summary>How many runs of a job stand where.</summary>
public sealed record RunCounts(int Waiting, int Sent, int Running, int Succeeded, int Failed, int TimedOut, int Refused, int Cancelled, int Expired, int Interrupted)
{
    public int Total => Waiting + Sent + Running + Ended;
    public int Ended => Succeeded + Failed + TimedOut + Refused + Cancelled + Expired + Interrupted;
}

/// <param name="AgainOf">The job whose command was run again on some of its hosts.</param>
/// <param name="Script">Where the command came from; null when it was written for this job.</param>
public sealed record JobInfo(
    Guid Id,
    DateTimeOffset CreatedAt,
    string CreatedBy,
    string Selection,
    CommandSpec Command,
    string CommandText,
    DateTimeOffset ExpiresAt,
    DateTimeOffset? CancelledAt,
    string? CancelledBy,
    RunCounts Runs,
    RunPace? Pace = null,
    Guid? AgainOf = null,
    ScriptMark? Script = null);

/// <param name="Held">Its host is linked, and its turn has not come yet.</param>
/// <param name="FetchedBytes">While the host fetches what it is to put somewhere: so much has left the service.</param>
/// <param name="Steps">Of a runbook: what has become of the steps that were reached, in order.</param>
/// <param name="OutputGone">It printed something, which is not kept any longer.</param>
public sealed record RunInfo(
    Guid Id,
    Guid JobId,
    Guid HostId,
    string HostLabel,
    string SystemName,
    string GroupPath,
    RunState State,
    DateTimeOffset CreatedAt,
    DateTimeOffset? StartedAt,
    DateTimeOffset? EndedAt,
    int? ExitStatus,
    string? Reason,
    string? User,
    long StdoutBytes,
    long StderrBytes,
    bool Held = false,
    long? FetchedBytes = null,
    IReadOnlyList<StepStatus>? Steps = null,
    bool OutputGone = false);

public sealed record JobDetail(JobInfo Job, IReadOnlyList<RunInfo> Runs);

/// <summary>A piece of output as the command wrote it.</summary>
/// <param name="Stream">Stdout or stderr.</param>
public sealed record OutputPiece(Guid RunId, long Sequence, RunEventKind Stream, byte[] Data);

/// <summary>One message of a live view of a job.</summary>
/// <param name="Reset">True for the first message: forget what was shown before.</param>
/// <param name="Runs">Runs that changed.</param>
/// <param name="Output">New output, in order within each run.</param>
/// <param name="CaughtUp">True when everything that is stored has been sent.</param>
/// <param name="Finished">True when, besides, every run has ended: the last message.</param>
public sealed record JobChanges(bool Reset, JobInfo Job, IReadOnlyList<RunInfo> Runs, IReadOnlyList<OutputPiece> Output, bool CaughtUp = false, bool Finished = false);
