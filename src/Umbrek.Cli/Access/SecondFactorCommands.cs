using System.CommandLine;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Wire;
using Umbrek.Wire.Access;

namespace Umbrek.Cli.Access;

/// <summary>The second factor: one's own, and whether everybody needs one.</summary>
public static class SecondFactorCommands
{
    public static Command SecondFactor(ClientContext client)
    {
        var command = ClientCommands.Named("second-factor", "A code of an authenticator app beside the password.", "umbrek second-factor set-up");
        command.Add(SetUp(client), Codes(client), Remove(client), Require(client, true), Require(client, false));
        return command;
    }

    private static Command SetUp(ClientContext client)
    {
        var (command, stdin) = Proven("set-up", "Sets up an authenticator app; from then on signing in takes its code too.", "umbrek second-factor set-up");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var offer = await api.PostAsync("me/second-factor", new PasswordProof(Prompt.Password(parsed.GetValue(stdin), "Your password: ")), WireJson.Default.PasswordProof, WireJson.Default.SecondFactorOffer, cancel).ConfigureAwait(false);
            await Console.Error.WriteLineAsync($"Add this to your authenticator app:\n\n  secret  {offer.Secret}\n  link    {offer.Uri}\n").ConfigureAwait(false);
            var codes = await api.PostAsync("me/second-factor/confirm", new SecondFactorProof(Prompt.Line("The six digits that it shows now: ")), WireJson.Default.SecondFactorProof, WireJson.Default.RecoveryCodes, cancel).ConfigureAwait(false);
            Print(client, parsed, codes, "It is set up.");
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Codes(ClientContext client)
    {
        var (command, stdin) = Proven("codes", "Makes new recovery codes; the old ones open no more.", "umbrek second-factor codes");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var codes = await api.PostAsync("me/recovery-codes", new PasswordProof(Prompt.Password(parsed.GetValue(stdin), "Your password: ")), WireJson.Default.PasswordProof, WireJson.Default.RecoveryCodes, cancel).ConfigureAwait(false);
            Print(client, parsed, codes, "The old ones open no more.");
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Remove(ClientContext client)
    {
        var (command, stdin) = Proven("remove", "Removes your second factor, unless everybody needs one.", "umbrek second-factor remove");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            using var request = new HttpRequestMessage(HttpMethod.Post, Wire.Api.ApiClient.Base + "me/second-factor/remove")
            {
                Content = System.Net.Http.Json.JsonContent.Create(new PasswordProof(Prompt.Password(parsed.GetValue(stdin), "Your password: ")), WireJson.Default.PasswordProof),
            };
            using var answer = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), "Your password alone signs you in again.", new SignInSettings(false), WireJson.Default.SignInSettings);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Require(ClientContext client, bool required)
    {
        var command = required
            ? ClientCommands.Named("require", "Asks everybody for a second factor; whoever has none may only set one up.", "umbrek second-factor require")
            : ClientCommands.Named("not-require", "Leaves it to everybody.", "umbrek second-factor not-require");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var after = await api.PutAsync("settings/sign-in", new SignInSettings(required), 0, WireJson.Default.SignInSettings, WireJson.Default.SignInSettings, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), required ? "Everybody needs a second factor now." : "A second factor is everybody's own choice now.", after, WireJson.Default.SignInSettings);
            return ExitCodes.Done;
        });
        return command;
    }

    private static (Command Command, Option<bool> Stdin) Proven(string name, string description, string example)
    {
        var stdin = new Option<bool>("--password-stdin") { Description = "Read your password from standard input." };
        var command = ClientCommands.Named(name, description, example);
        command.Add(stdin);
        return (command, stdin);
    }

    private static void Print(ClientContext client, ParseResult parsed, RecoveryCodes codes, string said) =>
        Listing.PrintOne(client.Format(parsed), codes, WireJson.Default.RecoveryCodes,
            ("Codes", string.Join('\n', codes.Codes)), ("", $"{said} Each of these signs you in once if the app is lost. Keep them on paper; they are shown this once."));
}
