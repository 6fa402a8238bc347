using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Jobs;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>The library of scripts.</summary>
public static class ScriptCommands
{
    private static readonly LibraryCommands Library = new("script", inSteps: false, "Restart a unit", "No script is kept yet. Keep one: umbrek script save 'Free space' --file free-space.sh");

    public static Command Script(ClientContext client)
    {
        var command = ClientCommands.Named("script", "Scripts that are kept: versions, parameters, who may use them.", "umbrek script run 'Restart a unit' --on 'quay-ticket-*' UNIT=ticket-print");
        command.Add(Library.List(client), Library.Show(client), Library.Run(client), Save(client), Library.Compare(client), Library.Change(client), Library.Remove(client));
        return command;
    }

    private static Command Save(ClientContext client)
    {
        var name = Library.NameArgument(client, "What it is called; a script of that name gets its next version.");
        var file = new Option<string?>("--file") { Description = "The script's text; - reads it from standard input.", HelpName = "file" };
        var job = new Option<string?>("--job") { Description = "Keeps what this job ran; its variables become parameters.", HelpName = "id" };
        var shell = new Option<string?>("--shell") { Description = "Program that reads it, when its first line names none.", HelpName = "program" };
        var parameters = new Option<string[]>("--parameter") { Description = "A parameter, as 'DAYS: whole 1..90 = 14 -- how old'; as often as needed. Kinds: text, whole, number, yes-no, choice, path, day. NAME? may stay without a value.", HelpName = "line", AllowMultipleArgumentsPerToken = false };
        var describe = new Option<string?>("--describe") { Description = "What it is for.", HelpName = "text" };
        var note = new Option<string?>("--note") { Description = "What is new in this version.", HelpName = "text" };
        var afresh = new Option<bool>("--afresh") { Description = "Takes neither parameters nor ways to run over from the version before." };
        var how = new HowOptions();
        var command = ClientCommands.Named("save", "Keeps a script, or the next version of one.",
            "umbrek script save 'Old tickets' --file old-tickets.sh --parameter 'DAYS: whole 1..90 = 14 -- how old'\n  umbrek script save 'Free space' --job 8fda0d97");
        command.Add([name, file, job, shell, parameters, describe, note, afresh, .. how.All]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var called = parsed.GetRequiredValue(name).Trim();
            var known = (await Library.AllAsync(api, cancel).ConfigureAwait(false)).FirstOrDefault(s => LibraryCommands.IsCalled(s, called));
            var before = known is null ? null : (await LibraryCommands.ReadAsync(api, known, null, cancel).ConfigureAwait(false)).Shown;
            var taken = parsed.GetValue(afresh) ? null : before;
            var typed = (parsed.GetValue(parameters) ?? []).Select(p => ParameterText.Read(p, out var problem) ?? throw new ClientException(problem, ExitCodes.WrongUse)).ToList();
            CommandSpec spec;
            if (parsed.GetValue(job) is { } id)
            {
                var ran = (await JobCommands.FindAsync(api, id, cancel).ConfigureAwait(false)).Command;
                // What was said for that one job is what can be said for the next.
                typed.InsertRange(0, (ran.Environment ?? new Dictionary<string, string>()).Where(e => !typed.Exists(t => t.Name == e.Key)).Select(e => new ScriptParameter(e.Key, Default: e.Value)));
                spec = ran with { Environment = null };
            }
            else
            {
                var text = parsed.GetValue(file) is { } from ? await RunOptions.ReadScriptAsync(from, cancel).ConfigureAwait(false) : before?.Command.Script;
                spec = (taken?.Command ?? new CommandSpec()) with { Script = text ?? throw new ClientException("Give the script's text with --file, or a job with --job.", ExitCodes.WrongUse) };
            }
            spec = await how.ApplyAsync(parsed, parsed.GetValue(shell) is { } reader ? spec with { Shell = reader } : spec, cancel).ConfigureAwait(false);
            var wanted = typed.Count > 0 ? typed : taken?.Parameters ?? [];
            ScriptDetail kept;
            if (known is null)
            {
                kept = await api.PostAsync("scripts", new NewScript(called, spec, parsed.GetValue(describe), wanted, null, parsed.GetValue(note)), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, cancel).ConfigureAwait(false);
            }
            else
            {
                kept = await api.PostAsync($"scripts/{known.Id}/versions", new NewScriptVersion(spec, wanted, parsed.GetValue(note)), known.Version, WireJson.Default.NewScriptVersion, WireJson.Default.ScriptDetail, cancel).ConfigureAwait(false);
                if (parsed.GetValue(describe) is { } words)
                {
                    await api.PutAsync($"scripts/{known.Id}", new ScriptChange(Description: words), kept.Script.Version, WireJson.Default.ScriptChange, WireJson.Default.ScriptInfo, cancel).ConfigureAwait(false);
                }
            }
            Listing.Say(client.Format(parsed), $"Kept '{kept.Script.Name}', version {kept.Shown.Number}, for {(kept.Script.Sharing.Count == 0 ? "its owner alone" : LibraryCommands.Sharing(kept.Script))}. Run it: umbrek script run '{kept.Script.Name}' --on HOSTS{string.Concat(wanted.Where(p => p is { Optional: false, Default: null }).Select(p => $" {p.Name}=…"))}", kept, WireJson.Default.ScriptDetail);
            return ExitCodes.Done;
        });
        return command;
    }
}
