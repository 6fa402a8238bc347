using System.Text;
using Umbrek.Core.Text;

namespace Umbrek.Core.Jobs;

/// <summary>Commands as scripts that can be kept.</summary>
public static class ScriptText
{
    /// <summary>The same command as a script. Line breaks are those of Unix.</summary>
    public static CommandSpec Of(CommandSpec command)
    {
        if (command.Steps is { } steps)
        {
            return command with { Steps = [.. steps.Select(s => s with { Text = s.Text.Replace("\r\n", "\n", StringComparison.Ordinal), Note = string.IsNullOrWhiteSpace(s.Note) ? null : s.Note.Trim() })] };
        }
        if (command.Script is { } script)
        {
            return command with { Script = script.Replace("\r\n", "\n", StringComparison.Ordinal) };
        }
        return command.Line is { } line
            ? command with { Line = null, Shell = null, Script = $"#!{command.Shell ?? "/bin/sh"}\n{line.Replace("\r\n", "\n", StringComparison.Ordinal)}\n" }
            : command with { Arguments = null, Script = $"#!/bin/sh\nexec {string.Join(' ', (command.Arguments ?? []).Select(CommandSpec.QuoteForReading))}\n" };
    }

    /// <summary>What can be compared and read of a kept command: the text of a script, or the document of a runbook.</summary>
    public static string Body(CommandSpec command) =>
        command.Script ?? RunbookText.Write(new RunbookDocument(null, null, [], new CommandSpec { Steps = command.Steps ?? [] }));

    /// <summary>All of a version but its text, in lines that can be compared and read.</summary>
    public static IEnumerable<string> Settings(CommandSpec command, IReadOnlyList<ScriptParameter> parameters)
    {
        foreach (var parameter in parameters)
        {
            yield return ParameterText.Write(parameter);
        }
        if (command.Shell is { } shell)
        {
            yield return $"read by {shell}";
        }
        if (command.Arguments is { Count: > 0 } arguments)
        {
            yield return $"arguments {string.Join(' ', arguments.Select(CommandSpec.QuoteForReading))}";
        }
        if (command.User is { } user)
        {
            yield return $"as {user}";
        }
        if (command.WorkingDirectory is { } directory)
        {
            yield return $"in {directory}";
        }
        foreach (var (name, value) in command.Environment ?? new Dictionary<string, string>())
        {
            yield return $"with {name}={value}";
        }
        if (command.Input is { } input)
        {
            yield return $"with {Units.Bytes(input.Length)} of input";
        }
        if (command.Niceness is { } niceness)
        {
            yield return $"niceness {niceness}";
        }
        if (command.TimeoutSeconds is { } seconds)
        {
            yield return $"time-out {Units.Span(TimeSpan.FromSeconds(seconds))}";
        }
        if (command.OutputLimitBytes is { } limit)
        {
            yield return $"output up to {Units.Bytes(limit)}";
        }
    }

    /// <summary>What is sent to the hosts: the kept command with the values of its parameters.</summary>
    public static CommandSpec Fill(CommandSpec kept, IReadOnlyDictionary<string, string> values)
    {
        if (values.Count == 0)
        {
            return kept;
        }
        var environment = new SortedDictionary<string, string>(StringComparer.Ordinal);
        foreach (var (name, value) in kept.Environment ?? new Dictionary<string, string>())
        {
            environment[name] = value;
        }
        foreach (var (name, value) in values)
        {
            environment[name] = value;
        }
        return kept with { Environment = environment };
    }

    /// <summary>Whether a command is a kept one with these values; where it runs, as whom and for how long may be said anew.</summary>
    public static bool IsOf(CommandSpec command, CommandSpec filled) =>
        command.Script == filled.Script && (command.Steps ?? []).SequenceEqual(filled.Steps ?? []) && command.Shell == filled.Shell && command.Line is null
        && (command.Arguments ?? []).SequenceEqual(filled.Arguments ?? [])
        && (command.Environment ?? new Dictionary<string, string>()).OrderBy(e => e.Key, StringComparer.Ordinal).SequenceEqual((filled.Environment ?? new Dictionary<string, string>()).OrderBy(e => e.Key, StringComparer.Ordinal));
}
