using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Estate;
using Umbrek.Wire;
using Umbrek.Wire.Estate;

namespace Umbrek.Cli.Estate;

/// <summary>The tree that hosts stand in.</summary>
public static class GroupCommands
{
    public static Command Group(ClientContext client)
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
        var command = ClientCommands.Named("group", "Customers and the groups below them.", "umbrek group list");
        command.Add(list, add);
        return command;
    }
}
