using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Estate;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>Restarts hosts, switches them off and on, and ends or locks the sessions of people there.</summary>
public static class PowerCommands
{
    private static readonly TimeSpan Between = TimeSpan.FromSeconds(2);

    public static Command Power(ClientContext client)
    {
        var command = ClientCommands.Named("power", "Restarts hosts, shuts them down, wakes them; logs people out, locks screens.", "umbrek power restart --on quay-ticket-03 --grace 5min --message 'new printer driver'");
        command.Add(
            Act(client, "restart", PowerAct.Restart, "Restarts hosts, and says when each is back."),
            Act(client, "shut-down", PowerAct.ShutDown, "Shuts hosts down. Somebody has to switch them on, or 'umbrek power wake' does."),
            Act(client, "sleep", PowerAct.Sleep, "Puts hosts to sleep."),
            Act(client, "log-out", PowerAct.LogOut, "Logs a person, or everybody, out."),
            Act(client, "lock", PowerAct.Lock, "Locks the screen of a person, or of everybody."),
            Wake(client));
        return command;
    }

    private static Command Act(ClientContext client, string word, PowerAct act, string says)
    {
        var on = SelectionArgument.Option(client, "--on");
        var grace = new Option<string?>("--grace") { Description = "How long before it people who are logged in are told; 1min when left out, 0 for not at all. Where nobody is logged in it is done at once.", HelpName = "time" };
        var message = new Option<string?>("--message") { Description = "What they are told why.", HelpName = "text" };
        var person = new Option<string?>("--person") { Description = "Only this person, by logon.", HelpName = "name" };
        var yes = new Option<bool>("--yes") { Description = "Does not ask again." };
        var pace = new PaceOptions();
        var follow = new FollowOptions("5min");
        var secrets = new HostSecretOptions();
        var example = $"umbrek power {word} --on quay-ticket-03";
        var command = ClientCommands.Named(word, says, act == PowerAct.Restart ? $"{example}\n  umbrek power restart --on 'in \"Saltmarsh Ferry/Quay\"' --grace 10min --one-per-group --stop-after 1" : example);
        Option[] own = act switch { PowerAct.Lock => [person], PowerAct.LogOut => [person, grace, message, yes], _ => [grace, message, yes] };
        command.Add([on, .. own, .. pace.All, .. follow.All, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var before = act == PowerAct.Lock ? 0 : HowOptions.Seconds(parsed.GetValue(grace)) ?? 60;
            var spec = new CommandSpec { Action = new HostAction { Power = new PowerWish(act, before, own.Contains(message) ? parsed.GetValue(message) : null, own.Contains(person) ? parsed.GetValue(person) : null) } };
            if (spec.Check() is { } problem)
            {
                throw new ClientException(problem, ExitCodes.WrongUse);
            }
            using var api = client.State.Open();
            var selection = parsed.GetRequiredValue(on);
            if (act != PowerAct.Lock)
            {
                Prompt.Confirm(spec.Action.Power.Sentence(HostCommands.Where(await HostCommands.SelectAsync(api, selection, cancel).ConfigureAwait(false))), parsed.GetValue(yes));
            }
            return await RunCommand.SendAsync(client, parsed, api, new NewJob(selection, spec, follow.Expires(parsed), Pace: pace.Read(parsed)), spec, secrets, follow, cancel).ConfigureAwait(false);
        });
        return command;
    }

    private static Command Wake(ClientContext client)
    {
        var on = SelectionArgument.Option(client, "--on");
        var within = new Option<string>("--within") { Description = "How long to wait for them; 0 for not at all.", DefaultValueFactory = _ => "3min", HelpName = "time" };
        var command = ClientCommands.Named("wake", "Wakes hosts over the network: hosts of the same customer that stand in a network with them send the packets.", "umbrek power wake --on quay-office-02");
        command.Add([on, within]);
        command.SetAction(async (parsed, cancel) =>
        {
            var patience = TimeSpan.FromSeconds(HowOptions.Seconds(parsed.GetRequiredValue(within)) ?? 0);
            using var api = client.State.Open();
            var woken = await api.PostAsync("wake", new NewWake(parsed.GetRequiredValue(on)), WireJson.Default.NewWake, WireJson.Default.WakeInfo, cancel, Guid.NewGuid().ToString()).ConfigureAwait(false);
            foreach (var host in woken.Hosts)
            {
                var senders = host.Neighbours.Select(n => n.Label).Distinct().ToList();
                await Console.Error.WriteLineAsync(host.Problem is { } why ? $"{host.Label} {why}" : $"{host.Label}: {string.Join(" and ", senders)} {(senders.Count == 1 ? "sends" : "send")} the packet.").ConfigureAwait(false);
            }
            var status = await RunCommand.FollowAsync(client, parsed, woken.Job!.Id, false, true, cancel, quietly: client.Format(parsed) != OutputFormat.Table).ConfigureAwait(false);
            var up = await WaitAsync(client, api, [.. woken.Hosts.Where(h => h.Problem is null)], patience, cancel).ConfigureAwait(false);
            if (client.Format(parsed) != OutputFormat.Table)
            {
                Listing.PrintOne(client.Format(parsed), woken, WireJson.Default.WakeInfo, ("Job", $"{woken.Job.Id}"));
            }
            // A neighbour that could not send does not matter when the host is up.
            return up ? woken.Hosts.Any(h => h.Problem is not null) ? ExitCodes.RunsFailed : ExitCodes.Done : patience > TimeSpan.Zero ? ExitCodes.RunsWait : status;
        });
        return command;
    }

    /// <returns>True when all of them are linked.</returns>
    private static async Task<bool> WaitAsync(ClientContext client, ApiClient api, List<WakeHost> asleep, TimeSpan patience, CancellationToken cancel)
    {
        var began = client.Time.GetTimestamp();
        while (true)
        {
            foreach (var host in asleep.ToList())
            {
                var now = await api.GetAsync($"hosts/{host.HostId}", WireJson.Default.HostDetail, cancel).ConfigureAwait(false);
                if (now.Summary.Presence.State == PresenceState.Linked)
                {
                    asleep.Remove(host);
                    await Console.Error.WriteLineAsync($"{host.Label} of {GroupPath.Customer(host.GroupPath)} is up after {Units.Span(client.Time.GetElapsedTime(began))}.").ConfigureAwait(false);
                }
            }
            if (asleep.Count == 0)
            {
                return true;
            }
            if (client.Time.GetElapsedTime(began) >= patience)
            {
                await Console.Error.WriteLineAsync(patience > TimeSpan.Zero ? $"{string.Join(", ", asleep.Select(h => h.Label))}: not up within {Units.Span(patience)}. The network card has to be set up to wake its computer, in its firmware and its system." : "Whether they wake shows in 'umbrek host list'.").ConfigureAwait(false);
                return false;
            }
            await Task.Delay(Between, client.Time, cancel).ConfigureAwait(false);
        }
    }
}
