using System.CommandLine;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Access;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Cli.Access;

/// <summary>Named sets of permissions.</summary>
public static class RoleCommands
{
    public static Command Role(ClientContext client)
    {
        var command = ClientCommands.Named("role", "Named sets of permissions.", "umbrek role list");
        command.Add(List(client), New(client), Change(client), Remove(client));
        return command;
    }

    /// <summary>Names for shell completion; nothing when the service does not answer at once.</summary>
    public static IEnumerable<string> Names(ClientContext client) =>
        Offered.Ask(client, async (api, cancel) => (await api.GetAsync("roles", WireJson.Default.PageRoleInfo, cancel).ConfigureAwait(false)).Items.Select(r => r.Name));

    private static Command List(ClientContext client)
    {
        var list = ClientCommands.Named("list", "Lists roles and the permissions in them.", "umbrek role list");
        list.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("roles", WireJson.Default.PageRoleInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListRoleInfo, "There is no role.",
                new("Role", r => r.Name), new("Permissions", r => string.Join(", ", r.Permissions.Select(PermissionWords.Word))), new("Grants", r => $"{r.Grants}", Right: true), new("Kind", r => r.BuiltIn ? "built in" : "own"), new("Note", r => r.Note ?? ""));
            return ExitCodes.Done;
        });
        return list;
    }

    private static Command New(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "The role's name." };
        var (permissions, note) = Options();
        permissions.Required = true;
        var command = ClientCommands.Named("new", "Makes a role of one's own. Whoever holds it may also see.", "umbrek role new 'view and files' --may watch --may read-files --may write-files");
        command.Add(name, permissions, note);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var made = await api.PostAsync("roles", new NewRole(parsed.GetRequiredValue(name), Read(parsed.GetValue(permissions)!), parsed.GetValue(note)), WireJson.Default.NewRole, WireJson.Default.RoleInfo, cancel).ConfigureAwait(false);
            Print(client, parsed, made);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Change(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "The role." };
        name.CompletionSources.Add(_ => Names(client));
        var newName = new Option<string?>("--name") { Description = "Its new name." };
        var (permissions, note) = Options();
        var command = ClientCommands.Named("change", "Changes a role of one's own, at once for everybody who holds it.", "umbrek role change 'view and files' --may watch --may read-files");
        command.Add(name, newName, permissions, note);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var role = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            var wish = new NewRole(parsed.GetValue(newName) ?? role.Name, parsed.GetValue(permissions) is { Length: > 0 } typed ? Read(typed) : role.Permissions, parsed.GetValue(note) ?? role.Note);
            Print(client, parsed, await api.PutAsync($"roles/{role.Id}", wish, role.Version, WireJson.Default.NewRole, WireJson.Default.RoleInfo, cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "The role; no grant may give it any more." };
        name.CompletionSources.Add(_ => Names(client));
        var command = ClientCommands.Named("remove", "Removes a role of one's own.", "umbrek role remove 'view and files'");
        command.Add(name);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var role = await FindAsync(api, parsed.GetRequiredValue(name), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Delete, $"roles/{role.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The role {role.Name} is removed.", role, WireJson.Default.RoleInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static (Option<string[]> Permissions, Option<string?> Note) Options()
    {
        var permissions = new Option<string[]>("--may") { Description = $"A permission; repeat it for more: {string.Join(", ", PermissionSet.All.List().Select(PermissionWords.Word))}.", HelpName = "permission" };
        permissions.CompletionSources.Add(_ => PermissionSet.All.List().Select(p => new System.CommandLine.Completions.CompletionItem(PermissionWords.Word(p))));
        return (permissions, new Option<string?>("--note") { Description = "What it is for." });
    }

    public static List<Permission> Read(string[] typed) => [.. typed.SelectMany(t => t.Split(',', StringSplitOptions.RemoveEmptyEntries)).Select(t => PermissionWords.Read(t)
        ?? throw new ClientException($"'{t}' is no permission.{(Similarity.Closest(t, PermissionSet.All.List().Select(PermissionWords.Word)) is { } close ? $" Did you mean {close}?" : $" There are {string.Join(", ", PermissionSet.All.List().Select(PermissionWords.Word))}.")}", ExitCodes.WrongUse))];

    private static void Print(ClientContext client, ParseResult parsed, RoleInfo role) => Listing.PrintOne(client.Format(parsed), role, WireJson.Default.RoleInfo,
        ("Role", role.Name), ("May", string.Join(", ", role.Permissions.Select(PermissionWords.Word))), ("Note", role.Note), ("Grants", $"{role.Grants}"));

    private static async Task<RoleInfo> FindAsync(ApiClient api, string name, CancellationToken cancel)
    {
        var all = (await api.GetAsync("roles", WireJson.Default.PageRoleInfo, cancel).ConfigureAwait(false)).Items;
        return all.FirstOrDefault(r => string.Equals(r.Name, name.Trim(), StringComparison.OrdinalIgnoreCase))
            ?? throw new ClientException($"There is no role '{name}'.{(Similarity.Closest(name, all.Select(r => r.Name)) is { } close ? $" Did you mean '{close}'?" : " 'umbrek role list' shows all.")}", ExitCodes.NothingMatched);
    }
}
