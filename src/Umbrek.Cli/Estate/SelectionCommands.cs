using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;

namespace Umbrek.Cli.Estate;

/// <summary>Selections that are kept under a name.</summary>
public static class SelectionCommands
{
    public static Command Selection(ClientContext client)
    {
        var command = ClientCommands.Named("selection", "Selections that are kept under a name; they are always up to date.", "umbrek selection list");
        command.Add(List(client), Save(client), Change(client), Remove(client), Check(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists saved selections with the hosts that each names now.", "umbrek selection list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("selections", WireJson.Default.PageSavedSelectionInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListSavedSelectionInfo, "No selection is saved yet. Save one: umbrek selection save 'Full disks' 'storage.used > 90 %'",
                new("Name", s => s.Name), new("Hosts", s => s.Hosts?.ToString(System.Globalization.CultureInfo.InvariantCulture) ?? "–", Right: true), new("Selection", s => s.Text), new("Note", s => s.Problem ?? s.Note ?? ""));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Save(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "What it is called." };
        var selection = SelectionArgument.Required(client);
        var note = new Option<string?>("--note") { Description = "What it is for." };
        var command = ClientCommands.Named("save", "Keeps a selection under a name; 'saved NAME' then stands for it.", "umbrek selection save 'Full disks' 'storage.used > 90 %' --note 'to look at each morning'");
        command.Add(name, selection, note);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            Print(client.Format(parsed), await api.PostAsync("selections", new NewSavedSelection(parsed.GetRequiredValue(name), parsed.GetRequiredValue(selection), parsed.GetValue(note)), WireJson.Default.NewSavedSelection, WireJson.Default.SavedSelectionInfo, cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Change(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "What it is called now." };
        var selection = new Option<string?>("--selection") { Description = "What it names from now on." };
        var rename = new Option<string?>("--rename") { Description = "What it is called from now on." };
        var note = new Option<string?>("--note") { Description = "What it is for." };
        var command = ClientCommands.Named("change", "Changes a saved selection.", "umbrek selection change 'Full disks' --selection 'storage.used > 95 %'");
        command.Add(name, selection, rename, note);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var before = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var wish = new NewSavedSelection(parsed.GetValue(rename) ?? before.Name, parsed.GetValue(selection) ?? before.Text, parsed.GetValue(note) ?? before.Note);
            Print(client.Format(parsed), await api.PutAsync($"selections/{before.Id}", wish, before.Version, WireJson.Default.NewSavedSelection, WireJson.Default.SavedSelectionInfo, cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "What it is called." };
        var command = ClientCommands.Named("remove", "Removes a saved selection; the hosts stay.", "umbrek selection remove 'Full disks'");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Delete, $"selections/{found.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{found.Name}' is removed. It was: {found.Text}", found, WireJson.Default.SavedSelectionInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Check(ClientContext client)
    {
        var selection = SelectionArgument.Required(client);
        var command = ClientCommands.Named("check", "Reads a selection: how it is understood, and how many hosts it names.", "umbrek selection check 'in \"Saltmarsh Ferry\" and memory.free < 1 GiB'");
        command.Add(selection);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var read = await api.GetAsync($"selections/check?selection={Uri.EscapeDataString(parsed.GetRequiredValue(selection))}", WireJson.Default.SelectionCheck, cancel).ConfigureAwait(false);
            Listing.PrintOne(client.Format(parsed), read, WireJson.Default.SelectionCheck, ("Selection", read.Selection), ("Hosts", $"{read.Hosts}"));
            return ExitCodes.Done;
        });
        return command;
    }

    private static async Task<SavedSelectionInfo> FindAsync(ApiClient api, string name, CancellationToken cancel)
    {
        var all = (await api.GetAsync("selections", WireJson.Default.PageSavedSelectionInfo, cancel).ConfigureAwait(false)).Items;
        return all.FirstOrDefault(s => string.Equals(s.Name, name.Trim(), StringComparison.OrdinalIgnoreCase))
            ?? throw new ClientException($"No selection is saved as '{name}'.{(Similarity.Closest(name, all.Select(s => s.Name)) is { } close ? $" Did you mean '{close}'?" : " 'umbrek selection list' shows all.")}", ExitCodes.NothingMatched);
    }

    private static void Print(OutputFormat format, SavedSelectionInfo s) =>
        Listing.PrintOne(format, s, WireJson.Default.SavedSelectionInfo, ("Name", s.Name), ("Selection", s.Text), ("Hosts", $"{s.Hosts}"), ("Note", s.Note));
}
