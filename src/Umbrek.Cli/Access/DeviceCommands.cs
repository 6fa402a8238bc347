using System.CommandLine;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Cli.Access;

/// <summary>Devices that one has signed in from, and passkeys.</summary>
public static class DeviceCommands
{
    public static Command Device(ClientContext client)
    {
        var list = ClientCommands.Named("list", "Lists the devices that you have signed in from.", "umbrek device list");
        list.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            Listing.Print(client.Format(parsed), await AllAsync(api, cancel).ConfigureAwait(false), WireJson.Default.ListDeviceInfo, "No device is known.",
                new("Id", d => Words.ShortId(d.Id), Machine: d => $"{d.Id}"),
                new("Device", d => d.Device),
                new("From", d => d.Address ?? "–"),
                new("First", d => Words.Iso(d.FirstSeenAt)),
                new("Last", d => Words.Iso(d.LastSeenAt)),
                new("", d => d.Here ? "this one" : d.IsNew ? "new: is it yours?" : d.RememberedUntil is { } until ? $"not asked for a code until {Words.Iso(until)}" : ""));
            return ExitCodes.Done;
        });
        var command = ClientCommands.Named("device", "Devices that you have signed in from.", "umbrek device list");
        command.Add(list,
            Act(client, "confirm", "Says that a new device is yours.", "umbrek device confirm 70f4c2e1", HttpMethod.Post, "/confirm", d => $"{d.Device} is yours."),
            Act(client, "forget", "Forgets a device and ends what is signed in on it.", "umbrek device forget 70f4c2e1", HttpMethod.Delete, "", d => $"{d.Device} is forgotten, and signed out."));
        return command;
    }

    public static Command Passkey(ClientContext client)
    {
        var list = ClientCommands.Named("list", "Lists your passkeys; they are added in the console, under your name.", "umbrek passkey list");
        list.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            Listing.Print(client.Format(parsed), (await api.GetAsync("me/passkeys", WireJson.Default.PagePasskeyInfo, cancel).ConfigureAwait(false)).Items, WireJson.Default.ListPasskeyInfo, "You have no passkey. The console adds one, under your name.",
                new("Name", p => p.Name),
                new("Since", p => Words.Iso(p.CreatedAt)),
                new("Kept", p => p.IsBackedUp ? "by your other devices too" : "on one device"));
            return ExitCodes.Done;
        });
        var name = new Argument<string>("name") { Description = "Its name, as the list shows it." };
        var remove = ClientCommands.Named("remove", "Removes one of your passkeys.", "umbrek passkey remove phone");
        remove.Add(name);
        remove.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var all = (await api.GetAsync("me/passkeys", WireJson.Default.PagePasskeyInfo, cancel).ConfigureAwait(false)).Items;
            var found = all.FirstOrDefault(p => p.Name.Equals(parsed.GetRequiredValue(name), StringComparison.OrdinalIgnoreCase)) ?? throw new ClientException($"You have no passkey '{parsed.GetValue(name)}'. 'umbrek passkey list' shows them.", ExitCodes.NothingMatched);
            await api.ActAsync(HttpMethod.Delete, $"me/passkeys/{Uri.EscapeDataString(found.Id)}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"The passkey '{found.Name}' opens nothing any more.", found, WireJson.Default.PasskeyInfo);
            return ExitCodes.Done;
        });
        var command = ClientCommands.Named("passkey", "Devices that sign you in without a password.", "umbrek passkey list");
        command.Add(list, remove);
        return command;
    }

    private static Command Act(ClientContext client, string name, string description, string example, HttpMethod method, string path, Func<DeviceInfo, string> says)
    {
        var id = new Argument<string>("id") { Description = "The device's id, or its last eight characters." };
        var command = ClientCommands.Named(name, description, example);
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var found = ShortIds.Find(await AllAsync(api, cancel).ConfigureAwait(false), d => d.Id, parsed.GetRequiredValue(id), "device", "umbrek device list");
            await api.ActAsync(method, $"me/devices/{found.Id}{path}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), says(found), found, WireJson.Default.DeviceInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static async Task<IReadOnlyList<DeviceInfo>> AllAsync(ApiClient api, CancellationToken cancel) => (await api.GetAsync("me/devices", WireJson.Default.PageDeviceInfo, cancel).ConfigureAwait(false)).Items;
}
