using System.Globalization;
using System.Text.Json.Serialization;
using Umbrek.Core.Text;

namespace Umbrek.Core.Jobs;

/// <summary>What a step's condition asks.</summary>
public enum ConditionKind
{
    /// <summary>Nothing: it is met whatever happened.</summary>
    Always,

    /// <summary>Whether a step before it has failed that may not.</summary>
    SomethingFailed,

    /// <summary>Whether the named step ended well.</summary>
    Succeeded,

    /// <summary>Whether the named step failed, may it or not.</summary>
    Failed,

    /// <summary>Whether the named step was left out because its own conditions were not met.</summary>
    LeftOut,

    /// <summary>Whether the named step ended with one of some exit statuses.</summary>
    Exit,

    /// <summary>Whether the named parameter has this value.</summary>
    Is,

    /// <summary>Whether it has another one, or none.</summary>
    IsNot,
}

/// <summary>One thing that must be so for a step to run.</summary>
/// <param name="Of">The step, or the parameter, that it is about.</param>
/// <param name="Exits">With <see cref="ConditionKind.Exit"/>: exit statuses.</param>
/// <param name="Value">With <see cref="ConditionKind.Is"/> and <see cref="ConditionKind.IsNot"/>; empty for none.</param>
public sealed record StepCondition(ConditionKind Kind, string? Of = null, IReadOnlyList<int>? Exits = null, string? Value = null)
{
    [JsonIgnore]
    public bool IsOfStep => Kind is ConditionKind.Succeeded or ConditionKind.Failed or ConditionKind.LeftOut or ConditionKind.Exit;

    [JsonIgnore]
    public bool IsOfParameter => Kind is ConditionKind.Is or ConditionKind.IsNot;

    public bool Equals(StepCondition? other) =>
        other is not null && Kind == other.Kind && Of == other.Of && Value == other.Value && (Exits ?? []).SequenceEqual(other.Exits ?? []);

    public override int GetHashCode() => HashCode.Combine(Kind, Of, Value, Exits?.Count);
}

/// <summary>One step of a runbook: a script with conditions.</summary>
/// <param name="Name">What it does, in a few words; no other step of the runbook has the same.</param>
/// <param name="Text">The script. It is put into a file on the host, which <paramref name="Shell"/> is given.</param>
/// <param name="Shell">The program that reads it; null means /bin/sh, or what its first line says after "#!".</param>
/// <param name="Note">Why it is done, and what to look at.</param>
/// <param name="When">All of them must be met. Where none speaks of how steps ended, nothing may have failed either.</param>
/// <param name="MayFail">Its failure is no failure of the runbook.</param>
/// <param name="Tries">How often it is tried until it ends well.</param>
/// <param name="PauseSeconds">Between two tries.</param>
/// <param name="TimeoutSeconds">Of each try; null means no limit of its own.</param>
public sealed record RunbookStep(
    string Name,
    string Text,
    string? Shell = null,
    string? Note = null,
    IReadOnlyList<StepCondition>? When = null,
    bool MayFail = false,
    int Tries = 1,
    double? PauseSeconds = null,
    double? TimeoutSeconds = null)
{
    public const int MostTries = 100;
    public const double LongestPause = 3600;

    private const int MostConditions = 10;
    private const int LongestNote = 2000;

    public bool Equals(RunbookStep? other) =>
        other is not null && (Name, Text, Shell, Note, MayFail, Tries, PauseSeconds, TimeoutSeconds) == (other.Name, other.Text, other.Shell, other.Note, other.MayFail, other.Tries, other.PauseSeconds, other.TimeoutSeconds)
        && (When ?? []).SequenceEqual(other.When ?? []);

    public override int GetHashCode() => HashCode.Combine(Name, Text, Shell, MayFail, Tries);

    /// <param name="before">The steps in front of it.</param>
    /// <returns>Null when it can be one, else what is wrong with it and what to do.</returns>
    internal string? Check(IReadOnlyList<RunbookStep> before)
    {
        if (Names.Clean(Name, $"name of step {before.Count + 1}", out var wrong) is not { } clean)
        {
            return wrong;
        }
        if (clean != Name || Name.Contains('"', StringComparison.Ordinal))
        {
            return $"The name of step {before.Count + 1} must have no quotation marks in it and no blanks around it.";
        }
        if (before.Any(s => s.Name.Equals(Name, StringComparison.OrdinalIgnoreCase)))
        {
            return $"There are two steps '{Name}'; conditions could not tell them apart. Rename one.";
        }
        if (string.IsNullOrWhiteSpace(Text))
        {
            return $"Step '{Name}' has nothing to run; write its text.";
        }
        if (Note is { Length: > LongestNote })
        {
            return $"The note of step '{Name}' has more than {LongestNote} characters.";
        }
        if (Tries is < 1 or > MostTries)
        {
            return $"Step '{Name}' can be tried 1 to {MostTries} times.";
        }
        if (PauseSeconds is { } pause && !(pause >= 0 && pause <= LongestPause))
        {
            return $"Between two tries of step '{Name}' can be 0 s to {Units.Span(TimeSpan.FromSeconds(LongestPause))}.";
        }
        if (TimeoutSeconds is { } timeout && !(timeout > 0 && timeout <= 366 * 86400.0))
        {
            return $"The time-out of step '{Name}' must be more than 0 seconds and at most a year; leave it out for none.";
        }
        if (When is { Count: > MostConditions })
        {
            return $"Step '{Name}' has {When.Count} conditions; {MostConditions} is the most.";
        }
        return (When ?? []).Select(c => CheckCondition(c, before)).FirstOrDefault(p => p is not null);
    }

    private string? CheckCondition(StepCondition condition, IReadOnlyList<RunbookStep> before)
    {
        if (condition is null)
        {
            return $"A condition of step '{Name}' is empty; leave it out.";
        }
        if (condition.IsOfStep && !before.Any(s => s.Name == condition.Of))
        {
            var close = Similarity.Closest(condition.Of ?? "", before.Select(s => s.Name));
            return $"A condition of step '{Name}' speaks of '{TerminalText.Line(condition.Of ?? "")}', which is no step before it{(close is null ? "." : $"; did you mean '{close}'?")}";
        }
        if (condition.IsOfParameter && !CommandSpec.IsVariableName(condition.Of))
        {
            return $"A condition of step '{Name}' speaks of '{TerminalText.Line(condition.Of ?? "")}', which can be no parameter.";
        }
        if (condition.IsOfParameter && (condition.Value ?? "").Length > ScriptParameter.LongestValue)
        {
            return $"A condition of step '{Name}' compares {condition.Of} with more than {ScriptParameter.LongestValue} characters.";
        }
        if (condition.Kind == ConditionKind.Exit && (condition.Exits is not { Count: > 0 and <= 50 } exits || exits.Any(e => e is < 0 or > 255)))
        {
            return $"A condition of step '{Name}' must name 1 to 50 exit statuses, each from 0 to 255.";
        }
        return null;
    }
}

/// <summary>The steps of a runbook together.</summary>
public static class RunbookSteps
{
    public const int Most = 50;

    /// <returns>Null when they can be run, else what is wrong.</returns>
    public static string? Check(IReadOnlyList<RunbookStep> steps)
    {
        if (steps.Count is 0 or > Most)
        {
            return steps.Count == 0 ? "The runbook has no steps; write at least one." : $"The runbook has {steps.Count} steps; {Most} is the most.";
        }
        var before = new List<RunbookStep>();
        foreach (var step in steps)
        {
            if (step is null)
            {
                return $"Step {before.Count + 1} is empty; leave it out.";
            }
            if (step.Check(before) is { } problem)
            {
                return problem;
            }
            before.Add(step);
        }
        return null;
    }

    /// <returns>Null when every parameter that a condition speaks of is one of these, else what is wrong.</returns>
    public static string? CheckParameters(IReadOnlyList<RunbookStep> steps, IReadOnlyCollection<string> names)
    {
        foreach (var step in steps)
        {
            if ((step.When ?? []).FirstOrDefault(c => c.IsOfParameter && !names.Contains(c.Of!)) is { } unknown)
            {
                return $"A condition of step '{step.Name}' speaks of {unknown.Of}, which is no parameter of the runbook{(Similarity.Closest(unknown.Of!, names) is { } close ? $"; did you mean {close}?" : names.Count == 0 ? "; it has none." : $"; it has {string.Join(", ", names)}.")}";
            }
        }
        return null;
    }

    /// <summary>"2 of 4", as people count.</summary>
    public static string Place(int index, int count) => string.Create(CultureInfo.InvariantCulture, $"{index + 1} of {count}");
}
