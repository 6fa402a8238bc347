using System.CommandLine;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Cli.Access;

/// <summary>Getting in and out.</summary>
public static class AccessCommands
{
    public static Command SetUp(ClientContext client)
    {
        var (url, name, stdin, trust) = Common();
        var code = new Option<string?>("--code") { Description = "The set-up code from the service's terminal." };
        var command = ClientCommands.Named("set-up", "Makes the first technician of a new service and signs in.", "umbrek set-up https://localhost:8443 --name 'Ines Okafor' --code ABCD-EFGH-JKMN");
        command.Add(url, name, code, stdin, trust);
        command.SetAction(async (parsed, cancel) =>
        {
            var service = ReadAddress(parsed.GetRequiredValue(url));
            var key = await ServiceTrust.DecideAsync(service, parsed.GetValue(trust), cancel).ConfigureAwait(false);
            using var api = new ApiClient(service, key is null ? null : Wire.Links.ServicePin.Parse(key));
            var typedCode = parsed.GetValue(code) ?? (Prompt.CanAsk ? Prompt.Line("Set-up code (it stands on the service's terminal): ") : throw new ClientException("Give the set-up code with --code.", ExitCodes.WrongUse));
            var who = parsed.GetValue(name) ?? Prompt.Line("Your name: ");
            var password = Prompt.Password(parsed.GetValue(stdin), "A password of at least 12 characters: ");
            await api.PostAsync("set-up", new SetUpRequest(typedCode, who, password), WireJson.Default.SetUpRequest, WireJson.Default.TechnicianInfo, cancel).ConfigureAwait(false);
            return await SignInAsync(client, parsed, service, key, who, password, null, false, cancel).ConfigureAwait(false);
        });
        return command;
    }

    public static Command SignIn(ClientContext client)
    {
        var (url, name, stdin, trust) = Common();
        var command = ClientCommands.Named("sign-in", "Signs in and remembers it for this user.", "umbrek sign-in https://localhost:8443 --name 'Ines Okafor'\n  umbrek sign-in https://localhost:8443 --browser");
        var code = new Option<string?>("--code") { Description = "With a second factor: the six digits that the app shows, or a recovery code." };
        var remember = new Option<bool>("--remember") { Description = "With a second factor: ask for its code on this device no more for 30 days." };
        var browser = new Option<bool>("--browser") { Description = "Sign in with a browser instead, here or on another device: with a passkey, single sign-on, or whatever you use there." };
        command.Add(url, name, stdin, code, remember, browser, trust);
        command.SetAction(async (parsed, cancel) =>
        {
            var service = ReadAddress(parsed.GetRequiredValue(url));
            var key = await ServiceTrust.DecideAsync(service, parsed.GetValue(trust), cancel).ConfigureAwait(false);
            if (parsed.GetValue(browser))
            {
                return parsed.GetValue(name) is null && !parsed.GetValue(stdin) && parsed.GetValue(code) is null
                    ? await PairAsync(client, parsed, service, key, cancel).ConfigureAwait(false)
                    : throw new ClientException("With --browser the browser says who you are: leave out name, password and code.", ExitCodes.WrongUse);
            }
            var who = parsed.GetValue(name) ?? (Prompt.CanAsk ? Prompt.Line("Name: ") : throw new ClientException("Say who signs in: --name NAME", ExitCodes.WrongUse));
            return await SignInAsync(client, parsed, service, key, who, Prompt.Password(parsed.GetValue(stdin), "Password: "), parsed.GetValue(code), parsed.GetValue(remember), cancel).ConfigureAwait(false);
        });
        return command;
    }

    public static Command SignOut(ClientContext client)
    {
        var command = ClientCommands.Named("sign-out", "Ends this sign-in, here and at the service.", "umbrek sign-out");
        command.SetAction(async (parsed, cancel) =>
        {
            var who = client.State.Require();
            using (var api = client.State.Open())
            {
                try
                {
                    await api.ActAsync(HttpMethod.Post, "sign-out", cancel).ConfigureAwait(false);
                }
                catch (ApiException e) when (e.Problem.Word == ProblemTypes.NotSignedIn)
                {
                    // The service has ended it already.
                }
            }
            client.State.Forget();
            Listing.Say(client.Format(parsed), "Signed out.", new SignInReport(who.Service, who.Name, false, null), ClientJson.Default.SignInReport);
            return ExitCodes.Done;
        });
        return command;
    }

    private static async Task<int> SignInAsync(ClientContext client, ParseResult parsed, Uri service, string? key, string who, string password, string? code, bool remember, CancellationToken cancel)
    {
        using var api = new ApiClient(service, key is null ? null : Wire.Links.ServicePin.Parse(key));
        Task<SignInAnswer> TryAsync() => api.PostAsync("sign-in", new SignInRequest(who, password, SignInUse.Token, Environment.MachineName, code, client.State.DeviceKey(), remember), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, cancel);
        SignInAnswer answer;
        try
        {
            answer = await TryAsync().ConfigureAwait(false);
        }
        catch (ApiException e) when (e.Problem.Word == ProblemTypes.SecondFactorAsked)
        {
            code = Prompt.CanAsk ? Prompt.Line("Code of your authenticator app: ") : throw new ClientException("This account has a second factor; give the code with --code. For scripts make a token: umbrek token new", ExitCodes.NotSignedIn);
            answer = await TryAsync().ConfigureAwait(false);
        }
        return await KeepAsync(client, parsed, service, key, answer, cancel).ConfigureAwait(false);
    }

    /// <summary>Waits until a browser in which the technician is signed in has let this client in.</summary>
    private static async Task<int> PairAsync(ClientContext client, ParseResult parsed, Uri service, string? key, CancellationToken cancel)
    {
        using var api = new ApiClient(service, key is null ? null : Wire.Links.ServicePin.Parse(key));
        var begun = await api.PostAsync("sign-in/pairings", new NewPairing(Environment.MachineName, client.State.DeviceKey()), WireJson.Default.NewPairing, WireJson.Default.PairingBegun, cancel).ConfigureAwait(false);
        var minutes = Math.Max(1, (int)Math.Round((begun.ExpiresAt - client.Time.GetUtcNow()).TotalMinutes));
        await Console.Error.WriteLineAsync($"Open {new Uri(service, begun.Page)} in a browser, sign in there, and let in the client with the code {begun.Code}.\nWaiting for that, {minutes} min at most; Ctrl-C gives up.").ConfigureAwait(false);
        while (true)
        {
            var answer = await api.PostAsync("sign-in/pairings/claim", new PairingClaim(begun.Secret), WireJson.Default.PairingClaim, WireJson.Default.PairingAnswer, cancel).ConfigureAwait(false);
            if (answer.SignIn is { } signedIn)
            {
                return await KeepAsync(client, parsed, service, key, signedIn, cancel).ConfigureAwait(false);
            }
            if (answer.State != PairingState.Waiting)
            {
                throw new ClientException("The browser refused this client.", ExitCodes.NotSignedIn);
            }
            await Task.Delay(TimeSpan.FromSeconds(begun.PollSeconds), client.Time, cancel).ConfigureAwait(false);
        }
    }

    private static async Task<int> KeepAsync(ClientContext client, ParseResult parsed, Uri service, string? key, SignInAnswer answer, CancellationToken cancel)
    {
        client.State.Save(new SignedIn(service, key, answer.Technician.Name, answer.Token!, answer.ExpiresAt));
        Listing.Say(client.Format(parsed), $"Signed in at {service.Authority} as {answer.Technician.Name}.", new SignInReport(service, answer.Technician.Name, true, answer.ExpiresAt), ClientJson.Default.SignInReport);
        using var signedIn = new ApiClient(service, key is null ? null : Wire.Links.ServicePin.Parse(key), answer.Token);
        foreach (var device in (await signedIn.GetAsync("me", WireJson.Default.Me, cancel).ConfigureAwait(false)).NewDevices)
        {
            await Console.Error.WriteLineAsync($"New: {device.Device} signed in as you from {device.Address ?? "somewhere"} at {Words.Iso(device.FirstSeenAt)}. Yours? umbrek device confirm {Words.ShortId(device.Id)}. If not: umbrek device forget {Words.ShortId(device.Id)}, and change your password.").ConfigureAwait(false);
        }
        return ExitCodes.Done;
    }

    private static (Argument<string> Url, Option<string?> Name, Option<bool> Stdin, Option<string?> Trust) Common() => (
        new Argument<string>("url") { Description = "Address of the service, for example https://localhost:8443" },
        new Option<string?>("--name") { Description = "Your name, as the service knows it." },
        new Option<bool>("--password-stdin") { Description = "Read the password from standard input." },
        new Option<string?>("--trust") { Description = "Trust the service's key by this SHA-256 fingerprint." });

    private static Uri ReadAddress(string text)
    {
        if (!text.Contains("://", StringComparison.Ordinal))
        {
            text = "https://" + text;
        }
        return Uri.TryCreate(text, UriKind.Absolute, out var address) && (address.Scheme == Uri.UriSchemeHttps || (address.Scheme == Uri.UriSchemeHttp && address.IsLoopback))
            ? address
            : throw new ClientException($"'{text}' is no address to sign in at; write it like https://care.halyard.example:8443", ExitCodes.WrongUse);
    }

    /// <summary>Adds arguments, options and subcommands in one line.</summary>
    public static void Add(this Command command, params ReadOnlySpan<Symbol> parts)
    {
        foreach (var part in parts)
        {
            switch (part)
            {
                case Argument argument:
                    command.Arguments.Add(argument);
                    break;
                case Option option:
                    command.Options.Add(option);
                    break;
                case Command subcommand:
                    command.Subcommands.Add(subcommand);
                    break;
            }
        }
    }
}
