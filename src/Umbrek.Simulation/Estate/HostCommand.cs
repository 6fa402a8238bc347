using System.CommandLine;
using Umbrek.Agent.Enrolment;

namespace Umbrek.Simulation.Estate;

/// <summary><c>umbrek-sim host</c>: one computer of the made-up world, joined to any service.</summary>
public static class HostCommand
{
    public static Command Build()
    {
        var name = new Argument<string>("name") { Description = "A computer of the demo world, for example ripening-climate-02." };
        var service = new Option<string>("--service") { Description = "The service's address.", Required = true };
        var token = new Option<string>("--token") { Description = "An enrolment token.", Required = true };
        var data = new Option<string>("--data") { Description = "Directory for what it keeps.", Required = true };
        var command = new Command("host", "Joins one simulated host to a service and runs its agent until Ctrl-C.") { name, service, token, data };
        command.SetAction(async (parsed, cancel) =>
        {
            if (Scenario.Hosts(60).FirstOrDefault(h => h.Name == parsed.GetRequiredValue(name)) is not { } host)
            {
                await Console.Error.WriteLineAsync($"There is no computer '{parsed.GetRequiredValue(name)}' in the demo world.").ConfigureAwait(false);
                return 2;
            }
            if (!Uri.TryCreate(parsed.GetRequiredValue(service), UriKind.Absolute, out var address))
            {
                await Console.Error.WriteLineAsync($"'{parsed.GetRequiredValue(service)}' is no address; write it like https://localhost:8443.").ConfigureAwait(false);
                return 2;
            }
            var agents = new SimulatedAgents(Path.GetFullPath(parsed.GetRequiredValue(data)), TimeProvider.System);
            try
            {
                await agents.EnrolAsync(host, address, parsed.GetRequiredValue(token), cancel).ConfigureAwait(false);
            }
            catch (Exception e) when (e is EnrolmentException or Wire.Api.ApiException or Wire.Api.UnreachableException)
            {
                await Console.Error.WriteLineAsync($"{host.Name} can't join: {e.Message}").ConfigureAwait(false);
                return 1;
            }
            await Console.Out.WriteLineAsync($"joined as {host.Name}").ConfigureAwait(false);
            await agents.RunAsync(host, cancel).ConfigureAwait(false);
            return 0;
        });
        return command;
    }
}
