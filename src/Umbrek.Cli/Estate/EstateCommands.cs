using System.CommandLine;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Text;
using Umbrek.Wire;

namespace Umbrek.Cli.Estate;

/// <summary>The whole tree out and in again.</summary>
public static class EstateCommands
{
    public static Command Estate(ClientContext client)
    {
        var command = ClientCommands.Named("estate", "The tree of customers, groups and hosts as a file.", "umbrek estate export > estate.csv");
        command.Add(Export(client), Import(client));
        return command;
    }

    private static Command Export(ClientContext client)
    {
        var command = ClientCommands.Named("export", "Writes the tree as CSV, or as JSON with --output json.", "umbrek estate export > estate.csv");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var format = client.Format(parsed) == OutputFormat.Json ? "json" : "csv";
            using var request = new HttpRequestMessage(HttpMethod.Get, $"api/v1/estate/tree?format={format}");
            using var answer = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            await using var output = Console.OpenStandardOutput();
            await answer.Content.CopyToAsync(output, cancel).ConfigureAwait(false);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Import(ClientContext client)
    {
        var file = new Argument<string>("file") { Description = "CSV, or JSON when its name ends so; '-' reads CSV from standard input." };
        var preview = new Option<bool>("--preview") { Description = "Only say what would change." };
        var command = ClientCommands.Named("import", "Puts customers, groups and hosts in their places: every line, or none when one is wrong.", "umbrek estate import estate.csv --preview");
        command.Add(file, preview);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var path = parsed.GetRequiredValue(file);
            var text = path == "-" ? await Console.In.ReadToEndAsync(cancel).ConfigureAwait(false) : await File.ReadAllTextAsync(path, cancel).ConfigureAwait(false);
            var json = path.EndsWith(".json", StringComparison.OrdinalIgnoreCase);
            using var request = new HttpRequestMessage(HttpMethod.Post, $"api/v1/estate/tree?preview={(parsed.GetValue(preview) ? "true" : "false")}") { Content = new StringContent(text, new MediaTypeHeaderValue(json ? "application/json" : "text/csv", "utf-8")) };
            using var answer = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            var outcome = (await answer.Content.ReadFromJsonAsync(WireJson.Default.ImportOutcome, cancel).ConfigureAwait(false))!;
            var format = client.Format(parsed);
            if (format == OutputFormat.Json)
            {
                Listing.PrintOne(format, outcome, WireJson.Default.ImportOutcome);
            }
            else
            {
                Listing.Print(format, outcome.Changes, WireJson.Default.ListImportChange, "Nothing changes: all stands as the lines say.", new("Line", c => $"{c.Line}", Right: true), new("Change", c => c.Says));
                foreach (var problem in outcome.Problems)
                {
                    Console.Error.WriteLine(TerminalText.Neutralise($"Line {problem.Line}: {problem.Problem}"));
                }
            }
            if (outcome.Problems.Count > 0)
            {
                throw new ClientException($"{outcome.Problems.Count} of {outcome.Lines} lines are wrong; nothing was imported.", ExitCodes.Failed);
            }
            if (format == OutputFormat.Table && outcome.Changes.Count > 0)
            {
                Console.Out.WriteLine(parsed.GetValue(preview) ? "Nothing has been changed; without --preview it is." : "Imported.");
            }
            return ExitCodes.Done;
        });
        return command;
    }
}
