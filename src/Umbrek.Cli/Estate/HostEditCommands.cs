using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Estate;

namespace Umbrek.Cli.Estate;

/// <summary>Everything that changes a host, or many at once.</summary>
public static class HostEditCommands
{
    public static IEnumerable<Command> All(ClientContext client) =>
        [Label(client), Move(client), Tag(client), Untag(client), Note(client), Link(client), Fill(client), Edit(client), Pin(client), Colour(client)];

    private static Command Label(ClientContext client)
    {
        var label = new Argument<string>("label") { Description = "The friendly name." };
        return Change(client, "label", "Gives a host a friendly name; its system name stays visible beside it.", "umbrek host label quay-ticket-01 'Ticket desk, left'", (parsed, _) => new HostChange(Label: parsed.GetRequiredValue(label)), label);
    }

    private static Command Move(ClientContext client)
    {
        var group = GroupCommands.PathArgument(client, "group", "The group's whole path.");
        return Change(client, "move", "Moves a host to another group.", "umbrek host move quay-ticket-01 'Saltmarsh Ferry/Quay/Office'", (parsed, _) => new HostChange(GroupPath: parsed.GetRequiredValue(group)), group);
    }

    private static Command Tag(ClientContext client)
    {
        var tags = new Argument<string[]>("tag") { Description = "One or more.", Arity = ArgumentArity.OneOrMore };
        return Change(client, "tag", "Gives a host tags.", "umbrek host tag quay-ticket-01 kiosk 'night shift'", (parsed, before) => new HostChange(Tags: [.. before.Summary.Tags, .. parsed.GetRequiredValue(tags)]), tags);
    }

    private static Command Untag(ClientContext client)
    {
        var tags = new Argument<string[]>("tag") { Description = "One or more.", Arity = ArgumentArity.OneOrMore };
        return Change(client, "untag", "Takes tags from a host.", "umbrek host untag quay-ticket-01 kiosk", (parsed, before) =>
        {
            var gone = parsed.GetRequiredValue(tags);
            var unknown = gone.FirstOrDefault(g => !before.Summary.Tags.Contains(g, StringComparer.OrdinalIgnoreCase));
            return unknown is null
                ? new HostChange(Tags: [.. before.Summary.Tags.Where(t => !gone.Contains(t, StringComparer.OrdinalIgnoreCase))])
                : throw new ClientException($"{before.Summary.Label} has no tag '{unknown}'. {(before.Summary.Tags.Count == 0 ? "It has none." : $"It has {string.Join(", ", before.Summary.Tags)}.")}", ExitCodes.NothingMatched);
        }, tags);
    }

    private static Command Note(ClientContext client)
    {
        var text = new Argument<string>("text") { Description = "The notes from now on; '-' reads them from standard input, '' removes them." };
        return Change(client, "note", "Writes the notes on a host.", "umbrek host note dome-control 'The dongle on the back must stay in.'", (parsed, _) => new HostChange(Notes: Edits.ReadText(parsed.GetRequiredValue(text))), text);
    }

    private static Command Link(ClientContext client)
    {
        var title = new Argument<string>("title") { Description = "What it is." };
        var url = new Argument<string?>("url") { Description = "Where it is; without it the link of that title is removed.", Arity = ArgumentArity.ZeroOrOne };
        return Change(client, "link", "Keeps a web address with a host.", "umbrek host link dome-control 'Dome manual' https://manuals.example/dome", (parsed, before) =>
        {
            var name = parsed.GetRequiredValue(title);
            var others = before.Links.Where(l => !string.Equals(l.Title, name, StringComparison.OrdinalIgnoreCase)).ToList();
            return parsed.GetValue(url) is { } address ? new HostChange(Links: [.. others, new HostLink(name, address)])
                : others.Count < before.Links.Count ? new HostChange(Links: others)
                : throw new ClientException($"{before.Summary.Label} has no link '{name}'.", ExitCodes.NothingMatched);
        }, title, url);
    }

    private static Command Fill(ClientContext client)
    {
        var fields = new Argument<string[]>("field") { Description = "FIELD=VALUE, one or more; an empty value removes the field's.", Arity = ArgumentArity.OneOrMore };
        return Change(client, "fill", "Fills in own fields of the customer.", "umbrek host fill quay-ticket-01 'Contract ends=2027-03-31' Desk=4", (parsed, _) => new HostChange(Own: Edits.ReadFields(parsed.GetRequiredValue(fields))), fields);
    }

    private static Command Edit(ClientContext client)
    {
        var selection = SelectionArgument.Required(client);
        var move = new Option<string?>("--move-to") { Description = "The group that they go to.", HelpName = "group" };
        move.CompletionSources.Add(_ => GroupCommands.Paths(client));
        var tag = new Option<string[]>("--tag") { Description = "A tag that they get; may be given again.", HelpName = "tag" };
        var untag = new Option<string[]>("--untag") { Description = "A tag that they lose; may be given again.", HelpName = "tag" };
        var fill = new Option<string[]>("--fill") { Description = "An own field that is filled in; may be given again.", HelpName = "field=value" };
        var preview = new Option<bool>("--preview") { Description = "Only say what would change." };
        var command = ClientCommands.Named("edit", "Changes many hosts at once, all or none.", "umbrek host edit 'in \"Copperbeech Libraries\" and *-kiosk' --tag kiosk --preview");
        command.Add(selection, move, tag, untag, fill, preview);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var wish = new BulkEdit(parsed.GetRequiredValue(selection), null, parsed.GetValue(move), parsed.GetValue(tag), parsed.GetValue(untag), parsed.GetValue(fill) is { Length: > 0 } f ? Edits.ReadFields(f) : null, parsed.GetValue(preview));
            var outcome = await api.PostAsync("hosts/edits", wish, WireJson.Default.BulkEdit, WireJson.Default.BulkOutcome, cancel).ConfigureAwait(false);
            return Print(client.Format(parsed), outcome, wish.Preview);
        });
        return command;
    }

    private static Command Pin(ClientContext client)
    {
        var off = new Option<bool>("--off") { Description = "Take the pin out again." };
        return Edits.Act(client, "pin", "Pins a host for you: it comes first in quick find.", "umbrek host pin dome-control", async (api, host, parsed, cancel) =>
        {
            var mark = await api.PutAsync($"hosts/{host.Id}/mark?pinned={(parsed.GetValue(off) ? "false" : "true")}", WireJson.Default.OwnMark, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), mark.Pinned ? $"{host.Label} is pinned for you." : $"{host.Label} is not pinned any more.", mark, WireJson.Default.OwnMark);
            return ExitCodes.Done;
        }, off);
    }

    private static Command Colour(ClientContext client)
    {
        var colour = new Argument<string>("colour") { Description = $"One of {string.Join(", ", CustomerMark.Colours)}; none takes it away." };
        return Edits.Act(client, "colour", "Marks a host with a colour that only you see.", "umbrek host colour dome-control heather", async (api, host, parsed, cancel) =>
        {
            var word = parsed.GetRequiredValue(colour);
            var mark = await api.PutAsync($"hosts/{host.Id}/mark?colour={Uri.EscapeDataString(word == "none" ? "" : word)}", WireJson.Default.OwnMark, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), mark.Colour is { } c ? $"{host.Label} is marked {c} for you." : $"{host.Label} has no colour of yours any more.", mark, WireJson.Default.OwnMark);
            return ExitCodes.Done;
        }, colour);
    }

    private static Command Change(ClientContext client, string name, string description, string example, Func<ParseResult, HostDetail, HostChange> change, params ReadOnlySpan<Symbol> more)
    {
        return Edits.Act(client, name, description, example, async (api, host, parsed, cancel) =>
        {
            var after = await Edits.ChangeAsync(api, host.Id.ToString(), before => change(parsed, before), cancel).ConfigureAwait(false);
            HostCommands.Print(client, client.Format(parsed), after);
            return ExitCodes.Done;
        }, more);
    }

    private static int Print(OutputFormat format, BulkOutcome outcome, bool preview)
    {
        if (format == OutputFormat.Json)
        {
            Listing.PrintOne(format, outcome, WireJson.Default.BulkOutcome);
            return outcome.Problems.Count > 0 ? ExitCodes.Failed : ExitCodes.Done;
        }
        Listing.Print(format, outcome.Changes, WireJson.Default.ListBulkChange, "Nothing changes: all is as you want it.",
            new("Host", c => c.Label), new("Group", c => c.GroupPath), new("What", c => c.What), new("Before", c => c.Before ?? "–"), new("After", c => c.After ?? "–"));
        foreach (var problem in outcome.Problems)
        {
            Console.Error.WriteLine(TerminalText.Neutralise($"{problem.Label} of {problem.GroupPath}: {problem.Problem}"));
        }
        if (format == OutputFormat.Table && outcome.Changed > 0)
        {
            Console.Out.WriteLine(outcome.Problems.Count > 0 ? $"Nothing was changed: {outcome.Problems.Count} of {outcome.Hosts} can't be changed so."
                : preview ? $"{outcome.Changed} of {outcome.Hosts} hosts would change. Nothing has been changed." : $"{outcome.Changed} of {outcome.Hosts} hosts changed.");
        }
        return outcome.Problems.Count > 0 ? ExitCodes.Failed : ExitCodes.Done;
    }
}
