using System.CommandLine;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Cli.Access;

/// <summary>Who may do what where: grants, and why something is allowed or not.</summary>
public static class GrantCommands
{
    private const string Never = "never";

    public static Command Access(ClientContext client)
    {
        var command = ClientCommands.Named("access", "Who may do what where, and why or why not.", "umbrek access explain 'Priya Lund' orrin-desk-03");
        command.Add(Explain(client), Grants(client), Matrix(client), Grant(client), Until(client), Revoke(client));
        return command;
    }

    private static Command Explain(ClientContext client)
    {
        var who = TechnicianCommands.NameArgument(client, "technician", "Whose permissions; your own with 'me'.");
        var place = new Argument<string>("place") { Description = "A host, or a group's whole path." };
        place.CompletionSources.Add(_ => GroupCommands.Paths(client));
        var command = ClientCommands.Named("explain", "Says of every permission whether somebody has it at a host or group, and why or why not.", "umbrek access explain 'Tomasz Vail' quay-ticket-01");
        command.Add(who, place);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var typed = parsed.GetRequiredValue(who);
            var technician = typed is "me" ? null : await TechnicianCommands.FindAsync(api, typed, cancel).ConfigureAwait(false);
            var path = await PlaceAsync(api, parsed.GetRequiredValue(place), cancel).ConfigureAwait(false);
            var answer = await api.GetAsync($"{path}/access{(technician is null ? "" : $"?technician={technician.Id}")}", WireJson.Default.AccessExplanation, cancel).ConfigureAwait(false);
            if (client.Format(parsed) == OutputFormat.Json)
            {
                Listing.PrintOne(OutputFormat.Json, answer, WireJson.Default.AccessExplanation);
                return ExitCodes.Done;
            }
            if (client.Format(parsed) == OutputFormat.Table)
            {
                Console.Out.WriteLine($"{answer.Technician} at {answer.Place}{(answer.HostId is null ? "" : $" in {answer.GroupPath}")}\n");
            }
            Listing.Print(client.Format(parsed), answer.Answers, WireJson.Default.ListAccessAnswer, "",
                new("Permission", a => PermissionWords.Word(a.Permission)), new("May", a => a.Allowed ? "yes" : "no"), new("Why", a => a.Why));
            if (client.Format(parsed) == OutputFormat.Table)
            {
                Console.Out.WriteLine();
                Console.Out.WriteLine(answer.CanChange.Count == 0 ? "Nobody can change that." : $"{string.Join(", ", answer.CanChange)} can change that.");
            }
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Grants(ClientContext client)
    {
        var of = new Option<string?>("--of") { Description = "Only those that reach this technician, by a team too.", HelpName = "technician" };
        of.CompletionSources.Add(_ => TechnicianCommands.Names(client));
        var command = ClientCommands.Named("grants", "Lists your grants, and those at places that you administer.", "umbrek access grants --of 'Tomasz Vail'");
        command.Add(of);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var one = parsed.GetValue(of) is { } name ? await TechnicianCommands.FindAsync(api, name, cancel).ConfigureAwait(false) : null;
            var page = await api.GetAsync($"grants{(one is null ? "" : $"?technician={one.Id}")}", WireJson.Default.PageGrantInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListGrantInfo, one is null ? "You hold no grant." : $"{one.Name} holds no grant that you may know of.",
                new("Id", g => Words.ShortId(g.Id), Machine: g => $"{g.Id}"), new("Holder", g => g.TeamId is null ? g.Holder : $"team {g.Holder}"), new("Role", g => g.Role), new("On", g => g.GroupPath ?? "everything"),
                new("Ends", g => Ends(g), Machine: g => Words.Iso(g.EndsAt)), new("By", g => g.CreatedBy), new("Note", g => g.Note ?? ""));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Matrix(ClientContext client)
    {
        var command = ClientCommands.Named("matrix", "Technicians against customers: who reaches what.", "umbrek access matrix");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var matrix = await api.GetAsync("access/matrix", WireJson.Default.AccessMatrix, cancel).ConfigureAwait(false);
            if (client.Format(parsed) == OutputFormat.Json)
            {
                Listing.PrintOne(OutputFormat.Json, matrix, WireJson.Default.AccessMatrix);
                return ExitCodes.Done;
            }
            Listing.Print(client.Format(parsed), matrix.Rows, WireJson.Default.ListAccessMatrixRow, "There is no technician.",
                [new("Technician", r => r.Technician), .. matrix.Customers.Select((c, i) => new Column<AccessMatrixRow>(c, r => Cell(r.Cells[i], c)))]);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Grant(ClientContext client)
    {
        var role = new Argument<string>("role") { Description = "The role to give." };
        role.CompletionSources.Add(_ => RoleCommands.Names(client));
        var to = new Option<string?>("--to") { Description = "The technician who gets it.", HelpName = "technician" };
        to.CompletionSources.Add(_ => TechnicianCommands.Names(client));
        var team = new Option<string?>("--team") { Description = "Or the team that gets it." };
        var on = new Option<string?>("--on") { Description = "The customer or group; what is below it goes along.", HelpName = "group" };
        on.CompletionSources.Add(_ => GroupCommands.Paths(client));
        var everything = new Option<bool>("--everything") { Description = "Or every customer, also those still to come." };
        var until = new Option<string?>("--until") { Description = "It ends then (UTC); a day counts to its end: 2026-11-27 or 2026-11-27T18:00.", HelpName = "time" };
        var note = new Option<string?>("--note") { Description = "Why." };
        var command = ClientCommands.Named("grant", "Gives a technician or a team a role on a group and everything below.", "umbrek access grant technician --to 'Odile Marsh' --on 'Brindle Moor Observatory' --until 2026-11-27");
        command.Add(role, to, team, on, everything, until, note);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var wish = new NewGrant(parsed.GetValue(to), parsed.GetValue(team), parsed.GetRequiredValue(role), parsed.GetValue(on), parsed.GetValue(everything), End(parsed.GetValue(until)), parsed.GetValue(note));
            var made = await api.PostAsync("grants", wish, WireJson.Default.NewGrant, WireJson.Default.GrantInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{Name(made)} now.", made, WireJson.Default.GrantInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Until(ClientContext client)
    {
        var id = new Argument<string>("grant") { Description = "The grant's id, as the list shows it." };
        var time = new Argument<string>("time") { Description = $"When it ends (UTC), or '{Never}'." };
        var command = ClientCommands.Named("until", "Changes when a grant ends.", "umbrek access until 3f9a21c4 2026-12-04");
        command.Add(id, time);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var grant = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var after = await api.PatchAsync($"grants/{grant.Id}", new GrantChange(End(parsed.GetRequiredValue(time))), 0, WireJson.Default.GrantChange, WireJson.Default.GrantInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{Name(after)}{(after.EndsAt is null ? ", without an end" : "")}.", after, WireJson.Default.GrantInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Revoke(ClientContext client)
    {
        var id = new Argument<string>("grant") { Description = "The grant's id, as the list shows it." };
        var command = ClientCommands.Named("revoke", "Revokes a grant; what goes on because of it ends at once.", "umbrek access revoke 3f9a21c4");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var grant = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Delete, $"grants/{grant.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{grant.Holder} is no longer {grant.Role} on {grant.GroupPath ?? "everything"}.", grant, WireJson.Default.GrantInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    /// <summary>The address of a group, or of a host of that name.</summary>
    private static async Task<string> PlaceAsync(ApiClient api, string typed, CancellationToken cancel)
    {
        var path = GroupPath.Join(GroupPath.Split(typed));
        var groups = (await api.GetAsync("groups", WireJson.Default.PageGroupInfo, cancel).ConfigureAwait(false)).Items;
        return groups.FirstOrDefault(g => string.Equals(g.Path, path, StringComparison.OrdinalIgnoreCase)) is { } group
            ? $"groups/{group.Id}"
            : $"hosts/{(await HostCommands.FindAsync(api, typed, cancel).ConfigureAwait(false)).Id}";
    }

    private static async Task<GrantInfo> FindAsync(ApiClient api, string id, CancellationToken cancel) =>
        ShortIds.Find((await api.GetAsync("grants", WireJson.Default.PageGrantInfo, cancel).ConfigureAwait(false)).Items, g => g.Id, id, "grant", "umbrek access grants");

    private static DateTimeOffset? End(string? typed) => typed is null or Never ? null : TimeText.Read(typed, endOfDay: true);

    private static string Ends(GrantInfo grant) => grant.EndsAt is not { } end ? "" : $"{(grant.Ended ? "ended " : "")}{end.UtcDateTime:yyyy-MM-dd HH:mm}";

    private static string Name(GrantInfo grant) => $"{(grant.TeamId is null ? grant.Holder : $"The team {grant.Holder}")} is {grant.Role} on {grant.GroupPath ?? "everything"}{(grant.EndsAt is { } end ? $" until {end.UtcDateTime:yyyy-MM-dd HH:mm} UTC" : "")}";

    private static string Cell(AccessMatrixCell cell, string customer) => string.Join(", ", cell.Grants.Where(g => !g.Ended)
        .Select(g => $"{g.Role}{(g.GroupPath is null || g.GroupPath.Equals(customer, StringComparison.OrdinalIgnoreCase) ? "" : " (part)")}{(g.EndsAt is { } end ? $" until {end.UtcDateTime:yyyy-MM-dd}" : "")}").Distinct());
}
