using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Wire;
using Umbrek.Wire.Sessions;

namespace Umbrek.Cli.Sessions;

/// <summary>Who is connected to which host, and who was.</summary>
public static class SessionCommands
{
    public static Command Session(ClientContext client)
    {
        var command = ClientCommands.Named("session", "Technicians connected to hosts.", "umbrek session list");
        command.Add(List(client), End(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var host = new Option<string?>("--host") { Description = "Only sessions on this host.", HelpName = "name" };
        var live = new Option<bool>("--open") { Description = "Only those that go on." };
        var command = ClientCommands.Named("list", "Lists sessions: open ones first, then the latest.", "umbrek session list --open");
        command.Add(host, live);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var of = parsed.GetValue(host) is { } name ? $"&host={(await HostCommands.FindAsync(api, name, cancel).ConfigureAwait(false)).Id}" : "";
            var page = await api.GetAsync($"sessions?live={(parsed.GetValue(live) ? "true" : "false")}{of}", WireJson.Default.PageSessionInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListSessionInfo, "There is no such session.",
                new("Id", s => Words.ShortId(s.Id), Machine: s => $"{s.Id}"),
                new("Technician", s => s.Technician),
                new("Host", s => s.HostLabel),
                new("Group", s => s.GroupPath),
                new("Opened", s => Words.Iso(s.OpenedAt)),
                new("Ended", s => s.EndedAt is { } end ? $"{Words.Iso(end)}, {s.EndReason}" : "goes on"),
                new("Reason", s => s.Reason ?? ""));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command End(ClientContext client)
    {
        var id = new Argument<string>("id") { Description = "The session's id, or its last eight characters." };
        var command = ClientCommands.Named("end", "Ends a session with all its channels.", "umbrek session end 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var open = (await api.GetAsync("sessions?live=true", WireJson.Default.PageSessionInfo, cancel).ConfigureAwait(false)).Items;
            var found = ShortIds.Find(open, s => s.Id, parsed.GetRequiredValue(id), "open session", "umbrek session list --open");
            var ended = await api.PostAsync($"sessions/{found.Id}/end", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The session of {ended.Technician} on {ended.HostLabel} is ended.", ended, WireJson.Default.SessionInfo);
            return ExitCodes.Done;
        });
        return command;
    }
}
