using System.CommandLine;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Access;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Cli.Access;

/// <summary>One's own account: password, where one is signed in, tokens for scripts.</summary>
public static class OwnCommands
{
    public static Command Password(ClientContext client)
    {
        var stdin = new Option<bool>("--password-stdin") { Description = "Read the old and the new password from standard input, a line each." };
        var command = ClientCommands.Named("password", "Changes your password; everything else that you are signed in with ends.", "umbrek password");
        command.Add(stdin);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var wish = new PasswordChange(Prompt.Password(parsed.GetValue(stdin), "Your password: "), Prompt.Password(parsed.GetValue(stdin), "The new one: "));
            var ended = await api.PostAsync("me/password", wish, WireJson.Default.PasswordChange, WireJson.Default.Int32, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"Your password is changed. {(ended == 1 ? "One other sign-in has" : $"{ended} other sign-ins have")} ended.", ended, WireJson.Default.Int32);
            return ExitCodes.Done;
        });
        return command;
    }

    public static Command SignIns(ClientContext client)
    {
        var list = ClientCommands.Named("list", "Lists where you are signed in, and your tokens.", "umbrek sign-ins list");
        list.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            Print(client, parsed, (await api.GetAsync("me/sign-ins", WireJson.Default.PageSignInInfo, cancel).ConfigureAwait(false)).Items, "You are signed in nowhere.");
            return ExitCodes.Done;
        });
        var id = new Argument<string>("id") { Description = "Its id, as the list shows it." };
        var end = ClientCommands.Named("end", "Ends one of them, with every view that is open because of it.", "umbrek sign-ins end 3f9a21c4");
        end.Add(id);
        end.SetAction((parsed, cancel) => EndAsync(client, parsed, parsed.GetRequiredValue(id), "sign-in", "umbrek sign-ins list", cancel));
        var others = ClientCommands.Named("end-others", "Ends all but this one, tokens too.", "umbrek sign-ins end-others");
        others.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            using var request = new HttpRequestMessage(HttpMethod.Delete, ApiClient.Base + "me/sign-ins");
            using var answer = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            var ended = int.Parse(await answer.Content.ReadAsStringAsync(cancel).ConfigureAwait(false), System.Globalization.CultureInfo.InvariantCulture);
            Listing.Say(client.Format(parsed), ended == 1 ? "One sign-in has ended; this one stays." : $"{ended} sign-ins have ended; this one stays.", ended, WireJson.Default.Int32);
            return ExitCodes.Done;
        });
        var command = ClientCommands.Named("sign-ins", "Where you are signed in.", "umbrek sign-ins list");
        command.Add(list, end, others);
        return command;
    }

    public static Command Token(ClientContext client)
    {
        var name = new Argument<string>("name") { Description = "What it is for." };
        var may = new Option<string[]>("--may") { Description = $"A permission that it is good for; repeat it for more: {string.Join(", ", PermissionSet.All.List().Select(PermissionWords.Word))}.", HelpName = "permission", Required = true };
        may.CompletionSources.Add(_ => PermissionSet.All.List().Select(p => new System.CommandLine.Completions.CompletionItem(PermissionWords.Word(p))));
        var until = new Option<string>("--until") { Description = "When it ends (UTC), within a year; a day counts to its end.", HelpName = "time", Required = true };
        var make = ClientCommands.Named("new", "Makes a token for a script. It gives what you have, and of that only what you name.", "umbrek token new 'nightly report' --may see --until 2027-06-30");
        var stdin = new Option<bool>("--password-stdin") { Description = "Read your password from standard input." };
        make.Add(name, may, until, stdin);
        make.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var wish = new NewToken(parsed.GetRequiredValue(name), RoleCommands.Read(parsed.GetRequiredValue(may)), TimeText.Read(parsed.GetRequiredValue(until), endOfDay: true), Prompt.Password(parsed.GetValue(stdin), "Your password: "));
            var made = await api.PostAsync("me/tokens", wish, WireJson.Default.NewToken, WireJson.Default.TokenAnswer, cancel).ConfigureAwait(false);
            Listing.PrintOne(client.Format(parsed), made, WireJson.Default.TokenAnswer,
                ("Token", made.Token), ("For", made.Info.Device), ("May", string.Join(", ", made.Info.Permissions!.Select(PermissionWords.Word))), ("Ends", Words.Iso(made.Info.ExpiresAt)), ("Use", "UMBREK_TOKEN=… with umbrek, or Authorization: Bearer … with the API. It is shown this once."));
            return ExitCodes.Done;
        });
        var list = ClientCommands.Named("list", "Lists your tokens.", "umbrek token list");
        list.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var all = (await api.GetAsync("me/sign-ins", WireJson.Default.PageSignInInfo, cancel).ConfigureAwait(false)).Items.Where(s => s.Kind == SignInKind.Script).ToList();
            Print(client, parsed, all, "You have no token. Make one: umbrek token new 'nightly report' --may see --until 2027-06-30");
            return ExitCodes.Done;
        });
        var id = new Argument<string>("id") { Description = "Its id, as the list shows it." };
        var end = ClientCommands.Named("end", "Ends a token.", "umbrek token end 3f9a21c4");
        end.Add(id);
        end.SetAction((parsed, cancel) => EndAsync(client, parsed, parsed.GetRequiredValue(id), "token", "umbrek token list", cancel));
        var command = ClientCommands.Named("token", "Tokens for scripts: good for some permissions, until a time.", "umbrek token list");
        command.Add(make, list, end);
        return command;
    }

    private static async Task<int> EndAsync(ClientContext client, ParseResult parsed, string id, string what, string lister, CancellationToken cancel)
    {
        using var api = client.State.Open();
        var found = ShortIds.Find((await api.GetAsync("me/sign-ins", WireJson.Default.PageSignInInfo, cancel).ConfigureAwait(false)).Items, s => s.Id, id, what, lister);
        await api.ActAsync(HttpMethod.Delete, $"me/sign-ins/{found.Id}", cancel).ConfigureAwait(false);
        Listing.Say(client.Format(parsed), $"The {what} {found.Device} has ended.", found, WireJson.Default.SignInInfo);
        return ExitCodes.Done;
    }

    private static void Print(ClientContext client, ParseResult parsed, IReadOnlyList<SignInInfo> all, string whenEmpty) => Listing.Print(client.Format(parsed), all, WireJson.Default.ListSignInInfo, whenEmpty,
        new("Id", s => Words.ShortId(s.Id), Machine: s => $"{s.Id}"), new("Kind", s => s.Kind.ToString().ToLowerInvariant()), new("Device", s => s.Here ? $"{s.Device} (this one)" : s.Device, Machine: s => s.Device), new("From", s => s.Address ?? ""),
        new("Last used", s => Words.Ago(s.LastSeenAt, client.Time.GetUtcNow()), Machine: s => Words.Iso(s.LastSeenAt)), new("Ends", s => s.ExpiresAt.UtcDateTime.ToString("yyyy-MM-dd HH:mm", System.Globalization.CultureInfo.InvariantCulture), Machine: s => Words.Iso(s.ExpiresAt)),
        new("May", s => s.Permissions is { } may ? string.Join(", ", may.Select(PermissionWords.Word)) : "all that you may"));
}
