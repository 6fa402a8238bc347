using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Audit;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Sessions;

namespace Umbrek.Cli.Sessions;

/// <summary>Who is connected to which host, and who was.</summary>
public static class SessionCommands
{
    public static Command Session(ClientContext client)
    {
        var command = ClientCommands.Named("session", "Technicians connected to hosts.", "umbrek session list");
        command.Add(List(client), Acts(client), Note(client), End(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var host = new Option<string?>("--host") { Description = "Only sessions on this host.", HelpName = "name" };
        var live = new Option<bool>("--open") { Description = "Only those that go on." };
        var text = new Option<string?>("--text") { Description = "Only those in whose note, reason or technician's name this stands.", HelpName = "text" };
        var command = ClientCommands.Named("list", "Lists sessions: open ones first, then the latest.", "umbrek session list --open\n  umbrek session list --host quay-ticket-03 --text printer");
        command.Add(host, live, text);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var of = parsed.GetValue(host) is { } name ? $"&host={(await HostCommands.FindAsync(api, name, cancel).ConfigureAwait(false)).Id}" : "";
            var page = await api.GetAsync($"sessions?live={(parsed.GetValue(live) ? "true" : "false")}{of}{(parsed.GetValue(text) is { } part ? $"&text={Uri.EscapeDataString(part)}" : "")}", WireJson.Default.PageSessionInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListSessionInfo, "There is no such session.",
                new("Id", s => Words.ShortId(s.Id), Machine: s => $"{s.Id}"),
                new("Technician", s => s.Technician),
                new("Host", s => s.HostLabel),
                new("Group", s => s.GroupPath),
                new("Opened", s => Words.Iso(s.OpenedAt)),
                new("Ended", s => s.EndedAt is { } end ? $"{Words.Iso(end)}, {s.EndReason}" : "goes on"),
                new("Reason", s => s.Reason ?? ""),
                new("Note", s => s.Note is null ? "" : TerminalText.Line(s.Note.ReplaceLineEndings(" / ")), Machine: s => s.Note ?? ""));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Acts(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("acts", "Lists what was done in a session, in its order: your own, or at a place that you administer.", "umbrek session acts 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), openOnly: false, cancel).ConfigureAwait(false);
            var page = await api.GetAsync($"sessions/{found.Id}/acts", WireJson.Default.PageSessionAct, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListSessionAct, "Nothing was done in it.",
                new("At", a => Words.Iso(a.At)),
                new("By", a => a.By),
                new("Act", a => a.Action),
                new("More", a => TerminalText.Line(AuditCommands.More(a.Detail)), Machine: a => a.Detail));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Note(ClientContext client)
    {
        var id = IdArgument();
        var text = new Argument<string>("text") { Description = "What is to be known; '' takes away what was written, '-' reads it from standard input." };
        var command = ClientCommands.Named("note", "Writes what is to be known about a session, for whoever comes after you.", "umbrek session note 70f4c2e1 'The printer hangs when the lid is open; Bram orders a new one.'");
        command.Add(id, text);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), openOnly: false, cancel).ConfigureAwait(false);
            var note = parsed.GetRequiredValue(text) is var given and not "-" ? given : await Console.In.ReadToEndAsync(cancel).ConfigureAwait(false);
            var noted = await api.PutAsync($"sessions/{found.Id}/note", new SessionNote(note), 0, WireJson.Default.SessionNote, WireJson.Default.SessionInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The session of {noted.Technician} on {noted.HostLabel} {(noted.Note is null ? "has no note" : "has its note")}.", noted, WireJson.Default.SessionInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Argument<string> IdArgument() => new("id") { Description = "The session's id, or its last eight characters." };

    private static async Task<SessionInfo> FindAsync(ApiClient api, string id, bool openOnly, CancellationToken cancel)
    {
        if (Guid.TryParse(id, out var whole))
        {
            return await api.GetAsync($"sessions/{whole}", WireJson.Default.SessionInfo, cancel).ConfigureAwait(false);
        }
        var known = (await api.GetAsync($"sessions?live={(openOnly ? "true" : "false")}", WireJson.Default.PageSessionInfo, cancel).ConfigureAwait(false)).Items;
        return openOnly ? ShortIds.Find(known, s => s.Id, id, "open session", "umbrek session list --open") : ShortIds.Find(known, s => s.Id, id, "session", "umbrek session list");
    }

    private static Command End(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("end", "Ends a session with all its channels.", "umbrek session end 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), openOnly: true, cancel).ConfigureAwait(false);
            var ended = await api.PostAsync($"sessions/{found.Id}/end", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The session of {ended.Technician} on {ended.HostLabel} is ended.", ended, WireJson.Default.SessionInfo);
            return ExitCodes.Done;
        });
        return command;
    }
}
