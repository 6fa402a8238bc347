using System.CommandLine;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Wire;
using Umbrek.Wire.Sessions;

namespace Umbrek.Cli.Access;

/// <summary>Access keys of hosts: proven to the host itself; the service never sees one.</summary>
public static class AccessKeyCommands
{
    public static Command AccessKey(ClientContext client)
    {
        var command = ClientCommands.Named("access-key", "The permanent secrets that hosts ask for, proven to the host itself.", "umbrek access-key check quay-ticket-01");
        command.Add(Check(client), Set(client), KeyRotationCommands.Rotate(client), KeyRotationCommands.Rotations(client));
        return command;
    }

    /// <summary>A key from a file, or typed without being shown.</summary>
    public static string ReadKey(string? file, string question)
    {
        var key = SecretCommands.ReadSecret(file, question);
        return key.Length > Core.Access.AccessKey.MaxLength || key.Any(c => c is < ' ' or > '~')
            ? throw new ClientException($"That is no access key: it has {key.Length} characters, and a key is made of at most {Core.Access.AccessKey.MaxLength} letters, digits, signs and blanks of a US keyboard.", ExitCodes.WrongUse)
            : key;
    }

    private static Command Check(ClientContext client)
    {
        var secrets = new HostSecretOptions();
        return Edits.Act(client, "check", "Proves the access key, or a passcode, to the host and says whether it is right.", "umbrek access-key check quay-ticket-01", async (api, host, parsed, cancel) =>
        {
            var door = await secrets.OpenAsync(client, api, parsed, host.Id, $"{host.Label} of {GroupPath.Customer(host.GroupPath)}", cancel).ConfigureAwait(false);
            var ended = await api.PostAsync($"sessions/{door.Session.Id}/end", new NewSession(), WireJson.Default.NewSession, WireJson.Default.SessionInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{host.Label} knows the same key. It proved that too, so it is the host and nobody in its place.", ended, WireJson.Default.SessionInfo);
            return ExitCodes.Done;
        }, [.. secrets.All]);
    }

    private static Command Set(ClientContext client)
    {
        var file = new Option<string?>("--access-key-file") { Description = "Reads the key as it is now from this file.", HelpName = "file" };
        var fresh = new Option<string?>("--new-key-file") { Description = "Reads the new key from this file.", HelpName = "file" };
        var generate = new Option<bool>("--generate") { Description = "Makes the new key and shows it." };
        var end = new Option<bool>("--end-sessions") { Description = "Whoever has proven the old key has to prove the new one." };
        return Edits.Act(client, "set", "Sets another access key, for whoever knows the one there is; or the first one.", "umbrek access-key set quay-ticket-01 --generate", async (api, host, parsed, cancel) =>
        {
            var place = $"{host.Label} of {GroupPath.Customer(host.GroupPath)}";
            var policy = await api.GetAsync($"hosts/{host.Id}/policy", WireJson.Default.PolicyInfo, cancel).ConfigureAwait(false);
            var old = policy.Side?.HasAccessKey == true ? ReadKey(parsed.GetValue(file), $"Access key of {place} as it is now: ") : null;
            var made = parsed.GetValue(generate) ? Core.Access.AccessKey.Generate() : null;
            var key = made ?? ReadKey(parsed.GetValue(fresh), $"New access key of {place}: ");
            if (Core.Access.AccessKey.Check(key) is { } weak)
            {
                throw new ClientException(weak, ExitCodes.WrongUse);
            }
            if (made is null && parsed.GetValue(fresh) is null && ReadKey(null, "The same again: ") != key)
            {
                throw new ClientException("The two differ; nothing was set.", ExitCodes.WrongUse);
            }
            await HostDoor.ChangeKeyAsync(api, client.State.Require().NewPin(), host.Id, old, key, parsed.GetValue(end), cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), made is null ? $"{host.Label} has the new access key." : $"{host.Label} has the new access key. It is shown this once:\n{made}", host, WireJson.Default.HostSummary);
            return ExitCodes.Done;
        }, file, fresh, generate, end);
    }
}
