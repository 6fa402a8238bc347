using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Access;
using Umbrek.Core.Estate;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Sessions;

namespace Umbrek.Cli.Sessions;

/// <summary>How a host's access key or passcode is given to a command.</summary>
public sealed class HostSecretOptions
{
    private readonly Option<bool> ask = new("--access-key") { Description = "Asks for the access key of hosts whose policy wants it." };
    private readonly Option<string?> file = new("--access-key-file") { Description = "Reads it from this file; one key for all of them.", HelpName = "file" };
    private readonly Option<bool> passcode = new("--passcode") { Description = "Asks for a passcode of the host instead." };
    private readonly Option<bool> vault = new("--from-vault") { Description = "Lets the service prove the access key that the vault keeps; nobody sees it." };

    public IEnumerable<Option> All => [ask, file, passcode];

    public IEnumerable<Option> WithVault => [.. All, vault];

    public bool UsesVault(ParseResult parsed) => parsed.GetValue(vault);

    public bool AreGiven(ParseResult parsed) => parsed.GetValue(ask) || parsed.GetValue(passcode) || parsed.GetValue(file) is not null;

    /// <summary>Proves the key of each linked host of the selection that asks for it.</summary>
    public async Task<List<HostDoor>> OpenAsync(ClientContext client, ApiClient api, ParseResult parsed, string selection, HostAct? act, CancellationToken cancel, Func<HostSummary, bool>? only = null)
    {
        var doors = new List<HostDoor>();
        foreach (var host in (await HostCommands.SelectAsync(api, selection, cancel).ConfigureAwait(false)).Where(h => only?.Invoke(h) ?? true))
        {
            var policy = await api.GetAsync($"hosts/{host.Id}/policy", WireJson.Default.PolicyInfo, cancel).ConfigureAwait(false);
            if (host.Presence.State == PresenceState.Linked && act is { } asked && policy.Side?.InForce.AsksKey(asked) == true)
            {
                doors.Add(await OpenAsync(client, api, parsed, host.Id, $"{host.Label} of {GroupPath.Customer(host.GroupPath)}", cancel).ConfigureAwait(false));
            }
        }
        return doors;
    }

    /// <summary>Opens a session on a host with its key proven.</summary>
    public Task<HostDoor> OpenAsync(ClientContext client, ApiClient api, ParseResult parsed, Guid hostId, string host, CancellationToken cancel)
    {
        var (name, text) = Read(parsed, host);
        return HostDoor.OpenAsync(api, client.State.Require().NewPin(), hostId, name, text, cancel);
    }

    /// <summary>The secret, asked for where it is not in a file, and the name by which it is proven.</summary>
    public (string Name, string Text) Read(ParseResult parsed, string host)
    {
        var isPasscode = parsed.GetValue(passcode);
        return (isPasscode ? ChannelBinding.Passcode : ChannelBinding.AccessKey, AccessKeyCommands.ReadKey(parsed.GetValue(file), $"{(isPasscode ? "Passcode" : "Access key")} of {host}: "));
    }
}
