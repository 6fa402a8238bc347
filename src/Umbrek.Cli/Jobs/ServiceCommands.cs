using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>Services of hosts: how they stand, and what is done with them on one host or many.</summary>
public static class ServiceCommands
{
    public static Command Service(ClientContext client)
    {
        var command = ClientCommands.Named("service", "Services of hosts: how they stand; start, stop and restart them on one host or many.", "umbrek service restart ticket-print --on 'quay-ticket-*' --one-per-group");
        command.Add(
            List(client),
            Act(client, "show", ServiceAct.Show, "Says how a service stands, what it needs, what needs it, and its last log lines."),
            Act(client, "start", ServiceAct.Start, "Starts a service."),
            Act(client, "stop", ServiceAct.Stop, "Stops a service; it starts again with its system, unless it is disabled."),
            Act(client, "restart", ServiceAct.Restart, "Stops a service and starts it again."),
            Act(client, "reload", ServiceAct.Reload, "Has a service read its settings again, where it can."),
            Act(client, "enable", ServiceAct.Enable, "Has a service start with its system from now on."),
            Act(client, "disable", ServiceAct.Disable, "Has a service not start with its system any more; one that runs goes on."));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var host = new Argument<string>("host") { Description = "Label or system name of the host." };
        var words = new Argument<string[]>("words") { Description = "Only services that have these words in name or description.", Arity = ArgumentArity.ZeroOrMore };
        var state = new Option<string[]>("--state") { Description = $"Only services that stand so: {string.Join(", ", Enum.GetValues<ServiceState>().Select(Word))}.", HelpName = "state" };
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("list", "Lists the services of a host: those that have failed first.", "umbrek service list quay-ticket-03\n  umbrek service list quay-ticket-03 --state failed");
        command.Add([host, words, state, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var states = (parsed.GetValue(state) ?? []).Select(s => Typed.Word(s, WireJson.Default.ServiceState, "state")).ToHashSet();
            using var api = client.State.Open();
            var found = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            var sought = parsed.GetValue(words) ?? [];
            var shown = (await HostLook.ServicesAsync(client, api, parsed, secrets, found, cancel).ConfigureAwait(false))
                .Where(s => (states.Count == 0 || states.Contains(s.State)) && sought.All(w => s.Name.Contains(w, StringComparison.OrdinalIgnoreCase) || (s.Description?.Contains(w, StringComparison.OrdinalIgnoreCase) ?? false)))
                .OrderByDescending(s => s.State == ServiceState.Failed).ThenBy(s => s.Name, StringComparer.Ordinal).ToList();
            var now = client.Time.GetUtcNow();
            Listing.Print(client.Format(parsed), shown, WireJson.Default.ListHostService, $"{found.Label} has no service of that.",
                new("Service", s => s.Name), new("State", s => Word(s.State)), new("Starts", s => Word(s.Start)), new("For", s => s.Since is { } at ? Units.Span(now - at) : "", Machine: s => Words.Iso(s.Since)),
                new("Memory", s => s.MemoryBytes is { } bytes ? Units.Bytes(bytes) : "", Right: true, Machine: s => $"{s.MemoryBytes}"), new("Description", s => s.Description ?? ""));
            return shown.Count > 0 ? ExitCodes.Done : ExitCodes.NothingMatched;
        });
        return command;
    }

    private static Command Act(ClientContext client, string word, ServiceAct act, string says)
    {
        var name = new Argument<string>("service") { Description = "The service's name, such as cups or ticket-print." };
        var on = SelectionArgument.Option(client, "--on");
        var pace = new PaceOptions();
        var follow = new FollowOptions();
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named(word, says, $"umbrek service {word} ticket-print --on quay-ticket-03");
        command.Add([name, on, .. pace.All, .. follow.All, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var spec = new CommandSpec { Action = new HostAction { Service = new ServiceWish(parsed.GetRequiredValue(name), act) } };
            if (spec.Check() is { } problem)
            {
                throw new ClientException(problem, ExitCodes.WrongUse);
            }
            using var api = client.State.Open();
            return await RunCommand.SendAsync(client, parsed, api, new NewJob(parsed.GetRequiredValue(on), spec, follow.Expires(parsed), Pace: pace.Read(parsed)), spec, secrets, follow, cancel).ConfigureAwait(false);
        });
        return command;
    }

    private static string Word(ServiceState state) => state.ToString().ToLowerInvariant();

    private static string Word(ServiceStart start) => start switch
    {
        ServiceStart.WithSystem => "with the system",
        ServiceStart.ByHand => "by hand",
        ServiceStart.ByOthers => "by others",
        ServiceStart.Never => "never",
        _ => "",
    };
}
