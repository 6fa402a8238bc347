using Umbrek.Core.Jobs;

namespace Umbrek.Wire.Health;

/// <summary>A runbook or a script that runs on a host by itself when a check raises an alert there.</summary>
/// <param name="Place">The group's path or the host's label; null is everything.</param>
/// <param name="Script">What runs; null when the owner has it no more.</param>
/// <param name="Number">Its version; null is the newest at the time.</param>
/// <param name="Values">Of its parameters; empty texts for those who may not run commands there.</param>
/// <param name="WaitSeconds">How long the alert has to be open first.</param>
/// <param name="SpacingSeconds">How far apart two runs on one host are at least.</param>
/// <param name="Owner">It does what he may do: whoever wrote it last.</param>
/// <param name="Ran">How often it has run.</param>
/// <param name="LastProblem">Why it did not run the last time that it was to; null when it did.</param>
public sealed record ReactionInfo(
    Guid Id, string Name, string Check, string CheckName, Guid? GroupId, Guid? HostId, string? Place, Guid ScriptId, string? Script, bool IsRunbook, int? Number, IReadOnlyDictionary<string, string> Values,
    double WaitSeconds, double SpacingSeconds, bool UsesVault, bool Off, string Owner, int Ran, DateTimeOffset? LastAt, string? LastProblem, long Version);

/// <param name="Check">The check's key.</param>
/// <param name="GroupId">The group that it is for, with everything below, or <paramref name="HostId"/>; neither is everything.</param>
/// <param name="UsesVault">Whether the access key from the vault is proven to hosts that ask for one.</param>
public sealed record NewReaction(
    string Name, string Check, Guid ScriptId, Guid? GroupId = null, Guid? HostId = null, int? Number = null, IReadOnlyDictionary<string, string>? Values = null,
    double WaitSeconds = 0, double SpacingSeconds = 3600, bool UsesVault = false, bool Off = false);

/// <summary>What ran because of an alert, is going to, or did not.</summary>
/// <param name="At">When it ran or was left out; null when neither has happened yet.</param>
/// <param name="JobId">The job that was made; null when none was.</param>
/// <param name="State">Of the job's run; null when there is none any more.</param>
/// <param name="Says">In a sentence, what there is to say besides.</param>
public sealed record AlertReaction(Guid ReactionId, string Name, DateTimeOffset? At, Guid? JobId, RunState? State, string? Says);
