using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Cli.Enrolment;

/// <summary>Letting hosts in.</summary>
public static class EnrolmentCommands
{
    public static Command Enrolment(ClientContext client)
    {
        var token = ClientCommands.Named("token", "What entitles a computer to join.", "umbrek enrolment token new --group 'Saltmarsh Ferry/Quay'");
        token.Add(New(client), List(client), Revoke(client));
        var command = ClientCommands.Named("enrolment", "How computers join.", "umbrek enrolment token list");
        command.Add(token);
        return command;
    }

    private static Command New(ClientContext client)
    {
        var group = new Option<string>("--group") { Description = "Where the computers will stand: the group's whole path.", Required = true };
        var note = new Option<string?>("--note") { Description = "What it is for." };
        var expires = new Option<string?>("--expires") { Description = "How long it lives, for example 8h or 30d; 7d when left out." };
        var uses = new Option<int?>("--uses") { Description = "How many computers may join with it; any number when left out." };
        var command = ClientCommands.Named("new", "Makes a token and shows it this once.", "umbrek enrolment token new --group 'Saltmarsh Ferry/Quay' --uses 3 --expires 2d");
        command.Add(group, note, expires, uses);
        command.SetAction(async (parsed, cancel) =>
        {
            long? life = null;
            if (parsed.GetValue(expires) is { } text)
            {
                life = (long)(Units.ParseSpan(text) ?? throw new ClientException($"'{text}' is no length of time; write it like 90min, 8h or 30d.", ExitCodes.WrongUse)).TotalSeconds;
            }
            using var api = client.State.Open();
            var wish = new NewEnrolmentToken(parsed.GetRequiredValue(group), parsed.GetValue(note), life, parsed.GetValue(uses));
            var made = await api.PostAsync("enrolment-tokens", wish, WireJson.Default.NewEnrolmentToken, WireJson.Default.CreatedEnrolmentToken, cancel).ConfigureAwait(false);
            Listing.PrintOne(client.Format(parsed), made, WireJson.Default.CreatedEnrolmentToken,
                ("Group", made.Info.GroupPath),
                ("Expires", Words.Iso(made.Info.ExpiresAt)),
                ("Uses", made.Info.MaxUses is { } most ? $"{most}" : "any number"),
                ("Token", made.Token),
                ("On the host", made.Command),
                ("Note", "The token is shown this once; keep it, or make another."));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists tokens, newest first; their text is not kept.", "umbrek enrolment token list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("enrolment-tokens", WireJson.Default.PageEnrolmentTokenInfo, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListEnrolmentTokenInfo, "There is no token yet. Make one: umbrek enrolment token new --group GROUP",
                new("Id", t => Words.ShortId(t.Id), Machine: t => $"{t.Id}"),
                new("Group", t => t.GroupPath),
                new("State", t => t.State == EnrolmentTokenState.UsedUp ? "used up" : t.State.ToString().ToLowerInvariant()),
                new("Used", t => t.MaxUses is { } most ? $"{t.Uses} of {most}" : $"{t.Uses}", Right: true),
                new("Expires", t => Words.Iso(t.ExpiresAt)),
                new("Note", t => t.Note ?? ""));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Revoke(ClientContext client)
    {
        var id = new Argument<string>("id") { Description = "The token's id, or the last characters of it." };
        var command = ClientCommands.Named("revoke", "Ends a token. Hosts that joined with it stay.", "umbrek enrolment token revoke 70f4c2e1");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("enrolment-tokens", WireJson.Default.PageEnrolmentTokenInfo, cancel).ConfigureAwait(false);
            var found = ShortIds.Find(page.Items, t => t.Id, parsed.GetRequiredValue(id), "token", "umbrek enrolment token list");
            var revoked = await api.ActAsync($"enrolment-tokens/{found.Id}/revoke", WireJson.Default.EnrolmentTokenInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The token for {revoked.GroupPath} is revoked; {revoked.Uses} hosts joined with it and stay.", revoked, WireJson.Default.EnrolmentTokenInfo);
            return ExitCodes.Done;
        });
        return command;
    }
}
