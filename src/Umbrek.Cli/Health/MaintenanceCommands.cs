using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Health;

namespace Umbrek.Cli.Health;

/// <summary><c>umbrek maintenance</c>: times in which alerts make no noise.</summary>
public static class MaintenanceCommands
{
    private const string Lister = "umbrek maintenance list";

    public static Command Maintenance(ClientContext client)
    {
        var command = ClientCommands.Named("maintenance", "Times in which alerts of hosts make no noise.", "umbrek maintenance new 'New disk' --host tarn-files --for 2h");
        command.Add(List(client), New(client), Calendar(client), End(client), Remove(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var host = new Option<string?>("--host") { Description = "Only those that hold for this host." };
        var command = ClientCommands.Named("list", "Lists maintenance windows that go on, come, or were over lately.", Lister);
        command.Add(host);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var of = parsed.GetValue(host) is { } typed ? $"?host={(await HostCommands.FindAsync(api, typed, cancel).ConfigureAwait(false)).Id}" : "";
            Listing.Print(client.Format(parsed), (await api.GetAsync($"maintenance{of}", WireJson.Default.PageMaintenanceInfo, cancel).ConfigureAwait(false)).Items, WireJson.Default.ListMaintenanceInfo, "There is no maintenance window.",
                new("Id", m => Words.ShortId(m.Id), Machine: m => $"{m.Id}"),
                new("Window", m => m.Name),
                new("For", m => $"{m.Place ?? "everything"}{(m.On is null ? "" : $", {m.On}")}"),
                new("Hosts", m => $"{m.Hosts}", Right: true),
                new("From", m => m.Now ? "now" : m.From is { } from ? Words.Iso(from) : "over", Machine: m => Words.Iso(m.From)),
                new("To", m => Words.Iso(m.To)),
                new("Again", m => m.Rule ?? ""));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command New(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "What is done in it." };
        var host = new Option<string?>("--host") { Description = "For this host." };
        var group = new Option<string?>("--group") { Description = "For this group and below; for everything when neither is given." };
        var on = new Option<string?>("--on") { Description = "Only for hosts of this selection." };
        var lasting = new Option<string>("--for") { Description = "How long it lasts, for example 2h.", Required = true };
        var starts = new Option<string?>("--starts") { Description = "When, in the window's zone, for example 2026-11-29T22:00; now when left out." };
        var zone = new Option<string?>("--zone") { Description = "Its time zone, for example Europe/London; UTC when left out." };
        var rule = new Option<string?>("--rule") { Description = "When it comes again, as an iCalendar rule (RFC 5545), for example FREQ=WEEKLY;BYDAY=SU." };
        var note = new Option<string?>("--note") { Description = "What others should know." };
        var command = ClientCommands.Named("new", "Makes a maintenance window, from now or from a time on, once or again and again.", "umbrek maintenance new 'Updates' --group 'Copperbeech Libraries' --for 3h --starts 2026-11-29T22:00 --zone Europe/London --rule 'FREQ=WEEKLY;BYDAY=SU'");
        command.Add(name);
        command.Add(host, group, on, lasting, starts, zone, rule, note);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var minutes = (int)Math.Min(int.MaxValue, Math.Ceiling(Typed.Span(parsed.GetRequiredValue(lasting)).TotalMinutes));
            var made = await api.PostAsync(
                "maintenance",
                new NewMaintenance(
                    parsed.GetRequiredValue(name), minutes,
                    parsed.GetValue(group) is { } path ? (await GroupCommands.FindAsync(api, path, cancel).ConfigureAwait(false)).Id : null,
                    parsed.GetValue(host) is { } typed ? (await HostCommands.FindAsync(api, typed, cancel).ConfigureAwait(false)).Id : null,
                    parsed.GetValue(on), parsed.GetValue(starts), parsed.GetValue(zone), parsed.GetValue(rule), parsed.GetValue(note)),
                WireJson.Default.NewMaintenance, WireJson.Default.MaintenanceInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"Alerts of {made.Hosts} {(made.Hosts == 1 ? "host" : "hosts")} make no noise {(made.Now ? "from now" : $"from {Words.Iso(made.From)}")} until {Words.Iso(made.To)}{(made.Rule is null ? "" : ", and again by its rule")}. They are raised and shown as ever.", made, WireJson.Default.MaintenanceInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Calendar(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("calendar", "Prints a window as an iCalendar file.", "umbrek maintenance calendar 3f2a > window.ics");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var window = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            using var request = new HttpRequestMessage(HttpMethod.Get, $"api/v1/maintenance/{window.Id}/calendar");
            using var answer = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            Terminal.Data.Write(await answer.Content.ReadAsStringAsync(cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command End(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("end", "Ends a window now and for good; what is still wrong is told.", "umbrek maintenance end 3f2a");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var window = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var ended = await api.ActAsync($"maintenance/{window.Id}/end", WireJson.Default.MaintenanceInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{ended.Name}' is over; what is still wrong is told now.", ended, WireJson.Default.MaintenanceInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("remove", "Removes a window.", "umbrek maintenance remove 3f2a");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var window = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Delete, $"maintenance/{window.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{window.Name}' is gone.", window, WireJson.Default.MaintenanceInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Argument<string> IdArgument() => new("id") { Description = "The window, as the list shows it, or its name." };

    private static async Task<MaintenanceInfo> FindAsync(ApiClient api, string typed, CancellationToken cancel)
    {
        var all = (await api.GetAsync("maintenance", WireJson.Default.PageMaintenanceInfo, cancel).ConfigureAwait(false)).Items;
        return all.Where(m => m.Name.Equals(typed.Trim(), StringComparison.OrdinalIgnoreCase)).ToList() is [var one] ? one : ShortIds.Find(all, m => m.Id, typed, "maintenance window", Lister);
    }
}
