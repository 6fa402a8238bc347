using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Jobs;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Files;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Files;

/// <summary><c>umbrek deliver</c>: files and folders to many hosts, sent to the service once.</summary>
public static class DeliverCommand
{
    /// <summary>Exit status of a host on which something is in the way.</summary>
    private const int Asks = 3;

    private static readonly TimeSpan Patience = TimeSpan.FromMinutes(10);

    public static Command Deliver(ClientContext client)
    {
        var named = new Argument<string[]>("file") { Description = "Files and folders here; '-' reads one file from standard input, which --as gives a name.", Arity = ArgumentArity.OneOrMore };
        var on = SelectionArgument.Option(client, "--on");
        var to = new Option<string?>("--to") { Description = "The folder that they come to lie in, by its whole path; with --place one below it.", HelpName = "folder" };
        var place = new Option<string?>("--place") { Description = $"A place that each system knows: {string.Join(", ", Enum.GetValues<NamedPlace>().Select(p => p.Word()))}.", HelpName = "place" };
        place.AcceptOnlyFromAmong([.. Enum.GetValues<NamedPlace>().Select(p => p.Word())]);
        var makes = new Option<bool>("--make-folder") { Description = "Makes the folder where it is not there." };
        var name = new Option<string?>("--as") { Description = "Another name for the one file or folder.", HelpName = "name" };
        var existing = new Option<string>("--existing") { Description = "What becomes of a file that is there already and is another: keep, replace, replace-older, rename or ask. When left out it is asked, and until then that host is left as it is.", HelpName = "way", DefaultValueFactory = _ => "ask" };
        existing.AcceptOnlyFromAmong("keep", "replace", "replace-older", "rename", "ask");
        var stops = new Option<bool>("--stop-at-error") { Description = "Puts nothing more on a host where something went wrong." };
        var mode = new Option<string?>("--mode") { Description = "Who may read, write and execute the files, such as 0640; as here when left out.", HelpName = "mode" };
        var owner = new Option<string?>("--owner") { Description = "Whose they are on the hosts, such as kiosk or kiosk:www-data; whose the folder is when left out.", HelpName = "owner" };
        var rate = new Option<string?>("--rate") { Description = "At most so much in a second to all hosts together: 500KiB or 20MiB.", HelpName = "bytes" };
        var pace = new PaceOptions();
        var follow = new FollowOptions();
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("deliver", "Brings files and folders to many hosts: they are sent to the service once, and each host fetches them, now or when it returns.", "umbrek deliver kiosk.conf --on 'quay-ticket-*' --to /etc/kiosk --existing replace\n  umbrek deliver 'Summer timetable.pdf' --on 'in \"Saltmarsh Ferry\"' --place desktop\n  umbrek deliver plates --on 'tagged dome' --to /srv --rate 20MiB --at-once 4");
        command.Add([named, on, to, place, makes, name, existing, stops, mode, owner, rate, .. pace.All, .. follow.All, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var (user, group) = FileModes.ReadOwner(parsed.GetValue(owner));
            var wish = new DeliverFiles(
                new string('0', 64), "?", 0, 0, FolderOf(parsed.GetValue(to), parsed.GetValue(place)), parsed.GetValue(place) is { } word ? NamedPlaces.Find(word) : null, parsed.GetValue(makes),
                TransferOptions.ReadExisting(parsed.GetRequiredValue(existing)), parsed.GetValue(stops), FileModes.Read(parsed.GetValue(mode)), user, group, TransferOptions.ReadRate(parsed.GetValue(rate)));
            if (wish.Check() is { } problem)
            {
                throw new ClientException(problem, ExitCodes.WrongUse);
            }
            var selection = parsed.GetRequiredValue(on);
            using var leave = new Leaving(cancel);
            using var api = client.State.Open();
            if ((await HostCommands.SelectAsync(api, selection, cancel).ConfigureAwait(false)).Count == 0)
            {
                throw new ClientException($"No host matches '{selection}'; nothing was sent. 'umbrek host list' shows the names.", ExitCodes.NothingMatched);
            }
            try
            {
                wish = await SendAsync(client, wish, parsed.GetRequiredValue(named), parsed.GetValue(name), leave.Token).ConfigureAwait(false);
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                return Leaving.Say("What was sent is kept by the service for a week; the same command goes on from there.");
            }
            var spec = new CommandSpec { Action = new HostAction { Deliver = wish } };
            var status = await RunCommand.SendAsync(client, parsed, api, new NewJob(selection, spec, follow.Expires(parsed), Pace: pace.Read(parsed)), spec, secrets, follow, cancel, folded: true, async job => await AskAsync(client, parsed, api, job, secrets, follow, cancel).ConfigureAwait(false)).ConfigureAwait(false);
            return status;
        });
        return command;
    }

    private static FileName? FolderOf(string? folder, string? place) =>
        folder is not null ? new FileName(place is null ? folder : folder.Trim('/'))
        : place is null ? throw new ClientException("Say where they go: --to FOLDER, by its whole path, or --place PLACE.", ExitCodes.WrongUse)
        : null;

    private static async Task<DeliverFiles> SendAsync(ClientContext client, DeliverFiles wish, string[] named, string? name, CancellationToken cancel)
    {
        var reads = named.Contains(InputFile.Sign);
        if (reads && (named.Length > 1 || name is null))
        {
            throw new ClientException(named.Length > 1 ? "Standard input is one file; deliver the others by themselves." : "What standard input becomes has no name; say one with --as.", ExitCodes.WrongUse);
        }
        using var input = reads ? await InputFile.ReadAsync(cancel).ConfigureAwait(false) : null;
        var found = input is not null ? [input.Path] : LocalFile.Expand(named).ToList();
        if (found.Find(f => !Path.Exists(f)) is { } missing)
        {
            throw new ClientException($"There is no file or folder '{missing}' here.", ExitCodes.NothingMatched);
        }
        if (name is not null && found.Count > 1)
        {
            throw new ClientException($"{found.Count} files or folders are named; --as gives a name to one.", ExitCodes.WrongUse);
        }
        using var send = new ParcelSend(client.State.Require(), ParcelPlan.Make(found, name), Patience, client.Time);
        var parcel = await send.RunAsync(cancel).ConfigureAwait(false);
        return wish with { Digest = parcel.Digest!, Name = parcel.Name, Files = parcel.Files, Bytes = parcel.Bytes };
    }

    /// <summary>Where something is in the way, whoever sits here says what becomes of it; without a person there it is said how to.</summary>
    /// <returns>How the second job ended; null when there is none.</returns>
    private static async Task<int?> AskAsync(ClientContext client, ParseResult parsed, ApiClient api, JobInfo job, HostSecretOptions secrets, FollowOptions follow, CancellationToken cancel)
    {
        var detail = await api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, cancel).ConfigureAwait(false);
        var asking = detail.Runs.Where(r => r is { State: RunState.Failed, ExitStatus: Asks }).ToList();
        if (asking.Count == 0)
        {
            return null;
        }
        var where = asking.Count == 1 ? $"On {asking[0].HostLabel}" : $"On {asking.Count} of {detail.Runs.Count} hosts";
        if (!Prompt.CanAsk)
        {
            await Console.Error.WriteLineAsync($"{where} something is in the way; nothing was put there. Say what becomes of it: umbrek job again {Output.Words.ShortId(job.Id)} --existing keep, replace, replace-older or rename").ConfigureAwait(false);
            return null;
        }
        var answer = Prompt.Line($"{where} something is in the way. keep, replace, replace-older, rename, or nothing to leave it: ").Trim();
        return answer is "keep" or "replace" or "replace-older" or "rename"
            ? await JobCommands.AgainAsync(client, parsed, api, detail.Job, asking, new NewJobAgain([.. asking.Select(r => r.Id)], follow.Expires(parsed), Existing: TransferOptions.ReadExisting(answer)), secrets, follow, cancel).ConfigureAwait(false)
            : null;
    }
}
