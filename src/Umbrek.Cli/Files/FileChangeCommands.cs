using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Estate;
using Umbrek.Core.Files;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <summary>Changes files of a host.</summary>
public static class FileChangeCommands
{
    public static Command Make(ClientContext client)
    {
        var path = PathArgument("path", "The whole path of the new folder.");
        return Build(
            client, "make", "Makes a folder on a host; it belongs to whoever the folder around it belongs to.", "umbrek file make creamery-files /srv/recipes/2027", [path], [],
            async (parsed, on, cancel) =>
            {
                var at = FileCommands.ReadPath(parsed.GetRequiredValue(path));
                await on.ChangeAsync(new FileChange(Folder: at), cancel).ConfigureAwait(false);
                return $"{at} is there.";
            });
    }

    public static Command Move(ClientContext client)
    {
        var from = PathArgument("path", "What is moved or renamed, by its whole path.");
        var to = PathArgument("to", "Its new whole path; with a slash at its end, the folder that it comes to lie in.");
        return Build(
            client, "move", "Moves or renames a file or folder of a host. Nothing is overwritten by it.", "umbrek file move quay-ticket-03 /etc/kiosk/kiosk.conf /etc/kiosk/kiosk.conf.before\n  umbrek file move creamery-files /srv/incoming/labels.ods /srv/labels/", [from, to], [],
            async (parsed, on, cancel) =>
            {
                var (source, text) = (FileCommands.ReadPath(parsed.GetRequiredValue(from)), parsed.GetRequiredValue(to));
                var target = FileCommands.ReadPath(text);
                target = text.EndsWith('/') ? target.In(source.Last()) : target;
                await on.ChangeAsync(new FileChange(Move: new FileMove(source, target)), cancel).ConfigureAwait(false);
                return $"{source} is {target} now.";
            });
    }

    public static Command Pack(ClientContext client)
    {
        var paths = new Argument<string[]>("path") { Description = "Files and folders by their whole paths, each with all below it.", Arity = ArgumentArity.OneOrMore };
        var into = new Option<string>("--into") { Description = "The new archive by its whole path; its ending says what it is: .zip, .tar, .tar.gz or .tgz.", HelpName = "archive", Required = true };
        return Build(
            client, "pack", "Packs files and folders of a host into an archive on it.", "umbrek file pack quay-ticket-03 /etc/kiosk /var/log/kiosk.log --into /srv/kiosk.tar.gz", [paths], [into],
            async (parsed, on, cancel) =>
            {
                var pack = new FilePack([.. parsed.GetRequiredValue(paths).Select(FileCommands.ReadPath)], FileCommands.ReadPath(parsed.GetRequiredValue(into)));
                Check(pack.Check());
                return $"{Count(await on.ChangeAsync(new FileChange(Pack: pack), cancel).ConfigureAwait(false))} packed into {pack.To}.";
            });
    }

    public static Command Unpack(ClientContext client)
    {
        var archive = PathArgument("archive", "The archive by its whole path: .zip, .tar, .tar.gz or .tgz.");
        var to = new Option<string?>("--to") { Description = "The folder that it is unpacked into, made where it is not there; the one that it lies in when left out.", HelpName = "folder" };
        var existing = new Option<string>("--existing") { Description = "What becomes of a file that is there already and is another: keep, replace, replace-older or rename.", HelpName = "way", DefaultValueFactory = _ => "keep" };
        existing.AcceptOnlyFromAmong("keep", "replace", "replace-older", "rename");
        var large = new Option<bool>("--large") { Description = "It grows to many times its length, and is meant to." };
        return Build(
            client, "unpack", "Unpacks an archive of a host into a folder on it. No name in it leads out of that folder.", "umbrek file unpack creamery-files /srv/incoming/labels.zip --to /srv/labels", [archive], [to, existing, large],
            async (parsed, on, cancel) =>
            {
                var path = FileCommands.ReadPath(parsed.GetRequiredValue(archive));
                var unpack = new FileUnpack(path, parsed.GetValue(to) is { } folder ? FileCommands.ReadPath(folder) : path.Folder(), TransferOptions.ReadExisting(parsed.GetRequiredValue(existing)), parsed.GetValue(large));
                Check(unpack.Check());
                return $"{Count(await on.ChangeAsync(new FileChange(Unpack: unpack), cancel).ConfigureAwait(false))} unpacked into {unpack.To}.";
            });
    }

    private static void Check(string? problem)
    {
        if (problem is not null)
        {
            throw new ClientException(problem, ExitCodes.WrongUse);
        }
    }

    public static Command Set(ClientContext client)
    {
        var path = PathArgument("path", "The whole path.");
        var mode = new Option<string?>("--mode") { Description = "Who may read, write and execute it, such as 0640; special modes of folders stay.", HelpName = "mode" };
        var owner = new Option<string?>("--owner") { Description = "Whose it is, such as kiosk or kiosk:www-data; :www-data for the group alone.", HelpName = "owner" };
        var deep = new Option<bool>("--deep") { Description = "Everything below it too; of files there, execution is given to those that somebody may execute already." };
        return Build(
            client, "set", "Sets mode and owner of a file or folder of a host.", "umbrek file set quay-ticket-03 /etc/kiosk --owner kiosk:kiosk --deep", [path], [mode, owner, deep],
            async (parsed, on, cancel) =>
            {
                var (user, group) = FileModes.ReadOwner(parsed.GetValue(owner));
                var setting = new FileSetting(FileCommands.ReadPath(parsed.GetRequiredValue(path)), FileModes.Read(parsed.GetValue(mode)), user, group, Deep: parsed.GetValue(deep));
                if (setting is { Mode: null, Owner: null, Group: null })
                {
                    throw new ClientException("Say what to set: --mode, --owner or both.", ExitCodes.WrongUse);
                }
                return $"{Count(await on.ChangeAsync(new FileChange(Set: setting), cancel).ConfigureAwait(false))} set.";
            });
    }

    public static Command Delete(ClientContext client)
    {
        var paths = new Argument<string[]>("path") { Description = "Files and folders by their whole paths, each with all below it.", Arity = ArgumentArity.OneOrMore };
        var forGood = new Option<bool>("--for-good") { Description = "Not to the trash of the host: they can't be put back." };
        var yes = new Option<bool>("--yes") { Description = "Does not ask again." };
        return Build(
            client, "delete", "Deletes files and folders of a host: to its trash, from which they can be put back.", "umbrek file delete quay-ticket-03 /var/log/kiosk.log.1\n  umbrek file delete creamery-files /srv/incoming/old --for-good", [paths], [forGood, yes],
            async (parsed, on, cancel) =>
            {
                var all = parsed.GetRequiredValue(paths).Select(FileCommands.ReadPath).ToList();
                if (parsed.GetValue(forGood))
                {
                    Prompt.Confirm($"Delete {string.Join(" and ", all.Select(p => TerminalText.Line(p.Text)))} of {Where(on.Host)} for good", parsed.GetValue(yes));
                }
                var gone = 0L;
                foreach (var path in all)
                {
                    var word = await on.ChangeAsync(parsed.GetValue(forGood) ? new FileChange(Erase: path) : new FileChange(Delete: path), cancel).ConfigureAwait(false);
                    gone += word.Count ?? 0;
                    if (word.Trash is [var item])
                    {
                        Console.Out.WriteLine($"{TerminalText.Line(path.Text)} lies in the trash of {on.Host.Label}; 'umbrek file restore {on.Host.Label} {ShellWords.Quote(item.Id)}' puts it back.");
                    }
                }
                return parsed.GetValue(forGood) ? $"{Count(new FileWord(Count: gone))} deleted for good." : null;
            });
    }

    public static Command Trash(ClientContext client)
    {
        var empty = new Option<bool>("--empty") { Description = "Deletes for good what lies there." };
        var yes = new Option<bool>("--yes") { Description = "Does not ask again." };
        return Build(
            client, "trash", "Lists what was deleted on a host and can be put back, or empties it.", "umbrek file trash creamery-files\n  umbrek file trash creamery-files --empty", [], [empty, yes],
            async (parsed, on, cancel) =>
            {
                var items = new List<TrashItem>();
                await on.Files.AskOneAsync(new FileAsk(Trash: true), w => items.AddRange(w.Trash ?? []), cancel).ConfigureAwait(false);
                items.Sort((a, b) => b.DeletedAt.CompareTo(a.DeletedAt));
                if (!parsed.GetValue(empty))
                {
                    Listing.Print(client.Format(parsed), items, WireJson.Default.ListTrashItem, $"The trash of {on.Host.Label} is empty.",
                        new("Name in the trash", i => i.Id), new("Lay at", i => TerminalText.Line(i.Path.Text), Machine: i => i.Path.Text), new("Deleted", i => $"{i.DeletedAt.UtcDateTime:yyyy-MM-dd HH:mm}", Machine: i => Words.Iso(i.DeletedAt) ?? ""),
                        new("Kind", i => i.Entry.Kind.ToString().ToLowerInvariant()), new("Size", i => i.Entry.Kind == FileKind.File ? Units.Bytes(i.Entry.Bytes) : "", Right: true, Machine: i => $"{i.Entry.Bytes}"));
                    return null;
                }
                if (items.Count == 0)
                {
                    return $"The trash of {on.Host.Label} is empty.";
                }
                Prompt.Confirm($"Delete {(items.Count == 1 ? "1 thing" : $"{items.Count} things")} in the trash of {Where(on.Host)} for good", parsed.GetValue(yes));
                return $"{Count(await on.ChangeAsync(new FileChange(Empty: ""), cancel).ConfigureAwait(false))} deleted for good.";
            });
    }

    public static Command Restore(ClientContext client)
    {
        var names = new Argument<string[]>("name") { Description = "What it is called in the trash; 'umbrek file trash' lists them.", Arity = ArgumentArity.OneOrMore };
        return Build(
            client, "restore", "Puts back what was deleted on a host, where it lay.", "umbrek file restore creamery-files fd00:labels.ods", [names], [],
            async (parsed, on, cancel) =>
            {
                foreach (var name in parsed.GetRequiredValue(names))
                {
                    await on.ChangeAsync(new FileChange(Restore: name), cancel).ConfigureAwait(false);
                    Console.Out.WriteLine($"{TerminalText.Line(name)} is back where it lay.");
                }
                return null;
            });
    }

    private static Argument<string> PathArgument(string name, string description) => new(name) { Description = description };

    /// <param name="act">Returns a sentence to be printed.</param>
    private static Command Build(ClientContext client, string name, string description, string example, Argument[] arguments, Option[] options, Func<ParseResult, OnHost, CancellationToken, Task<string?>> act)
    {
        var host = new Argument<string>("host") { Description = "Label or system name of the host." };
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named(name, description, example);
        command.Add([host, .. arguments, .. options, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var leave = new Leaving(cancel);
            using var api = client.State.Open();
            var found = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            await using var door = new HostFilesDoor(client, api, parsed, secrets, found);
            try
            {
                using var files = await door.OpenAsync(changes: true, leave.Token).ConfigureAwait(false);
                var on = new OnHost(found, files);
                if (await act(parsed, on, leave.Token).ConfigureAwait(false) is { } sentence)
                {
                    Console.Out.WriteLine(TerminalText.Line(sentence));
                }
                return on.Problems > 0 ? ExitCodes.Failed : ExitCodes.Done;
            }
            catch (LineBrokenException e)
            {
                throw new ClientException($"{e.Message} Look at what was done by then.");
            }
            catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
            {
                return Leaving.Say("What was done by then stays done.");
            }
        });
        return command;
    }

    private static string Where(HostSummary host) => $"{host.Label} of {GroupPath.Customer(host.GroupPath)}";

    private static string Count(FileWord word) => word.Count == 1 ? "1 file or folder was" : $"{word.Count} files and folders were";

    /// <summary>A host with a channel for changes.</summary>
    private sealed class OnHost(HostSummary host, HostFiles files)
    {
        public HostSummary Host => host;

        public HostFiles Files => files;

        /// <summary>How much could not be changed.</summary>
        public int Problems { get; private set; }

        /// <returns>The last word. What can't be changed of many is said while it goes on.</returns>
        public async Task<FileWord> ChangeAsync(FileChange change, CancellationToken cancel)
        {
            var word = await files.AskOneAsync(new FileAsk(Change: change), Hear, cancel).ConfigureAwait(false);
            Hear(word);
            return word;
        }

        private void Hear(FileWord word)
        {
            if (word.Problem is { } problem)
            {
                Problems++;
                Console.Error.WriteLine(TerminalText.Line(problem));
            }
            else if (word is { Done: false, Count: { } count } && !Console.IsErrorRedirected)
            {
                Terminal.Progress($"{count} so far");
            }
            if (word is { Done: true, Count: not null } && !Console.IsErrorRedirected)
            {
                Terminal.Progress("");
            }
        }
    }
}
