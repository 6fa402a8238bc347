using System.CommandLine;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Cli.Access;

/// <summary>The people who sign in.</summary>
public static class TechnicianCommands
{
    public static Command Technician(ClientContext client)
    {
        var command = ClientCommands.Named("technician", "The people who sign in.", "umbrek technician list");
        command.Add(List(client), New(client), Mail(client), ResetSecondFactor(client), Remove(client));
        return command;
    }

    /// <exception cref="ClientException">Nobody is called so.</exception>
    public static async Task<TechnicianInfo> FindAsync(ApiClient api, string name, CancellationToken cancel)
    {
        var all = (await api.GetAsync("technicians", WireJson.Default.PageTechnicianInfo, cancel).ConfigureAwait(false)).Items;
        return all.FirstOrDefault(t => string.Equals(t.Name, name.Trim(), StringComparison.OrdinalIgnoreCase))
            ?? throw new ClientException($"There is no technician '{name}'.{(Similarity.Closest(name, all.Select(t => t.Name)) is { } close ? $" Did you mean '{close}'?" : " 'umbrek technician list' shows all.")}", ExitCodes.NothingMatched);
    }

    public static Argument<string> NameArgument(ClientContext client, string name, string says)
    {
        var argument = new Argument<string>(name) { Description = says, HelpName = name };
        argument.CompletionSources.Add(_ => Names(client));
        return argument;
    }

    /// <summary>For shell completion; nothing when the service does not answer at once.</summary>
    public static IEnumerable<string> Names(ClientContext client) =>
        Offered.Ask(client, async (api, cancel) => (await api.GetAsync("technicians", WireJson.Default.PageTechnicianInfo, cancel).ConfigureAwait(false)).Items.Select(t => t.Name));

    private static Command List(ClientContext client)
    {
        var list = ClientCommands.Named("list", "Lists everybody who can sign in, with the grants that you may know of.", "umbrek technician list");
        list.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("technicians", WireJson.Default.PageTechnicianInfo, cancel).ConfigureAwait(false);
            var grants = (await api.GetAsync("grants", WireJson.Default.PageGrantInfo, cancel).ConfigureAwait(false)).Items.Where(g => !g.Ended).ToList();
            string Held(TechnicianInfo t) => string.Join("; ", grants.Where(g => g.TechnicianId == t.Id || (g.TeamId is not null && t.Teams.Contains(g.Holder))).Select(g => $"{g.Role} on {g.GroupPath ?? "everything"}"));
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListTechnicianInfo, "There is no technician.",
                new("Name", t => t.Name), new("2nd factor", t => t.SecondFactor ? "yes" : "no"), new("Teams", t => string.Join(", ", t.Teams)), new("Grants", Held), new("Mail", t => t.Mail ?? ""));
            return ExitCodes.Done;
        });
        return list;
    }

    private static Command New(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "The new technician's name." };
        var stdin = new Option<bool>("--password-stdin") { Description = "Read the password from standard input." };
        var add = ClientCommands.Named("new", "Adds a technician, who may do nothing until a grant says so.", "umbrek technician new 'Tomasz Vail'");
        add.Add(name, stdin);
        add.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var made = await api.PostAsync("technicians", new NewTechnician(parsed.GetRequiredValue(name), Prompt.Password(parsed.GetValue(stdin), "Password for the new technician: ")),
                WireJson.Default.NewTechnician, WireJson.Default.TechnicianInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{made.Name} can sign in now, and may do nothing yet. Give a role: umbrek access grant technician --to '{made.Name}' --on CUSTOMER", made, WireJson.Default.TechnicianInfo);
            return ExitCodes.Done;
        });
        return add;
    }

    private static Command Mail(ClientContext client)
    {
        var name = NameArgument(client, "name", "Whom; yourself, or anybody if you administer.");
        var address = new Argument<string>("address") { Description = "Where notices reach him; '' takes it away." };
        var command = ClientCommands.Named("mail", "Says where notices reach a technician by mail.", "umbrek technician mail 'Tomasz Vail' tomasz@halyard.example");
        command.Add(name, address);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var who = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var self = (await api.GetAsync("me", WireJson.Default.Me, cancel).ConfigureAwait(false)).Id == who.Id;
            var after = await api.PutAsync(self ? "me/mail" : $"technicians/{who.Id}/mail", new MailWish(parsed.GetRequiredValue(address)), 0, WireJson.Default.MailWish, WireJson.Default.TechnicianInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), after.Mail is null ? $"Notices do not reach {after.Name} by mail any more." : $"Notices reach {after.Name} at {after.Mail}.", after, WireJson.Default.TechnicianInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command ResetSecondFactor(ClientContext client)
    {
        var name = NameArgument(client, "name", "Who has lost it.");
        var command = ClientCommands.Named("reset-second-factor", "Takes away the second factor of somebody who has lost it; he is signed out everywhere.", "umbrek technician reset-second-factor 'Tomasz Vail'");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var who = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Post, $"technicians/{who.Id}/reset-second-factor", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{who.Name} has no second factor any more and is signed out everywhere. Be sure that it was {who.Name} who asked.", who, WireJson.Default.TechnicianInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var name = NameArgument(client, "name", "Who goes.");
        var command = ClientCommands.Named("remove", "Removes a technician with his grants and sign-ins; what he did stays in every record.", "umbrek technician remove 'Odile Marsh'");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var who = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Delete, $"technicians/{who.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{who.Name} is removed, and signed out everywhere.", who, WireJson.Default.TechnicianInfo);
            return ExitCodes.Done;
        });
        return command;
    }
}
