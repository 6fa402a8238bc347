using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>The library of runbooks: steps with conditions, written as documents.</summary>
public static class RunbookCommands
{
    private static readonly LibraryCommands Library = new("runbook", inSteps: true, "Bring a unit back", "No runbook is kept yet. Write one, see docs/runbooks.md, and keep it: umbrek runbook save bring-back.md");

    public static Command Runbook(ClientContext client)
    {
        var command = ClientCommands.Named("runbook", "Runbooks that are kept: steps with conditions and parameters.", "umbrek runbook run 'Bring a unit back' --on 'quay-ticket-*' UNIT=ticket-print");
        command.Add(Library.List(client), Library.Show(client), Library.Run(client), Read(client), Save(client), Library.Compare(client), Library.Change(client), Library.Remove(client));
        return command;
    }

    private static Argument<string> FileArgument() => new("file") { Description = "The document; - reads it from standard input.", HelpName = "file" };

    private static Command Read(ClientContext client)
    {
        var file = FileArgument();
        var command = ClientCommands.Named("read", "Reads a document and says what its steps are and when they run; nothing is kept or run.", "umbrek runbook read bring-back.md");
        command.Add(file);
        command.SetAction(async (parsed, cancel) =>
        {
            var book = await ReadAsync(parsed.GetRequiredValue(file), cancel).ConfigureAwait(false);
            if (client.Format(parsed) == OutputFormat.Json)
            {
                Listing.PrintOne(OutputFormat.Json, book, WireJson.Default.RunbookDocument);
                return ExitCodes.Done;
            }
            Listing.PrintOne(client.Format(parsed), book, WireJson.Default.RunbookDocument,
                ("Runbook", book.Title), ("Description", book.Description), ("Parameters", book.Parameters.Count == 0 ? null : string.Join('\n', book.Parameters.Select(ParameterText.Write))), ("How", JobCommands.How(book.Command, null)));
            Console.Out.WriteLine();
            var steps = book.Command.Steps!.ToList();
            Listing.Print(OutputFormat.Table, steps, WireJson.Default.ListRunbookStep, "",
                new("Step", s => RunbookSteps.Place(steps.IndexOf(s), steps.Count)), new("Does", s => s.Name), new("When, and how", When), new("Read by", s => s.Shell ?? "sh"), new("Lines", s => $"{s.Text.TrimEnd('\n').Split('\n').Length}", Right: true));
            return ExitCodes.Done;
        });
        return command;
    }

    private static string When(RunbookStep step) => RunbookText.Conditions(step) is { Length: > 0 } said ? said : "when nothing failed";

    private static Command Save(ClientContext client)
    {
        var file = FileArgument();
        var name = new Option<string?>("--name") { Description = "What it is called; the document's title when left out.", HelpName = "name" };
        var note = new Option<string?>("--note") { Description = "What is new in this version.", HelpName = "text" };
        var command = ClientCommands.Named("save", "Keeps a runbook that is written as a document, or the next version of one.", "umbrek runbook save bring-back.md --note 'asks three times'");
        command.Add(file, name, note);
        command.SetAction(async (parsed, cancel) =>
        {
            var book = await ReadAsync(parsed.GetRequiredValue(file), cancel).ConfigureAwait(false);
            var called = (parsed.GetValue(name) ?? book.Title)?.Trim() ?? throw new ClientException("The document has no title; begin it with a line such as '# Bring a unit back', or say --name.", ExitCodes.WrongUse);
            using var api = client.State.Open();
            var known = (await Library.AllAsync(api, cancel).ConfigureAwait(false)).FirstOrDefault(s => LibraryCommands.IsCalled(s, called));
            ScriptDetail kept;
            if (known is null)
            {
                kept = await api.PostAsync("scripts", new NewScript(called, book.Command, book.Description, book.Parameters, null, parsed.GetValue(note)), WireJson.Default.NewScript, WireJson.Default.ScriptDetail, cancel).ConfigureAwait(false);
            }
            else
            {
                kept = await api.PostAsync($"scripts/{known.Id}/versions", new NewScriptVersion(book.Command, book.Parameters, parsed.GetValue(note)), known.Version, WireJson.Default.NewScriptVersion, WireJson.Default.ScriptDetail, cancel).ConfigureAwait(false);
                if (book.Description is { } words && words != known.Description && known.MayGovern)
                {
                    await api.PutAsync($"scripts/{known.Id}", new ScriptChange(Description: words), kept.Script.Version, WireJson.Default.ScriptChange, WireJson.Default.ScriptInfo, cancel).ConfigureAwait(false);
                }
            }
            Listing.Say(client.Format(parsed), $"Kept '{kept.Script.Name}', version {kept.Shown.Number}, of {kept.Script.Steps} {(kept.Script.Steps == 1 ? "step" : "steps")}, for {(kept.Script.Sharing.Count == 0 ? "its owner alone" : LibraryCommands.Sharing(kept.Script))}. Run it: umbrek runbook run '{kept.Script.Name}' --on HOSTS{string.Concat(book.Parameters.Where(p => p is { Optional: false, Default: null }).Select(p => $" {p.Name}=…"))}", kept, WireJson.Default.ScriptDetail);
            return ExitCodes.Done;
        });
        return command;
    }

    /// <summary>A document that can be kept; what is wrong with it is said before anybody is asked.</summary>
    private static async Task<RunbookDocument> ReadAsync(string file, CancellationToken cancel)
    {
        var book = RunbookText.Read(await RunOptions.ReadScriptAsync(file, cancel).ConfigureAwait(false), out var problem);
        problem = book is null ? problem
            : book.Command.Check() ?? ScriptParameters.Check(book.Parameters) ?? RunbookSteps.CheckParameters(book.Command.Steps!, [.. book.Parameters.Select(p => p.Name), .. book.Command.Environment?.Keys ?? []]) ?? "";
        return problem.Length == 0 ? book! : throw new ClientException(problem, ExitCodes.WrongUse);
    }
}
