using System.CommandLine;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Cli.Access;

/// <summary>Several technicians who are given the same.</summary>
public static class TeamCommands
{
    public static Command Team(ClientContext client)
    {
        var command = ClientCommands.Named("team", "Several technicians who are given the same.", "umbrek team list");
        command.Add(List(client), New(client), Member(client, true), Member(client, false), Remove(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var list = ClientCommands.Named("list", "Lists teams and who is in them.", "umbrek team list");
        list.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("teams", WireJson.Default.PageTeamInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListTeamInfo, "There is no team yet. Make one: umbrek team new 'Coast'",
                new("Team", t => t.Name), new("Members", t => string.Join(", ", t.Members.Select(m => m.Name))), new("Grants", t => $"{t.Grants}", Right: true));
            return ExitCodes.Done;
        });
        return list;
    }

    private static Command New(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "The team's name." };
        var command = ClientCommands.Named("new", "Makes a team.", "umbrek team new Coast");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var made = await api.PostAsync("teams", new NewTeam(parsed.GetRequiredValue(name)), WireJson.Default.NewTeam, WireJson.Default.TeamInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The team {made.Name} is there. Put somebody in: umbrek team add '{made.Name}' NAME", made, WireJson.Default.TeamInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Member(ClientContext client, bool add)
    {
        var team = new Argument<string>("team") { Description = "The team." };
        var who = TechnicianCommands.NameArgument(client, "technician", add ? "Who goes in." : "Who goes out.");
        var command = add
            ? ClientCommands.Named("add", "Puts a technician into a team; he has at once what it is given.", "umbrek team add Coast 'Tomasz Vail'")
            : ClientCommands.Named("take-out", "Takes a technician out of a team; he loses at once what it is given.", "umbrek team take-out Coast 'Tomasz Vail'");
        command.Add(team, who);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(team), cancel).ConfigureAwait(false);
            var technician = await TechnicianCommands.FindAsync(api, parsed.GetRequiredValue(who), cancel).ConfigureAwait(false);
            await api.ActAsync(add ? HttpMethod.Put : HttpMethod.Delete, $"teams/{found.Id}/members/{technician.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{technician.Name} is {(add ? "in" : "no longer in")} the team {found.Name}.", technician, WireJson.Default.TechnicianInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var team = new Argument<string>("team") { Description = "The team." };
        var command = ClientCommands.Named("remove", "Removes a team with the grants that it was given.", "umbrek team remove Coast");
        command.Add(team);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(team), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Delete, $"teams/{found.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The team {found.Name} is removed, and {(found.Grants == 1 ? "its grant" : $"its {found.Grants} grants")}.", found, WireJson.Default.TeamInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    internal static async Task<TeamInfo> FindAsync(ApiClient api, string name, CancellationToken cancel)
    {
        var all = (await api.GetAsync("teams", WireJson.Default.PageTeamInfo, cancel).ConfigureAwait(false)).Items;
        return all.FirstOrDefault(t => string.Equals(t.Name, name.Trim(), StringComparison.OrdinalIgnoreCase))
            ?? throw new ClientException($"There is no team '{name}'.{(Similarity.Closest(name, all.Select(t => t.Name)) is { } close ? $" Did you mean '{close}'?" : " 'umbrek team list' shows all.")}", ExitCodes.NothingMatched);
    }
}
