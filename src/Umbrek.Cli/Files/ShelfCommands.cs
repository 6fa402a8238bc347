using System.CommandLine;
using System.Globalization;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Files;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <summary>Folders that the service keeps.</summary>
public static class ShelfCommands
{
    public static Command Shelf(ClientContext client)
    {
        var command = ClientCommands.Named("shelf", "Folders that the service keeps of groups; twins put there what lies on hosts, and bring it back.", "umbrek shelf list");
        command.Add(Make(client), List(client), Look(client), Save(client), Remove(client));
        return command;
    }

    /// <summary>The shelf that is called so.</summary>
    /// <param name="name">Its name, or its group's path and its name with a slash between them.</param>
    public static async Task<ShelfInfo> FindAsync(ApiClient api, string name, CancellationToken cancel)
    {
        var all = await api.GetAsync("shelves", WireJson.Default.ListShelfInfo, cancel).ConfigureAwait(false);
        var called = all.FindAll(s => string.Equals(s.Name, name, StringComparison.OrdinalIgnoreCase) || string.Equals($"{s.GroupPath}/{s.Name}", name, StringComparison.OrdinalIgnoreCase));
        return called switch
        {
            [var one] => one,
            [] => throw new ClientException($"There is no shelf '{TerminalText.Line(name)}'. See them: umbrek shelf list"),
            _ => throw new ClientException($"{called.Count} shelves are called '{TerminalText.Line(name)}'. Write which with its group: {string.Join(" or ", called.Select(s => ShellWords.Quote(TerminalText.Line($"{s.GroupPath}/{s.Name}"))))}."),
        };
    }

    private static Command Make(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "What you call it." };
        var group = new Argument<string>("group") { Description = "Path of the group that it belongs to: who may read or write files of hosts there may do so on the shelf." };
        var command = ClientCommands.Named("make", "Makes a shelf. It holds nothing before a twin puts something there.", "umbrek shelf make recipes 'Tarn Valley Creamery'\n  umbrek twin make recipes-kept --first creamery-files:/srv/recipes --second shelf=recipes --take-away");
        command.Add([name, group]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var of = await GroupCommands.FindAsync(api, parsed.GetRequiredValue(group), cancel).ConfigureAwait(false);
            var shelf = await api.PostAsync("shelves", new NewShelf(parsed.GetRequiredValue(name), of.Id), WireJson.Default.NewShelf, WireJson.Default.ShelfInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The service keeps the shelf '{TerminalText.Line(shelf.Name)}' of {TerminalText.Line(shelf.GroupPath)}. Put something there: umbrek twin make NAME --first HOST:PATH --second shelf={ShellWords.Quote(TerminalText.Line(shelf.Name))}", shelf, WireJson.Default.ShelfInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists shelves, with how much lies on each.", "umbrek shelf list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var now = client.Time.GetUtcNow();
            Listing.Print(client.Format(parsed), await api.GetAsync("shelves", WireJson.Default.ListShelfInfo, cancel).ConfigureAwait(false), WireJson.Default.ListShelfInfo, "There are no shelves. Make one: umbrek shelf make NAME GROUP",
                new("Shelf", s => TerminalText.Line(s.Name)),
                new("Group", s => TerminalText.Line(s.GroupPath)),
                new("Files", s => $"{s.Files}", Right: true),
                new("Size", s => Units.Bytes(s.Bytes), Right: true, Machine: s => $"{s.Bytes}"),
                new("Made", s => $"{Words.Ago(s.CreatedAt, now)} by {TerminalText.Line(s.CreatedBy)}", Machine: s => Words.Iso(s.CreatedAt)));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Look(ClientContext client)
    {
        var (name, path) = (Name(), new Argument<string>("path") { Description = "The path of a folder, from the shelf on.", DefaultValueFactory = _ => "/" });
        var command = ClientCommands.Named("look", "Lists what lies in a folder of a shelf.", "umbrek shelf look recipes /cheese");
        command.Add([name, path]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var shelf = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var folder = parsed.GetRequiredValue(path);
            var page = await api.GetAsync($"shelves/{shelf.Id}/entries?path={Uri.EscapeDataString(folder)}", WireJson.Default.PageFileEntry, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), [.. page.Items], WireJson.Default.ListFileEntry, $"Nothing lies in {TerminalText.Line(folder)} of {TerminalText.Line(shelf.Name)}.",
                new("Name", FileCommands.Name, Machine: e => e.Name.Text),
                new("Size", e => e.Kind == FileKind.File ? Units.Bytes(e.Bytes) : "", Right: true, Machine: e => e.Kind == FileKind.File ? e.Bytes.ToString(CultureInfo.InvariantCulture) : ""),
                new("Changed", e => $"{e.ChangedAt.UtcDateTime:yyyy-MM-dd HH:mm}", Machine: e => Words.Iso(e.ChangedAt) ?? ""),
                new("Mode", e => e.ModeText()),
                new("Kind", e => e.Kind.ToString().ToLowerInvariant()));
            if (page.Total > page.Items.Count)
            {
                await Console.Error.WriteLineAsync($"{page.Total} things lie there; these are {page.Items.Count} of them.").ConfigureAwait(false);
            }
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Save(ClientContext client)
    {
        var (name, path) = (Name(), new Argument<string>("path") { Description = "The path of a file, from the shelf on." });
        var file = new Argument<string?>("file") { Description = "Where to; '-' is standard output. Its own name here when left out.", Arity = ArgumentArity.ZeroOrOne };
        var command = ClientCommands.Named("save", "Writes one file of a shelf to a file here. A folder goes to a host by a twin.", "umbrek shelf save recipes /cheese/brine.txt");
        command.Add([name, path, file]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var shelf = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var from = parsed.GetRequiredValue(path);
            var to = parsed.GetValue(file) ?? LocalName.Under(".", new FileName(from).Last());
            using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}shelves/{shelf.Id}/content?path={Uri.EscapeDataString(from)}");
            using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            if (to == "-")
            {
                await using var stdout = Console.OpenStandardOutput();
                await response.Content.CopyToAsync(stdout, cancel).ConfigureAwait(false);
                return ExitCodes.Done;
            }
            var bytes = await WholeFile.WriteAsync(to, stream => response.Content.CopyToAsync(stream, cancel)).ConfigureAwait(false);
            await Console.Error.WriteLineAsync($"{to}: {Units.Bytes(bytes)}").ConfigureAwait(false);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var name = Name();
        var yes = new Option<bool>("--yes") { Description = "Does not ask again." };
        var command = ClientCommands.Named("remove", "Removes a shelf with all that lies on it, for good.", "umbrek shelf remove recipes");
        command.Add(name);
        command.Add(yes);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var shelf = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            if (shelf.Files > 0)
            {
                Prompt.Confirm($"Remove '{TerminalText.Line(shelf.Name)}' with {shelf.Files} files, {Units.Bytes(shelf.Bytes)}, for good", parsed.GetValue(yes));
            }
            await api.ActAsync(HttpMethod.Delete, $"shelves/{shelf.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The shelf '{TerminalText.Line(shelf.Name)}' is gone, with all that lay on it.", shelf, WireJson.Default.ShelfInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Argument<string> Name() => new("shelf") { Description = "The shelf's name; with its group's path and a slash before it where several are called so." };
}
