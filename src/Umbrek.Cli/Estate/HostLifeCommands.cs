using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Estate;
using Umbrek.Wire;
using Umbrek.Wire.Estate;

namespace Umbrek.Cli.Estate;

/// <summary>Hosts that leave care, come back, or are one machine; and what happened to them.</summary>
public static class HostLifeCommands
{
    public static IEnumerable<Command> All(ClientContext client) => [Timeline(client), Retire(client), Restore(client), Merge(client)];

    private static Command Timeline(ClientContext client)
    {
        var limit = new Option<int>("--limit") { Description = "How many lines.", DefaultValueFactory = _ => 50 };
        return Edits.Act(client, "timeline", "Shows what happened to a host, newest first.", "umbrek host timeline quay-ticket-01", async (api, host, parsed, cancel) =>
        {
            var page = await api.GetAsync($"hosts/{host.Id}/timeline?limit={parsed.GetValue(limit)}", WireJson.Default.PageTimelineEntry, cancel).ConfigureAwait(false);
            var now = client.Time.GetUtcNow();
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListTimelineEntry, "Nothing has happened yet.",
                new("When", e => Words.Ago(e.At, now), Machine: e => Words.Iso(e.At)), new("What", e => Words.Of(e.Kind)), new("Who", e => e.By), new("Details", e => e.Text));
            return ExitCodes.Done;
        }, limit);
    }

    private static Command Retire(ClientContext client)
    {
        var reason = new Option<string?>("--reason") { Description = "Why, for its time line." };
        var preview = new Option<bool>("--preview") { Description = "Only say what would come of it." };
        return Edits.Act(client, "retire", "Takes a host out of care; all that is known of it stays, and it can be restored.", "umbrek host retire tidewell-kiosk --reason 'replaced' --preview", async (api, host, parsed, cancel) =>
            Edits.PrintOutlook(client.Format(parsed), await api.PostAsync($"hosts/{host.Id}/retire", new HostEnd(parsed.GetValue(preview), parsed.GetValue(reason)), WireJson.Default.HostEnd, WireJson.Default.HostOutlook, cancel).ConfigureAwait(false)), reason, preview);
    }

    private static Command Restore(ClientContext client)
    {
        return Edits.Act(client, "restore", "Takes a retired host into care again.", "umbrek host restore tidewell-kiosk", async (api, host, parsed, cancel) =>
            Edits.PrintOutlook(client.Format(parsed), await api.ActAsync($"hosts/{host.Id}/restore", WireJson.Default.HostOutlook, cancel).ConfigureAwait(false)));
    }

    private static Command Merge(ClientContext client)
    {
        var into = new Option<string>("--into") { Description = "The entry that stays.", Required = true, HelpName = "host" };
        into.CompletionSources.Add(_ => HostCommands.HostNames(client));
        var preview = new Option<bool>("--preview") { Description = "Only say what would come of it." };
        var yes = new Option<bool>("--yes") { Description = "Don't ask: the entry that goes can't be brought back." };
        return Edits.Act(client, "merge", "Puts two entries of one machine together; the named one goes.", "umbrek host merge tidewell-kiosk --into tidewell-kiosk-new --preview", async (api, host, parsed, cancel) =>
        {
            var stays = await HostCommands.FindAsync(api, parsed.GetRequiredValue(into), cancel).ConfigureAwait(false);
            var outlook = await api.PostAsync($"hosts/{host.Id}/merge", new HostMerge(stays.Id, Preview: true), WireJson.Default.HostMerge, WireJson.Default.HostOutlook, cancel).ConfigureAwait(false);
            if (parsed.GetValue(preview))
            {
                return Edits.PrintOutlook(client.Format(parsed), outlook);
            }
            if (!parsed.GetValue(yes))
            {
                Console.Error.WriteLine(string.Join('\n', outlook.Says));
                if (!Prompt.CanAsk)
                {
                    throw new ClientException("This can't be undone; there is no terminal to ask at. Add --yes.", ExitCodes.WrongUse);
                }
                if (Prompt.Line($"To put {host.Label} of {GroupPath.Customer(host.GroupPath)} into {stays.Label}, type {host.Label}: ").Trim() != host.Label)
                {
                    throw new ClientException("Nothing was changed.");
                }
            }
            return Edits.PrintOutlook(client.Format(parsed), await api.PostAsync($"hosts/{host.Id}/merge", new HostMerge(stays.Id), WireJson.Default.HostMerge, WireJson.Default.HostOutlook, cancel).ConfigureAwait(false));
        }, into, preview, yes);
    }
}
