using System.CommandLine;
using System.Globalization;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Files;
using Umbrek.Core.Text;
using Umbrek.Wire;

namespace Umbrek.Cli.Files;

/// <summary>Looks at the files of a host, and changes them.</summary>
public static class FileCommands
{
    public static Command File(ClientContext client)
    {
        var command = ClientCommands.Named("file", "Files of a host, looked at and changed. See also 'send' and 'fetch'.", "umbrek file list quay-ticket-03 /var/log");
        command.Add(List(client), FileSearchCommand.Search(client), FileEditCommand.Edit(client), FileChangeCommands.Make(client), FileChangeCommands.Move(client), FileChangeCommands.Pack(client), FileChangeCommands.Unpack(client), FileChangeCommands.Set(client), FileChangeCommands.Delete(client), FileChangeCommands.Trash(client), FileChangeCommands.Restore(client));
        return command;
    }

    /// <exception cref="ClientException">It is no path that a host could be asked for.</exception>
    public static FileName ReadPath(string text) => new FileName(text) is var path && path.CheckPath() is { } problem ? throw new ClientException(problem, ExitCodes.WrongUse) : path;

    private static Command List(ClientContext client)
    {
        var host = new Argument<string>("host") { Description = "Label or system name of the host." };
        var path = new Argument<string>("path") { Description = "The whole path of a folder, or of one file.", DefaultValueFactory = _ => "/" };
        var deep = new Option<bool>("--deep") { Description = "Everything below it too." };
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("list", "Lists what a folder of a host holds: names, sizes, owners, modes and times.", "umbrek file list creamery-files /srv --deep --output csv > files.csv");
        command.Add([host, path, deep, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var folder = ReadPath(parsed.GetRequiredValue(path));
            using var api = client.State.Open();
            var found = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            var entries = new List<FileEntry>();
            var problems = new List<string>();
            try
            {
                await using var door = new HostFilesDoor(client, api, parsed, secrets, found);
                using var files = await door.OpenAsync(changes: false, cancel).ConfigureAwait(false);
                var there = await files.LookAsync(folder, cancel).ConfigureAwait(false);
                if (there.Kind != FileKind.Folder)
                {
                    entries.Add(there);
                }
                else
                {
                    await foreach (var entry in parsed.GetValue(deep) ? files.WalkAsync(folder, problems.Add, cancel) : files.ListAsync(folder, cancel))
                    {
                        entries.Add(entry);
                    }
                }
            }
            catch (LineBrokenException e)
            {
                throw new ClientException(e.Message);
            }
            // Folders first, as in the console; below each other as their paths go.
            entries.Sort((a, b) => parsed.GetValue(deep) || (a.Kind == FileKind.Folder) == (b.Kind == FileKind.Folder) ? string.CompareOrdinal(a.Name.Text, b.Name.Text) : a.Kind == FileKind.Folder ? -1 : 1);
            Listing.Print(client.Format(parsed), entries, WireJson.Default.ListFileEntry, $"{folder} of {found.Label} is empty.",
                new("Name", Name, Machine: e => e.Name.Text), new("Size", e => e.Kind == FileKind.File ? Units.Bytes(e.Bytes) : "", Right: true, Machine: e => e.Kind == FileKind.File ? e.Bytes.ToString(CultureInfo.InvariantCulture) : ""),
                new("Changed", e => $"{e.ChangedAt.UtcDateTime:yyyy-MM-dd HH:mm}", Machine: e => Words.Iso(e.ChangedAt) ?? ""), new("Mode", e => e.ModeText()), new("Owner", e => e.Owner), new("Group", e => e.Group), new("Kind", e => e.Kind.ToString().ToLowerInvariant()));
            problems.ForEach(p => Console.Error.WriteLine(TerminalText.Line(p)));
            return problems.Count > 0 ? ExitCodes.Failed : ExitCodes.Done;
        });
        return command;
    }

    /// <summary>A name with what people know of it: a folder's slash, and where a link leads.</summary>
    public static string Name(FileEntry entry) =>
        TerminalText.Line(entry.Kind switch
        {
            FileKind.Folder => entry.Name.Text + "/",
            FileKind.Link => $"{entry.Name.Text} → {entry.Target?.Text}{(entry.TargetKind is null ? " (nothing there)" : "")}",
            _ => entry.Name.Text,
        });
}
