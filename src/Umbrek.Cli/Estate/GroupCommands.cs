using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;

namespace Umbrek.Cli.Estate;

/// <summary>The tree that hosts stand in.</summary>
public static class GroupCommands
{
    public static Command Group(ClientContext client)
    {
        var command = ClientCommands.Named("group", "Customers and the groups below them.", "umbrek group list");
        command.Add(List(client), New(client), Rename(client), Move(client), Remove(client));
        return command;
    }

    public static Argument<string> PathArgument(ClientContext client, string name, string says)
    {
        var path = new Argument<string>(name) { Description = says };
        path.CompletionSources.Add(_ => Paths(client));
        return path;
    }

    /// <summary>Paths for shell completion; nothing when the service does not answer at once.</summary>
    public static IEnumerable<string> Paths(ClientContext client) =>
        Offered.Ask(client, async (api, cancel) => (await api.GetAsync("groups", WireJson.Default.PageGroupInfo, cancel).ConfigureAwait(false)).Items.Select(g => g.Path));

    private static Command List(ClientContext client)
    {
        var list = ClientCommands.Named("list", "Lists customers and groups with the hosts that stand in them.", "umbrek group list");
        list.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("groups", WireJson.Default.PageGroupInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListGroupInfo, "There is no group yet. Make a customer: umbrek group new 'Saltmarsh Ferry'",
                new("Group", g => g.Path), new("Hosts", g => $"{g.Hosts}", Right: true));
            return ExitCodes.Done;
        });
        return list;
    }

    private static Command New(ClientContext client)
    {
        var path = new Argument<string>("path") { Description = "The whole path; what stands before the last name must exist." };
        var add = ClientCommands.Named("new", "Makes a customer, or a group below one.", "umbrek group new 'Saltmarsh Ferry/Quay'");
        add.Add(path);
        add.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var names = GroupPath.Split(parsed.GetRequiredValue(path));
            if (names.Length == 0)
            {
                throw new ClientException("The group has no name; write it like 'Saltmarsh Ferry/Quay'.", ExitCodes.WrongUse);
            }
            var made = await api.PostAsync("groups", new NewGroup(names[^1], names.Length == 1 ? null : GroupPath.Join(names[..^1])), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, cancel).ConfigureAwait(false);
            Listing.PrintOne(client.Format(parsed), made, WireJson.Default.GroupInfo, ("Group", made.Path));
            return ExitCodes.Done;
        });
        return add;
    }

    private static Command Rename(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "Its new name, without the path." };
        return Change(client, "rename", "Renames a customer or group; hosts and groups in it stay where they are.", "umbrek group rename 'Saltmarsh Ferry/Quay' 'North Quay'", parsed => new GroupChange(Name: parsed.GetRequiredValue(name)), name);
    }

    private static Command Move(ClientContext client)
    {
        var parent = PathArgument(client, "below", "The customer or group that it goes below.");
        return Change(client, "move", "Moves a group with everything in it.", "umbrek group move 'Saltmarsh Ferry/Quay/Office' 'Saltmarsh Ferry'", parsed => new GroupChange(ParentPath: parsed.GetRequiredValue(parent)), parent);
    }

    private static Command Remove(ClientContext client)
    {
        var path = PathArgument(client, "path", "The group's whole path.");
        var hostsTo = new Option<string?>("--hosts-to") { Description = "Where the hosts in it go; without it there must be none.", HelpName = "group" };
        hostsTo.CompletionSources.Add(_ => Paths(client));
        var command = ClientCommands.Named("remove", "Removes a group with the groups below it.", "umbrek group remove 'Saltmarsh Ferry/Quay/Office' --hosts-to 'Saltmarsh Ferry/Quay'");
        command.Add(path, hostsTo);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var group = await FindAsync(api, parsed.GetRequiredValue(path), cancel).ConfigureAwait(false);
            var to = parsed.GetValue(hostsTo);
            await api.ActAsync(HttpMethod.Delete, $"groups/{group.Id}{(to is null ? "" : $"?hostsTo={Uri.EscapeDataString(to)}")}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{group.Path} is removed.", group, WireJson.Default.GroupInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Change(ClientContext client, string name, string description, string example, Func<ParseResult, GroupChange> change, Argument<string> more)
    {
        var path = PathArgument(client, "path", "The group's whole path.");
        var command = ClientCommands.Named(name, description, example);
        command.Add(path, more);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var group = await FindAsync(api, parsed.GetRequiredValue(path), cancel).ConfigureAwait(false);
            var after = await api.PatchAsync($"groups/{group.Id}", change(parsed), group.Version, WireJson.Default.GroupChange, WireJson.Default.GroupInfo, cancel).ConfigureAwait(false);
            Listing.PrintOne(client.Format(parsed), after, WireJson.Default.GroupInfo, ("Group", after.Path), ("Before", group.Path));
            return ExitCodes.Done;
        });
        return command;
    }

    /// <returns>Null when no group has that path.</returns>
    public static async Task<GroupInfo?> FindOrNullAsync(ApiClient api, string path, CancellationToken cancel)
    {
        var typed = GroupPath.Join(GroupPath.Split(path));
        return (await api.GetAsync("groups", WireJson.Default.PageGroupInfo, cancel).ConfigureAwait(false)).Items.FirstOrDefault(g => string.Equals(g.Path, typed, StringComparison.OrdinalIgnoreCase));
    }

    public static async Task<GroupInfo> FindAsync(ApiClient api, string path, CancellationToken cancel)
    {
        var typed = GroupPath.Join(GroupPath.Split(path));
        var all = (await api.GetAsync("groups", WireJson.Default.PageGroupInfo, cancel).ConfigureAwait(false)).Items;
        return all.FirstOrDefault(g => string.Equals(g.Path, typed, StringComparison.OrdinalIgnoreCase))
            ?? throw new ClientException($"There is no group '{path}'.{(Similarity.Closest(typed, all.Select(g => g.Path)) is { } close ? $" Did you mean '{close}'?" : " 'umbrek group list' shows all.")}", ExitCodes.NothingMatched);
    }
}
