using System.CommandLine;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Access;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Cli.Access;

/// <summary>What hosts allow: said for everything, a group or a host, and kept to by the agents.</summary>
public static class PolicyCommands
{
    private const string Everything = "everything";

    public static Command Policy(ClientContext client)
    {
        var command = ClientCommands.Named("policy", "What hosts allow at all, and what they ask for first.", "umbrek policy show plover-log-01");
        command.Add(List(client), Show(client), Change(client), Inherit(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var command = ClientCommands.Named("list", "Lists the places that say something of the host policy.", "umbrek policy list");
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("policies", WireJson.Default.PagePolicyPlace, cancel).ConfigureAwait(false);
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListPolicyPlace, "No place says anything: every host allows everything that its own side does not forbid.",
                new("Place", p => p.IsHost ? $"{p.Place} ({p.GroupPath})" : p.Place),
                new("Allowed", p => p.Own.Allowed is { } acts ? HostPolicyWords.List(acts) : "–"),
                new("Consent", p => p.Own.Consent is { } c ? HostPolicyWords.Describe(c) : "–"),
                new("Notice", p => p.Own.Notice is { } n ? HostPolicyWords.Describe(n) : "–"),
                new("Access key for", p => p.Own.KeyFor is { } acts ? HostPolicyWords.List(acts) : "–"),
                new("Restart put off", p => p.Own.PutOffMinutes is { } minutes ? $"{minutes} min" : "–", Machine: p => $"{p.Own.PutOffMinutes}"),
                new("Recorded", p => p.Own.Record is { } r ? HostPolicyWords.Describe(r) : "–"),
                new("Files in", p => p.Own.FileRoots is { } roots ? HostPolicyWords.DescribeRoots(roots) : "–"),
                new("Screen given", p => p.Own.GiveScreen is { } gives ? (gives ? "yes" : "no") : "–"),
                new("Changed by", p => p.ChangedBy));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var place = PlaceArgument(client);
        var command = ClientCommands.Named("show", "Shows what is wanted of the hosts at a place and where it comes from; of a host also what its own side makes of it.", "umbrek policy show 'Saltmarsh Ferry/Quay'");
        command.Add(place);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var path = await FindAsync(api, parsed.GetRequiredValue(place), cancel).ConfigureAwait(false);
            Print(client, parsed, await api.GetAsync(path, WireJson.Default.PolicyInfo, cancel).ConfigureAwait(false));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Change(ClientContext client)
    {
        var place = PlaceArgument(client);
        var options = new PolicyOptions();
        var command = ClientCommands.Named("set", "Says what hosts at a place allow; what is not named stays.", "umbrek policy set 'Tarn Valley Creamery' --allow watch,run,power --key-for power");
        command.Add([place, .. options.All]);
        command.SetAction(async (parsed, cancel) =>
        {
            var said = options.Read(parsed);
            if (said.SaysNothing)
            {
                throw new ClientException("Say what is to change: --allow, --consent, --notice, --key-for, --put-off, --record, --files-in or --give-screen. 'umbrek policy inherit' takes back what a place says.", ExitCodes.WrongUse);
            }
            return await StoreAsync(client, parsed, parsed.GetRequiredValue(place), own => new HostPolicyPart(said.Allowed ?? own.Allowed, said.Consent ?? own.Consent, said.Notice ?? own.Notice, said.KeyFor ?? own.KeyFor, said.PutOffMinutes ?? own.PutOffMinutes, said.Record ?? own.Record, said.FileRoots ?? own.FileRoots, said.GiveScreen ?? own.GiveScreen), cancel).ConfigureAwait(false);
        });
        return command;
    }

    private static Command Inherit(ClientContext client)
    {
        var place = PlaceArgument(client);
        var parts = new Argument<string[]>("parts") { Description = "allow, consent, notice, key-for, put-off, record, files-in, give-screen; all of them when left out.", Arity = ArgumentArity.ZeroOrMore };
        parts.AcceptOnlyFromAmong("allow", "consent", "notice", "key-for", "put-off", "record", "files-in", "give-screen");
        var command = ClientCommands.Named("inherit", "Takes back what a place says, so that what is said above counts there.", "umbrek policy inherit plover-log-01 consent");
        command.Add(place, parts);
        command.SetAction((parsed, cancel) =>
        {
            var named = parsed.GetValue(parts) is { Length: > 0 } some ? some : ["allow", "consent", "notice", "key-for", "put-off", "record", "files-in", "give-screen"];
            return StoreAsync(client, parsed, parsed.GetRequiredValue(place), own => new HostPolicyPart(
                named.Contains("allow") ? null : own.Allowed, named.Contains("consent") ? null : own.Consent, named.Contains("notice") ? null : own.Notice, named.Contains("key-for") ? null : own.KeyFor, named.Contains("put-off") ? null : own.PutOffMinutes, named.Contains("record") ? null : own.Record, named.Contains("files-in") ? null : own.FileRoots, named.Contains("give-screen") ? null : own.GiveScreen), cancel);
        });
        return command;
    }

    private static async Task<int> StoreAsync(ClientContext client, ParseResult parsed, string place, Func<HostPolicyPart, HostPolicyPart> change, CancellationToken cancel)
    {
        using var api = client.State.Open();
        var path = await FindAsync(api, place, cancel).ConfigureAwait(false);
        var before = await api.GetAsync(path, WireJson.Default.PolicyInfo, cancel).ConfigureAwait(false);
        Print(client, parsed, await api.PutAsync(path, change(before.Own), before.Version, WireJson.Default.HostPolicyPart, WireJson.Default.PolicyInfo, cancel).ConfigureAwait(false));
        return ExitCodes.Done;
    }

    private static void Print(ClientContext client, ParseResult parsed, PolicyInfo policy)
    {
        string From(string? place) => place is null ? "" : place == (policy.Place ?? Everything) ? "   (said here)" : $"   (from {place})";
        var (wanted, from) = (policy.Wanted, policy.From);
        (string, string?)[] lines =
        [
            ("Place", policy.Place ?? Everything),
            ("Allowed", HostPolicyWords.List(wanted.Allowed) + From(from.Allowed)),
            ("Consent", HostPolicyWords.Describe(wanted.Consent) + From(from.Consent)),
            ("Notice", HostPolicyWords.Describe(wanted.Notice) + From(from.Notice)),
            ("Access key for", HostPolicyWords.List(wanted.KeyFor ?? []) + From(from.KeyFor)),
            ("Restart", HostPolicyWords.DescribePutOff(wanted.PutOffMinutes) + From(from.PutOffMinutes)),
            ("Recording", HostPolicyWords.Describe(wanted.Record ?? RecordRule.None) + From(from.Record)),
            ("Files in", HostPolicyWords.DescribeRoots(wanted.FileRoots) + From(from.FileRoots)),
            ("Screen", HostPolicyWords.DescribeGiveScreen(wanted.GiveScreen) + From(from.GiveScreen)),
        ];
        (string, string?)[] own = policy.Side is not { } side ? [] :
        [
            ("In force", side.InForce == wanted ? "as wanted" : $"{HostPolicyWords.List(side.InForce.Allowed)}; {HostPolicyWords.Describe(side.InForce.Consent)}; {HostPolicyWords.Describe(side.InForce.Notice)}; access key for {HostPolicyWords.List(side.InForce.KeyFor ?? [])}; {HostPolicyWords.DescribePutOff(side.InForce.PutOffMinutes)}; {HostPolicyWords.Describe(side.InForce.Record ?? RecordRule.None)}; files in {HostPolicyWords.DescribeRoots(side.InForce.FileRoots)}; {HostPolicyWords.DescribeGiveScreen(side.InForce.GiveScreen)}"),
            ("Its own limit", side.Problem ?? (side.Limit is null ? "none" : "the computer itself narrows it; only its owner can change that")),
            ("Access key", side.HasAccessKey ? "set" : wanted.KeyFor is { Count: > 0 } ? "none, so what takes one is refused" : "none"),
        ];
        Listing.PrintOne(client.Format(parsed), policy, WireJson.Default.PolicyInfo, [.. lines, .. own, ("Changed", policy.ChangedBy is null ? null : $"{Words.Iso(policy.ChangedAt)} by {policy.ChangedBy}")]);
    }

    private static Argument<string> PlaceArgument(ClientContext client)
    {
        var place = new Argument<string>("place") { Description = "A group's whole path, a host's name, or 'everything'.", HelpName = "place" };
        place.CompletionSources.Add(_ => [Everything, .. GroupCommands.Paths(client), .. HostCommands.HostNames(client)]);
        return place;
    }

    /// <returns>The address of the policy in the API.</returns>
    private static async Task<string> FindAsync(ApiClient api, string place, CancellationToken cancel) =>
        place.Equals(Everything, StringComparison.OrdinalIgnoreCase) ? "policy"
        : await GroupCommands.FindOrNullAsync(api, place, cancel).ConfigureAwait(false) is { } group ? $"groups/{group.Id}/policy"
        : $"hosts/{(await HostCommands.FindAsync(api, place, cancel).ConfigureAwait(false)).Id}/policy";
}
