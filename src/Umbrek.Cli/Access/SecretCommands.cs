using System.CommandLine;
using System.Net.Http.Json;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Desktop;

namespace Umbrek.Cli.Access;

/// <summary>What the vault keeps for hosts and groups.</summary>
public static class SecretCommands
{
    private const string Lister = "umbrek secret list";

    public static Command Secret(ClientContext client)
    {
        var command = ClientCommands.Named("secret", "Access keys and system logons that the vault keeps.", "umbrek secret list");
        command.Add(List(client), Keep(client), Show(client), Reveal(client), Type(client), Remove(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var at = new Option<string?>("--at") { Description = "Only those of this host, or of exactly this group.", HelpName = "place" };
        var command = ClientCommands.Named("list", "Lists secrets, without their texts, where you may use them or see them.", "umbrek secret list --at quay-ticket-01");
        command.Add(at);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var of = parsed.GetValue(at) is { } place ? await PlaceAsync(api, place, cancel).ConfigureAwait(false) : (null, null);
            var found = await AllAsync(api, of, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), found, WireJson.Default.ListSecretInfo, "The vault keeps nothing that you may use or see.",
                new("Id", s => Words.ShortId(s.Id), Machine: s => $"{s.Id}"),
                new("Of", s => s.HostId is null ? s.Place : $"{s.Place} ({s.GroupPath})"),
                new("Kind", s => Word(s.Kind)),
                new("Name", s => s.Name.Length > 0 ? s.Name : "–"),
                new("User", s => s.UserName ?? "–"),
                new("Changed", s => Words.Iso(s.ChangedAt)),
                new("By", s => s.ChangedBy));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Keep(ClientContext client)
    {
        var place = PlaceArgument(client);
        var logon = new Option<string?>("--logon") { Description = "A system logon of this name, like 'local administrator'; an access key when left out.", HelpName = "name" };
        var user = new Option<string?>("--user") { Description = "The name to log on with." };
        var note = new Option<string?>("--note") { Description = "A word about it." };
        var file = new Option<string?>("--file") { Description = "Reads the secret from this file instead of asking.", HelpName = "file" };
        var command = ClientCommands.Named("keep", "Puts a secret into the vault; one that is there gets another text, and the one before is kept.",
            "umbrek secret keep quay-ticket-01\n  umbrek secret keep 'Saltmarsh Ferry' --logon 'local administrator' --user admin");
        command.Add(place, logon, user, note, file);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var (host, group) = await PlaceAsync(api, parsed.GetRequiredValue(place), cancel).ConfigureAwait(false);
            var name = parsed.GetValue(logon);
            var kind = name is null ? SecretKind.AccessKey : SecretKind.Logon;
            var there = (await AllAsync(api, (host, group), cancel).ConfigureAwait(false)).FirstOrDefault(s => s.Kind == kind && (name is null || s.Name.Equals(name, StringComparison.OrdinalIgnoreCase)));
            var text = ReadSecret(parsed.GetValue(file), name is null ? $"Access key of {parsed.GetValue(place)}: " : $"Password of {parsed.GetValue(user) ?? there?.UserName ?? name}: ");
            var kept = there is null
                ? await api.PostAsync("secrets", new NewSecret(kind, text, host, group, name, parsed.GetValue(user), parsed.GetValue(note)), WireJson.Default.NewSecret, WireJson.Default.SecretInfo, cancel).ConfigureAwait(false)
                : await api.PatchAsync($"secrets/{there.Id}", new SecretChange(text, null, parsed.GetValue(user), parsed.GetValue(note)), there.Version, WireJson.Default.SecretChange, WireJson.Default.SecretInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The vault keeps the {Word(kind)}{(name is null ? "" : $" '{kept.Name}'")} of {kept.Place}{(there is null ? "" : "; the one before is in its history")}.", kept, WireJson.Default.SecretInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("show", "Shows a secret's history, without its texts.", "umbrek secret show 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var detail = await api.GetAsync($"secrets/{found.Id}", WireJson.Default.SecretDetail, cancel).ConfigureAwait(false);
            if (client.Format(parsed) == OutputFormat.Table)
            {
                Listing.PrintOne(OutputFormat.Table, detail, WireJson.Default.SecretDetail,
                    ("Of", $"{found.Place}{(found.HostId is null ? "" : $" ({found.GroupPath})")}"), ("Kind", Word(found.Kind)), ("Name", found.Name.Length > 0 ? found.Name : null), ("User", found.UserName), ("Note", found.Note));
                Console.Out.WriteLine();
            }
            Listing.Print(client.Format(parsed), detail.Versions, WireJson.Default.ListSecretVersionInfo, "It has no text yet.",
                new("Number", v => $"{v.Number}", Right: true),
                new("Since", v => Words.Iso(v.CreatedAt)),
                new("By", v => v.CreatedBy),
                new("", v => v.Counts ? "counts" : v.IsProposed ? "on its way to the host" : "before"));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Reveal(ClientContext client)
    {
        var id = IdArgument();
        var why = new Option<string>("--why") { Description = "Why it has to be seen; it stands in the audit log.", Required = true, HelpName = "reason" };
        var number = new Option<int?>("--number") { Description = "Which of its history; the one that counts when left out." };
        var command = ClientCommands.Named("reveal", "Prints a secret's text. Who saw it, and why, stands in the audit log.", "umbrek secret reveal 70f4c2e1 --why 'no network, at the keyboard of the kiosk'");
        command.Add(id, why, number);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var shown = await api.PostAsync($"secrets/{found.Id}/reveal", new RevealRequest(parsed.GetRequiredValue(why), parsed.GetValue(number)), WireJson.Default.RevealRequest, WireJson.Default.RevealedSecret, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), shown.Secret, shown, WireJson.Default.RevealedSecret);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("remove", "Removes a secret from the vault, with its history. The host keeps its key.", "umbrek secret remove 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            await api.ActAsync(HttpMethod.Delete, $"secrets/{found.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The vault keeps the {Word(found.Kind)}{(found.Name.Length > 0 ? $" '{found.Name}'" : "")} of {found.Place} no more.", found, WireJson.Default.SecretInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    /// <summary>A secret from a file, or typed without being shown.</summary>
    internal static string ReadSecret(string? file, string question) =>
        file is not null ? File.ReadAllText(file).TrimEnd('\r', '\n')
        : Prompt.CanAsk ? Prompt.Password(false, question)
        : throw new ClientException("There is no terminal to type the secret at; give it in a file.", ExitCodes.WrongUse);

    private static string Word(SecretKind kind) => kind == SecretKind.AccessKey ? "access key" : "logon";

    private static Argument<string> IdArgument() => new("id") { Description = "The secret's id, or its last eight characters." };

    private static Command Type(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "The logon's name, or its id." };
        var host = new Option<string>("--on") { Description = "The host whose desktop you control.", HelpName = "host", Required = true };
        var enter = new Option<bool>("--enter") { Description = "Presses Enter behind it." };
        var command = ClientCommands.Named("type", "Types a logon of the vault at the desktop that you control, without showing it to you; what shows what is typed shows it to everybody who looks.", "umbrek secret type 'local administrator' --on quay-ticket-03 --enter");
        command.Add(name, host, enter);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            var logons = (await api.GetAsync($"hosts/{found.Id}/logons", WireJson.Default.PageSecretInfo, cancel).ConfigureAwait(false)).Items;
            var typed = parsed.GetRequiredValue(name);
            var secret = logons.FirstOrDefault(s => string.Equals(s.Name, typed, StringComparison.OrdinalIgnoreCase)) ?? ShortIds.Find(logons, s => s.Id, typed, $"logon for {found.Label}", Lister);
            using var request = new HttpRequestMessage(HttpMethod.Post, $"{ApiClient.Base}hosts/{found.Id}/typing") { Content = JsonContent.Create(new NewTyping(secret.Id, parsed.GetValue(enter)), WireJson.Default.NewTyping) };
            using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"'{secret.Name}' is typed on {found.Label} of {GroupPath.Customer(found.GroupPath)}.", secret, WireJson.Default.SecretInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Argument<string> PlaceArgument(ClientContext client)
    {
        var place = new Argument<string>("place") { Description = "A host's name, or a group's whole path.", HelpName = "place" };
        place.CompletionSources.Add(_ => [.. HostCommands.HostNames(client), .. GroupCommands.Paths(client)]);
        return place;
    }

    private static async Task<(Guid? Host, Guid? Group)> PlaceAsync(ApiClient api, string place, CancellationToken cancel) =>
        await GroupCommands.FindOrNullAsync(api, place, cancel).ConfigureAwait(false) is { } group ? (null, group.Id)
        : ((await HostCommands.FindAsync(api, place, cancel).ConfigureAwait(false)).Id, null);

    private static async Task<SecretInfo> FindAsync(ApiClient api, string typed, CancellationToken cancel) =>
        ShortIds.Find(await AllAsync(api, (null, null), cancel).ConfigureAwait(false), s => s.Id, typed, "secret", Lister);

    private static async Task<List<SecretInfo>> AllAsync(ApiClient api, (Guid? Host, Guid? Group) at, CancellationToken cancel)
    {
        var all = new List<SecretInfo>();
        for (string? cursor = ""; cursor is not null;)
        {
            var of = at.Host is { } host ? $"&host={host}" : at.Group is { } group ? $"&group={group}" : "";
            var page = await api.GetAsync($"secrets?limit=1000{of}{(cursor.Length > 0 ? $"&cursor={cursor}" : "")}", WireJson.Default.PageSecretInfo, cancel).ConfigureAwait(false);
            all.AddRange(page.Items);
            cursor = page.NextCursor;
        }
        return all;
    }
}
