using Umbrek.Core.Jobs;

namespace Umbrek.Wire.Jobs;

/// <summary>Who besides its owner may use a script.</summary>
/// <param name="TeamId">Null means everybody who may run commands somewhere.</param>
/// <param name="Team">The team's name; not read when it is sent.</param>
/// <param name="MayChange">Whether they may write new versions as well.</param>
public sealed record ScriptShare(Guid? TeamId = null, string? Team = null, bool MayChange = false);

/// <summary>A script or a runbook of the library.</summary>
/// <param name="OwnerId">Null when its owner has been removed.</param>
/// <param name="Latest">Number of the newest version.</param>
/// <param name="Parameters">Of the newest version.</param>
/// <param name="Steps">How many steps the newest version of a runbook has; null for a script.</param>
/// <param name="MayChange">Whether the one who asks may write new versions.</param>
/// <param name="MayGovern">Whether he may rename, share, hand over and remove it.</param>
/// <param name="Jobs">How many jobs it was used in.</param>
/// <param name="Version">Counts edits, for If-Match.</param>
public sealed record ScriptInfo(
    Guid Id,
    string Name,
    string? Description,
    Guid? OwnerId,
    string Owner,
    IReadOnlyList<ScriptShare> Sharing,
    int Latest,
    IReadOnlyList<ScriptParameter> Parameters,
    DateTimeOffset CreatedAt,
    DateTimeOffset ChangedAt,
    string ChangedBy,
    bool MayChange,
    bool MayGovern,
    int Jobs,
    DateTimeOffset? LastUsedAt,
    long Version,
    int? Steps = null);

/// <summary>One version; it never changes.</summary>
/// <param name="Command">Its text in <see cref="CommandSpec.Script"/>, or its <see cref="CommandSpec.Steps"/>, and how it usually runs.</param>
/// <param name="Note">What changed.</param>
public sealed record ScriptVersion(int Number, CommandSpec Command, IReadOnlyList<ScriptParameter> Parameters, string? Note, DateTimeOffset CreatedAt, string CreatedBy);

/// <param name="Lines">Of its text; for a runbook of all its steps together.</param>
/// <param name="Steps">Null for a script.</param>
public sealed record ScriptVersionMark(int Number, int Lines, string? Note, DateTimeOffset CreatedAt, string CreatedBy, int? Steps = null);

/// <param name="Shown">The version that was asked for; the newest when none was.</param>
/// <param name="Versions">All, newest first.</param>
public sealed record ScriptDetail(ScriptInfo Script, ScriptVersion Shown, IReadOnlyList<ScriptVersionMark> Versions);

/// <param name="Command">A script, a command that becomes one, or the steps of a runbook.</param>
public sealed record NewScript(string Name, CommandSpec Command, string? Description = null, IReadOnlyList<ScriptParameter>? Parameters = null, IReadOnlyList<ScriptShare>? Sharing = null, string? Note = null);

public sealed record NewScriptVersion(CommandSpec Command, IReadOnlyList<ScriptParameter>? Parameters = null, string? Note = null);

/// <summary>What a script is called and whose it is; null leaves each as it was.</summary>
/// <param name="Description">Empty for none.</param>
/// <param name="OwnerId">Who is to have it.</param>
public sealed record ScriptChange(string? Name = null, string? Description = null, IReadOnlyList<ScriptShare>? Sharing = null, Guid? OwnerId = null);

/// <summary>A script of the library, to be run.</summary>
/// <param name="Number">The version; null means the newest.</param>
/// <param name="Values">Of its parameters, by name, as people write them.</param>
public sealed record ScriptUse(Guid Id, int? Number = null, IReadOnlyDictionary<string, string>? Values = null);

/// <summary>What is sent to the hosts for it.</summary>
public sealed record FilledScript(ScriptMark Script, CommandSpec Command);

/// <summary>Where a job's command came from.</summary>
public sealed record ScriptMark(Guid Id, string Name, int Number);

/// <summary>Two versions line by line.</summary>
/// <param name="Settings">Parameters and how it runs, a line for each.</param>
public sealed record ScriptComparison(ScriptVersionMark First, ScriptVersionMark Second, IReadOnlyList<AnswerLine> Settings, IReadOnlyList<AnswerLine> Text);

/// <summary>A runbook as people write it, to be read.</summary>
/// <param name="Text">Markdown; see docs/runbooks.md.</param>
public sealed record RunbookDraft(string Text);
