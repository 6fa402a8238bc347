using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Core.Enrolment;
using Umbrek.Wire;
using Umbrek.Wire.Enrolment;

namespace Umbrek.Cli.Enrolment;

/// <summary>Who joined and who waits, and deciding about them.</summary>
public static class EnrolmentCommands
{
    public static Command Enrolment(ClientContext client)
    {
        var command = ClientCommands.Named("enrolment", "Who joined, and who waits to.", "umbrek enrolment list --waiting");
        command.Add(
            List(client),
            Decide(client, "approve", "Lets computers in that wait, as hosts of their own.", EnrolmentDecision.Approve),
            Decide(client, "reject", "Turns computers away that wait.", EnrolmentDecision.Reject),
            Decide(client, "take-over", "Lets a computer go on under the entry of the same machine.", EnrolmentDecision.TakeOver));
        return command;
    }

    public static void Print(OutputFormat format, IReadOnlyList<EnrolmentInfo> items, string whenEmpty) =>
        Listing.Print(format, items, WireJson.Default.ListEnrolmentInfo, whenEmpty,
            new("Id", e => Words.ShortId(e.Id), Machine: e => $"{e.Id}"),
            new("Computer", e => e.Label == e.SystemName ? e.Label : $"{e.Label} ({e.SystemName})"),
            new("State", e => Word(e.State)),
            new("When", e => Words.Iso(e.At)),
            new("From", e => e.Address ?? ""),
            new("Group", e => e.GroupPath),
            new("Why", Why));

    private static Command List(ClientContext client)
    {
        var waiting = new Option<bool>("--waiting") { Description = "Only those that wait for a person." };
        var command = ClientCommands.Named("list", "Lists who joined, tried to, or waits, newest first.", "umbrek enrolment list --waiting");
        command.Add(waiting);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("enrolments" + (parsed.GetValue(waiting) ? "?state=waiting" : ""), WireJson.Default.PageEnrolmentInfo, cancel).ConfigureAwait(false);
            Print(client.Format(parsed), page.Items, parsed.GetValue(waiting) ? "Nobody waits." : "Nobody has joined yet. Make an installer: umbrek installer new --group GROUP");
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Decide(ClientContext client, string name, string description, EnrolmentDecision decision)
    {
        var ids = new Argument<string[]>("computers") { Description = "Ids, or the last characters of them, or system names.", Arity = ArgumentArity.OneOrMore };
        var command = ClientCommands.Named(name, description, $"umbrek enrolment {name} marl-desk-03");
        command.Add(ids);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var page = await api.GetAsync("enrolments?state=waiting", WireJson.Default.PageEnrolmentInfo, cancel).ConfigureAwait(false);
            var chosen = parsed.GetRequiredValue(ids).Select(id => page.Items.Where(e => e.SystemName == id || e.Label == id).ToList() is [var one]
                ? one
                : ShortIds.Find(page.Items, e => e.Id, id, "waiting computer", "umbrek enrolment list --waiting")).ToList();
            var decided = await api.PostAsync("enrolments/decide", new EnrolmentDecisionRequest([.. chosen.Select(c => c.Id)], decision), WireJson.Default.EnrolmentDecisionRequest, WireJson.Default.ListEnrolmentInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), string.Join('\n', decided.Select(Sentence)), decided, WireJson.Default.ListEnrolmentInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static string Sentence(EnrolmentInfo e) => e.State switch
    {
        EnrolmentState.Rejected => $"{e.Label} is turned away.",
        EnrolmentState.TookOver => $"{e.Label} goes on as {e.SameAs?.Label} in {e.SameAs?.GroupPath}.",
        _ => $"{e.Label} is let into {e.GroupPath}.",
    };

    private static string Word(EnrolmentState state) => state == EnrolmentState.TookOver ? "took over" : state.ToString().ToLowerInvariant();

    private static string Why(EnrolmentInfo e) =>
        e.State == EnrolmentState.Waiting && e.SameAs is { } known ? $"same machine as {known.Label}, {(known.Linked ? "which is linked" : $"last seen {Words.Iso(known.LastSeenAt)}")}"
        : e.State == EnrolmentState.Waiting ? "approval needed"
        : e.DecidedBy is { } by ? $"by {by}"
        : e.Detail ?? "";
}
