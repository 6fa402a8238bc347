using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Sessions;

namespace Umbrek.Cli.Sessions;

/// <summary><c>umbrek invitation</c>: technicians who ask each other to the desktop of a host.</summary>
public static class InvitationCommands
{
    public static Command Invitation(ClientContext client)
    {
        var command = ClientCommands.Named("invitation", "Asks a colleague to the desktop of a host, to look together or to take over.", "umbrek invitation send quay-ticket-03 'Tomasz Vail'\n  umbrek invitation list");
        command.Add(List(client), Colleagues(client), Send(client), Answer(client, "accept", "Says that you come to a host to which you were asked.", true), Answer(client, "decline", "Says that you don't come now.", false), Withdraw(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists invitations to you and from you that stand.", "umbrek invitation list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var now = client.Time.GetUtcNow();
            Listing.Print(client.Format(parsed), await AllAsync(api, cancel).ConfigureAwait(false), WireJson.Default.ListInvitationInfo, "No invitation stands.",
                new("Id", i => Words.ShortId(i.Id), Machine: i => $"{i.Id}"),
                new("From", i => i.From),
                new("To", i => i.To),
                new("Host", i => i.HostLabel),
                new("Group", i => i.GroupPath),
                new("Sent", i => Words.Ago(i.At, now), Machine: i => Words.Iso(i.At)),
                new("Answer", i => i.State switch { InvitationState.Accepted => "comes", InvitationState.Declined => "not now", _ => $"none yet, stands for {Units.Span(i.Until - now)}" }, Machine: i => i.State.ToString().ToLowerInvariant()),
                new("Note", i => i.Note ?? ""));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Colleagues(ClientContext client)
    {
        var host = HostCommands.HostArgument(client);
        var command = ClientCommands.Named("colleagues", "Lists who else may look at a host's desktop, and who of them is here.", "umbrek invitation colleagues quay-ticket-03");
        command.Add(host);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var at = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            var page = await api.GetAsync($"hosts/{at.Id}/colleagues", WireJson.Default.PageColleague, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListColleague, $"Nobody else may look at {at.Label}.",
                new("Name", c => c.Name),
                new("May", c => c.MayControl ? "watch and control" : "watch"),
                new("Here", c => c.IsHere ? "yes" : "no"));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Send(ClientContext client)
    {
        var host = HostCommands.HostArgument(client);
        var to = TechnicianCommands.NameArgument(client, "colleague", "Who is asked.");
        var note = new Option<string?>("--note") { Description = "What it is about, in a sentence.", HelpName = "text" };
        var screen = new Option<string?>("--screen") { Description = "At which screen of the host you are; the one where somebody is when left out.", HelpName = "name" };
        var command = ClientCommands.Named("send", "Asks a colleague to a host at which you are. It opens nothing: whoever comes does so with his own grants. It lapses after a quarter of an hour.", "umbrek invitation send quay-ticket-03 'Tomasz Vail' --note 'the till hangs at the same place again'");
        command.Add(host, to);
        command.Add(note, screen);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var at = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            var who = await TechnicianCommands.FindAsync(api, parsed.GetRequiredValue(to), cancel).ConfigureAwait(false);
            var here = (await api.GetAsync($"hosts/{at.Id}/colleagues", WireJson.Default.PageColleague, cancel).ConfigureAwait(false)).Items.Any(c => c.Id == who.Id && c.IsHere);
            var sent = await api.PostAsync($"hosts/{at.Id}/invitations", new NewInvitation(who.Id, parsed.GetValue(note), parsed.GetValue(screen)), WireJson.Default.NewInvitation, WireJson.Default.InvitationInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{sent.To} is asked to {sent.HostLabel}{(here ? "" : ", and is not here now: it is seen as soon as the console is opened")}. 'umbrek invitation list' shows the answer.", sent, WireJson.Default.InvitationInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Answer(ClientContext client, string name, string says, bool comes)
    {
        var id = IdArgument();
        var command = ClientCommands.Named(name, says, $"umbrek invitation {name} 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var answered = await api.PostAsync($"invitations/{found.Id}/answer", new InvitationAnswer(comes), WireJson.Default.InvitationAnswer, WireJson.Default.InvitationInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), comes
                ? $"{answered.From} knows that you come. To look on: umbrek desktop {ShellWords.Quote(answered.HostLabel)} --listen 127.0.0.1:5900{(answered.Screen is { } screen ? $" --screen {ShellWords.Quote(screen)}" : "")}{(answered.MayControl ? "" : " --watch")}"
                : $"{answered.From} knows that you don't come to {answered.HostLabel} now.", answered, WireJson.Default.InvitationInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Withdraw(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("withdraw", "Takes back an invitation of yours.", "umbrek invitation withdraw 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Delete, $"invitations/{found.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{found.To} is no longer asked to {found.HostLabel}.", found, WireJson.Default.InvitationInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Argument<string> IdArgument() => new("id") { Description = "The invitation's id, or its last eight characters." };

    private static async Task<IReadOnlyList<InvitationInfo>> AllAsync(ApiClient api, CancellationToken cancel) =>
        (await api.GetAsync("invitations", WireJson.Default.PageInvitationInfo, cancel).ConfigureAwait(false)).Items;

    private static async Task<InvitationInfo> FindAsync(ApiClient api, string id, CancellationToken cancel) =>
        ShortIds.Find(await AllAsync(api, cancel).ConfigureAwait(false), i => i.Id, id, "invitation", "umbrek invitation list");
}
