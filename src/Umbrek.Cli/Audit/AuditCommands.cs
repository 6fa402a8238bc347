using System.CommandLine;
using System.Globalization;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Wire;

namespace Umbrek.Cli.Audit;

/// <summary>Reading the audit log.</summary>
public static class AuditCommands
{
    public static Command Audit(ClientContext client)
    {
        var command = ClientCommands.Named("audit", "Who did what, from where.", "umbrek audit list --action enrolment");
        command.Add(List(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var action = new Option<string?>("--action") { Description = "Only actions that begin so: installer, enrolment.refuse …" };
        var most = new Option<int>("--most") { Description = "How many lines, newest first.", DefaultValueFactory = _ => 50 };
        var command = ClientCommands.Named("list", "Lists the audit log, newest first.", "umbrek audit list --action enrolment.refuse --most 20");
        command.Add(action, most);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var query = $"audit?limit={parsed.GetValue(most).ToString(CultureInfo.InvariantCulture)}" + (parsed.GetValue(action) is { } begin ? $"&action={Uri.EscapeDataString(begin)}" : "");
            var page = await api.GetAsync(query, WireJson.Default.PageAuditInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListAuditInfo, "Nothing of that kind was done yet.",
                new("No.", a => a.Number.ToString(CultureInfo.InvariantCulture), Right: true),
                new("When", a => Words.Iso(a.At)),
                new("Who", a => a.Actor),
                new("From", a => a.Address ?? ""),
                new("Did", a => a.Action),
                new("To", a => a.Target),
                new("More", a => a.Detail));
            return ExitCodes.Done;
        });
        return command;
    }
}
