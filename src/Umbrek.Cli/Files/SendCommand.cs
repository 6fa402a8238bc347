using System.CommandLine;
using System.Text.Json.Serialization;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Files;
using Umbrek.Core.Text;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <param name="File">Here.</param>
/// <param name="Path">On the host.</param>
/// <param name="Sha256">Of what arrived, in hexadecimal digits: what was read here.</param>
public sealed record SentFile(string File, string Path, long Bytes, string Sha256);

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull)]
[JsonSerializable(typeof(List<SentFile>))]
public sealed partial class SendJson : JsonSerializerContext;

/// <summary>Brings files and folders to a host.</summary>
public static class SendCommand
{
    public static Command Send(ClientContext client)
    {
        var host = new Argument<string>("host") { Description = "Label or system name of the host." };
        var named = new Argument<string[]>("file") { Description = "Files and folders here; '-' reads one file from standard input, which --as gives a name.", Arity = ArgumentArity.OneOrMore };
        var to = new Option<string>("--to") { Description = "The folder on the host that they come to lie in, by its whole path.", HelpName = "folder", Required = true };
        var name = new Option<string?>("--as") { Description = "Another name for the one file or folder.", HelpName = "name" };
        var mode = new Option<string?>("--mode") { Description = "Who may read, write and execute the files, such as 0640; as here when left out.", HelpName = "mode" };
        var owner = new Option<string?>("--owner") { Description = "Whose they are on the host, such as kiosk or kiosk:www-data; whose the folder is when left out.", HelpName = "owner" };
        var options = new TransferOptions("there", "sent");
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("send", "Brings files and folders to a host. One that was broken off goes on where it was.", "umbrek send quay-ticket-03 kiosk.conf --to /etc/kiosk --existing replace\n  umbrek send creamery-files recipes labels --to /srv --rate 2MiB\n  tar c plates | umbrek send dome-archive - --as plates.tar --to /srv/backups");
        command.Add([host, named, to, name, mode, owner, .. options.All, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var how = options.Read(parsed, client.Time);
            var (user, group) = FileModes.ReadOwner(parsed.GetValue(owner));
            var wanted = new SendAs(FileModes.Read(parsed.GetValue(mode)), user, group);
            var folder = FileCommands.ReadPath(parsed.GetRequiredValue(to));
            var all = parsed.GetRequiredValue(named);
            var reads = all.Contains(InputFile.Sign);
            if (reads && (all.Length > 1 || parsed.GetValue(name) is null))
            {
                throw new ClientException(all.Length > 1 ? "Standard input is one file; send the others by themselves." : "What standard input becomes has no name; say one with --as.", ExitCodes.WrongUse);
            }
            using var leave = new Leaving(cancel);
            using var input = reads ? await InputFile.ReadAsync(leave.Token).ConfigureAwait(false) : null;
            var found = input is not null ? [input.Path] : LocalFile.Expand(all).ToList();
            if (found.Find(f => !Path.Exists(f)) is { } missing)
            {
                throw new ClientException($"There is no file or folder '{missing}' here.", ExitCodes.NothingMatched);
            }
            if (parsed.GetValue(name) is not null && found.Count > 1)
            {
                throw new ClientException($"{found.Count} files or folders are named; --as gives a name to one.", ExitCodes.WrongUse);
            }
            using var api = client.State.Open();
            var at = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            await using var door = new HostFilesDoor(client, api, parsed, secrets, at);
            var send = new Send(door, how, wanted, client.Time);
            SendPlan plan;
            try
            {
                plan = await send.RunAsync(files => SendPlan.MakeAsync(files, found, folder, parsed.GetValue(name), how.Existing, leave.Token), leave.Token).ConfigureAwait(false);
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                return Leaving.Say(reads ? "What was sent is of no use by itself." : "What was sent is kept on the host for a week; the same command goes on from there.");
            }
            foreach (var problem in plan.Problems.Concat(send.Problems))
            {
                await Console.Error.WriteLineAsync(TerminalText.Line(problem)).ConfigureAwait(false);
            }
            Tell(client, parsed, plan, send.Took, at.Label, reads);
            return plan.Problems.Count + send.Problems.Count > 0 ? ExitCodes.Failed : ExitCodes.Done;
        });
        return command;
    }

    private static void Tell(ClientContext client, ParseResult parsed, SendPlan plan, TimeSpan took, string host, bool reads)
    {
        var sent = plan.Groups.SelectMany(g => g.Items).Where(i => i.IsThere && i.Sha256 is not null).Select(i => new SentFile(reads ? InputFile.Sign : i.File, i.Target.Text, i.Bytes, Convert.ToHexStringLower(i.Sha256!))).ToList();
        if (client.Format(parsed) != OutputFormat.Table)
        {
            Listing.Print(client.Format(parsed), sent, SendJson.Default.ListSentFile, "", new("File", f => f.File), new("Path", f => f.Path), new("Bytes", f => $"{f.Bytes}"), new("Sha256", f => f.Sha256));
            return;
        }
        var bytes = sent.Sum(f => f.Bytes);
        var what = sent is [var one] ? $"{TerminalText.Line(one.Path)} ({Units.Bytes(bytes)})" : $"{sent.Count} files ({Units.Bytes(bytes)})";
        var rate = TransferPace.Words(sent.Count, bytes, took);
        var folders = plan.Folders.Count + plan.Links.Count;
        Console.Out.WriteLine(sent.Count == 0
            ? folders > 0 ? $"{(folders == 1 ? "1 folder" : $"{folders} folders and links")} came to {host}; there was no file to send." : $"Nothing was sent to {host}."
            : $"Sent {what} to {host}{rate}; {(sent.Count == 1 ? "it is" : "each is")} there as it was read here.");
        if (plan.Same > 0)
        {
            Console.Out.WriteLine(plan.Same == 1 ? "1 was there as it is here." : $"{plan.Same} were there as they are here.");
        }
        if (plan.Kept > 0)
        {
            Console.Out.WriteLine(plan.Kept == 1 ? "1 that is another there was kept." : $"{plan.Kept} that are others there were kept.");
        }
    }
}
