using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Estate;
using Umbrek.Wire;

namespace Umbrek.Cli.Estate;

/// <summary><c>umbrek find</c>: a host by whatever is known of it.</summary>
public static class FindCommand
{
    public static Command Find(ClientContext client)
    {
        var words = new Argument<string[]>("words") { Description = "Parts of a name, label, address, customer, tag, or of a person who is logged in. Without any: pinned and recent hosts.", Arity = ArgumentArity.ZeroOrMore };
        var limit = new Option<int>("--limit") { Description = "How many, best first.", DefaultValueFactory = _ => 10 };
        var command = ClientCommands.Named("find", "Finds hosts by any part of what is known of them, also when it is mistyped.", "umbrek find elin ticket");
        command.Add(words, limit);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var text = string.Join(' ', parsed.GetValue(words) ?? []);
            var hits = await api.GetAsync($"find?limit={parsed.GetValue(limit)}&text={Uri.EscapeDataString(text)}", WireJson.Default.PageFindHit, cancel).ConfigureAwait(false);
            var now = client.Time.GetUtcNow();
            Listing.Print(client.Format(parsed), hits.Items, WireJson.Default.ListFindHit, text.Length == 0 ? "Nothing is pinned or was opened lately. Type a part of a name, address, customer, tag or person." : $"Nothing is like '{text}'.",
                new("Host", h => h.Host.Label == h.Host.SystemName ? h.Host.Label : $"{h.Host.Label} ({h.Host.SystemName})", Machine: h => h.Host.Label),
                new("Customer", h => GroupPath.Customer(h.Host.GroupPath)),
                new("State", h => Words.Of(h.Host.Presence, now)),
                new("Logged in", h => string.Join(", ", h.Host.Users)),
                new("Address", h => h.Host.Address ?? ""));
            return hits.Items.Count == 0 && text.Length > 0 ? ExitCodes.NothingMatched : ExitCodes.Done;
        });
        return command;
    }
}
