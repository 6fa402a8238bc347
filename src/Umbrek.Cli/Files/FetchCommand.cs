using System.CommandLine;
using System.Text.Json.Serialization;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Text;

namespace Umbrek.Cli.Files;

/// <param name="Path">On the host.</param>
/// <param name="File">Here.</param>
/// <param name="Sha256">Of what arrived, in hexadecimal digits: what the host has read.</param>
public sealed record FetchedFile(string Path, string File, long Bytes, string Sha256);

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull)]
[JsonSerializable(typeof(List<FetchedFile>))]
public sealed partial class FetchJson : JsonSerializerContext;

/// <summary>Brings files and folders of a host here.</summary>
public static class FetchCommand
{
    private const string ToOutput = "-";

    public static Command Fetch(ClientContext client)
    {
        var host = new Argument<string>("host") { Description = "Label or system name of the host." };
        var paths = new Argument<string[]>("path") { Description = "Files and folders by their whole paths; * and ? stand for letters of a name.", Arity = ArgumentArity.OneOrMore };
        var to = new Option<string>("--to") { Description = "The folder that they come to lie in; '-' writes one file to standard output.", HelpName = "folder", DefaultValueFactory = _ => "." };
        var name = new Option<string?>("--as") { Description = "Another name for the one file or folder.", HelpName = "name" };
        var options = new TransferOptions("here", "fetched");
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("fetch", "Brings files and folders of a host here. One that was broken off goes on where it was.", "umbrek fetch creamery-files /srv/recipes --to ~/tarn-valley\n  umbrek fetch quay-ticket-03 '/var/log/kiosk*.log'\n  umbrek fetch quay-ticket-03 /etc/kiosk/kiosk.conf --to - | less");
        command.Add([host, paths, to, name, .. options.All, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var how = options.Read(parsed, client.Time);
            var folder = parsed.GetRequiredValue(to);
            var writes = folder == ToOutput;
            if (!writes && !Directory.Exists(folder))
            {
                throw new ClientException(File.Exists(folder) ? $"'{folder}' is a file; name a folder with --to, and the file's name with --as." : $"There is no folder '{folder}' here; make it first.", ExitCodes.WrongUse);
            }
            if (writes && parsed.GetValue(name) is not null)
            {
                throw new ClientException("Standard output has no name; leave --as out.", ExitCodes.WrongUse);
            }
            using var leave = new Leaving(cancel);
            using var api = client.State.Open();
            var found = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            await using var output = writes ? Console.OpenStandardOutput() : Stream.Null;
            await using var door = new HostFilesDoor(client, api, parsed, secrets, found);
            var fetch = new Fetch(
                door, how, client.Time,
                item => writes ? new OutputArrival(output) : new FileArrival(item.Target, found.Id, item.Path, item.Replaces));
            FetchPlan plan;
            try
            {
                plan = await fetch.RunAsync(
                    async files => OneOnly(await FetchPlan.MakeAsync(files, parsed.GetRequiredValue(paths), writes ? Path.Combine(Path.GetTempPath(), $"umbrek-{Guid.NewGuid():N}") : Path.GetFullPath(folder), parsed.GetValue(name), how.Existing, leave.Token).ConfigureAwait(false), writes), leave.Token).ConfigureAwait(false);
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                return Leaving.Say("What has come is kept; the same command goes on from there.");
            }
            foreach (var problem in plan.Problems.Concat(fetch.Problems))
            {
                await Console.Error.WriteLineAsync(TerminalText.Line(problem)).ConfigureAwait(false);
            }
            Tell(client, parsed, plan, fetch, found.Label, writes);
            return plan.Problems.Count + fetch.Problems.Count > 0 ? ExitCodes.Failed : ExitCodes.Done;
        });
        return command;
    }

    private static FetchPlan OneOnly(FetchPlan plan, bool writes) => !writes || (plan.Folders.Count == 0 && plan.Groups is [{ Items.Count: 1 }]) ? plan
        : throw new ClientException(plan.Problems is [var problem] ? problem : "Standard output takes one file; name a folder with --to for more.", ExitCodes.WrongUse);

    private static void Tell(ClientContext client, ParseResult parsed, FetchPlan plan, Fetch fetch, string host, bool writes)
    {
        var fetched = plan.Groups.SelectMany(g => g.Items).Where(i => i.Sha256 is not null).Select(i => new FetchedFile(i.Path.Text, i.Target, i.Entry.Bytes, Convert.ToHexStringLower(i.Sha256!))).ToList();
        if (writes)
        {
            return;
        }
        if (client.Format(parsed) != OutputFormat.Table)
        {
            Listing.Print(client.Format(parsed), fetched, FetchJson.Default.ListFetchedFile, "", new("Path", f => f.Path), new("File", f => f.File), new("Bytes", f => $"{f.Bytes}"), new("Sha256", f => f.Sha256));
            return;
        }
        var bytes = fetched.Sum(f => f.Bytes);
        var what = fetched is [var one] ? $"{TerminalText.Line(one.File)} ({Units.Bytes(bytes)})" : $"{fetched.Count} files ({Units.Bytes(bytes)})";
        var rate = TransferPace.Words(fetched.Count, bytes, fetch.Took);
        Console.Out.WriteLine(fetched.Count == 0 ? $"Nothing was fetched from {host}." : $"Fetched {what} from {host}{rate}; {(fetched.Count == 1 ? "it" : "each")} is as the host has read it.");
        if (plan.Same > 0)
        {
            Console.Out.WriteLine(plan.Same == 1 ? "1 was here as it is there." : $"{plan.Same} were here as they are there.");
        }
        if (plan.Kept > 0)
        {
            Console.Out.WriteLine(plan.Kept == 1 ? "1 that is another here was kept." : $"{plan.Kept} that are others here were kept.");
        }
    }
}
