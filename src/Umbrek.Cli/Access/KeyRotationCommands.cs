using System.CommandLine;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Access;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Cli.Access;

/// <summary>Other access keys for many hosts, made by the service and kept in the vault.</summary>
public static class KeyRotationCommands
{
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(300);

    public static Command Rotate(ClientContext client)
    {
        var on = new Option<string>("--on") { Description = "The selection of hosts; those that have no key yet get their first one.", Required = true };
        var end = new Option<bool>("--end-sessions") { Description = "Whoever has proven the old key has to prove the new one." };
        var wait = new Option<bool>("--wait") { Description = "Stay until every host that is linked has it, and say what becomes of each." };
        var command = ClientCommands.Named("rotate", "Gives hosts other access keys, made by chance, which the vault keeps.", "umbrek access-key rotate --on 'in \"Tarn Valley Creamery\"' --wait");
        command.Add(on, end, wait);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var started = await api.PostAsync("key-rotations", new NewKeyRotation(parsed.GetRequiredValue(on), parsed.GetValue(end)), WireJson.Default.NewKeyRotation, WireJson.Default.KeyRotationDetail, cancel).ConfigureAwait(false);
            if (!parsed.GetValue(wait))
            {
                Listing.Say(client.Format(parsed), $"Other access keys for {Hosts(started.Info.Hosts)}. Follow it: umbrek access-key rotations {Words.ShortId(started.Info.Id)}", started, WireJson.Default.KeyRotationDetail);
                return ExitCodes.Done;
            }
            return await FollowAsync(client, api, parsed, started, cancel).ConfigureAwait(false);
        });
        return command;
    }

    public static Command Rotations(ClientContext client)
    {
        var id = new Argument<string?>("id") { Description = "One of them, with its hosts; all when left out.", Arity = ArgumentArity.ZeroOrOne };
        var cancelIt = new Option<bool>("--cancel") { Description = "Changes no further key of it; those that were changed stay." };
        var command = ClientCommands.Named("rotations", "Shows how far rotations of access keys are.", "umbrek access-key rotations 70f4c2e1");
        command.Add(id, cancelIt);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var all = (await api.GetAsync("key-rotations", WireJson.Default.PageKeyRotationInfo, cancel).ConfigureAwait(false)).Items;
            if (parsed.GetValue(id) is not { } typed)
            {
                if (parsed.GetValue(cancelIt))
                {
                    throw new ClientException("Say which is to be cancelled.", ExitCodes.WrongUse);
                }
                Listing.Print(client.Format(parsed), all, WireJson.Default.ListKeyRotationInfo, "No keys were rotated from here yet.",
                    new("Id", r => Words.ShortId(r.Id), Machine: r => $"{r.Id}"),
                    new("On", r => r.Selection),
                    new("Changed", r => $"{r.Changed} of {r.Hosts}", Right: true),
                    new("Failed", r => $"{r.Failed}", Right: true),
                    new("Waiting", r => $"{r.Waiting}", Right: true),
                    new("Started", r => Words.Iso(r.CreatedAt)),
                    new("By", r => r.CreatedBy));
                return ExitCodes.Done;
            }
            var found = ShortIds.Find(all, r => r.Id, typed, "rotation", "umbrek access-key rotations");
            var detail = parsed.GetValue(cancelIt)
                ? await api.ActAsync($"key-rotations/{found.Id}/cancel", WireJson.Default.KeyRotationDetail, cancel).ConfigureAwait(false)
                : await api.GetAsync($"key-rotations/{found.Id}", WireJson.Default.KeyRotationDetail, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), detail.Hosts, WireJson.Default.ListKeyRotationHost, "It is about no host.",
                new("Host", h => h.Label),
                new("Group", h => h.GroupPath),
                new("State", h => Word(h.State)),
                new("At", h => h.At is { } at ? Words.Iso(at) : "–"),
                new("Why", h => h.Reason ?? ""));
            return ExitCodes.Done;
        });
        return command;
    }

    private static async Task<int> FollowAsync(ClientContext client, ApiClient api, ParseResult parsed, KeyRotationDetail detail, CancellationToken cancel)
    {
        var table = client.Format(parsed) == OutputFormat.Table;
        var said = new HashSet<Guid>();
        var still = 0;
        while (true)
        {
            var before = said.Count;
            foreach (var host in detail.Hosts.Where(h => h.State != KeyRotationState.Waiting && said.Add(h.HostId)))
            {
                if (table)
                {
                    Console.Out.WriteLine($"{host.Label}  {Word(host.State)}{(host.Reason is null ? "" : $": {host.Reason}")}");
                }
            }
            // What only waits for hosts that are away goes on without us.
            still = said.Count == before ? still + 1 : 0;
            if (detail.Info.IsOver || detail.Info.Waiting == 0 || still > 10)
            {
                break;
            }
            await Task.Delay(Look, client.Time, cancel).ConfigureAwait(false);
            detail = await api.GetAsync($"key-rotations/{detail.Info.Id}", WireJson.Default.KeyRotationDetail, cancel).ConfigureAwait(false);
        }
        var info = detail.Info;
        Listing.Say(client.Format(parsed), $"{info.Changed} of {Hosts(info.Hosts)} have another access key{(info.Failed > 0 ? $"; {info.Failed} failed" : "")}{(info.Waiting > 0 ? $"; {info.Waiting} have theirs changed when they return" : "")}. The vault keeps them.", detail, WireJson.Default.KeyRotationDetail);
        return info.Failed == 0 ? ExitCodes.Done : ExitCodes.Failed;
    }

    private static string Hosts(int count) => count == 1 ? "1 host" : $"{count} hosts";

    private static string Word(KeyRotationState state) => state.ToString().ToLowerInvariant();
}
