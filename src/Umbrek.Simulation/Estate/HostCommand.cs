using System.CommandLine;
using Umbrek.Agent.Enrolment;

namespace Umbrek.Simulation.Estate;

/// <summary><c>umbrek-sim host</c> and <c>umbrek-sim hosts</c>: computers of the made-up world, joined to any service.</summary>
public static class HostCommand
{
    private const int Most = 2000;

    private static readonly Option<string> Service = new("--service") { Description = "The service's address.", Required = true };
    private static readonly Option<string> Token = new("--token") { Description = "An enrolment token.", Required = true };
    private static readonly Option<string> Data = new("--data") { Description = "Directory for what they keep.", Required = true };

    public static Command One()
    {
        var name = new Argument<string>("name") { Description = "A computer of the demo world, for example ripening-climate-02." };
        var command = new Command("host", "Joins one simulated host to a service and runs its agent until Ctrl-C.") { name, Service, Token, Data };
        command.SetAction(async (parsed, cancel) =>
        {
            if (Scenario.Hosts(60).FirstOrDefault(h => h.Name == parsed.GetRequiredValue(name)) is not { } host)
            {
                await Console.Error.WriteLineAsync($"There is no computer '{parsed.GetRequiredValue(name)}' in the demo world.").ConfigureAwait(false);
                return 2;
            }
            return await RunAsync(parsed, [host], cancel).ConfigureAwait(false);
        });
        return command;
    }

    public static Command Many()
    {
        var count = new Option<int>("--count") { Description = $"How many, to {Most}.", Required = true };
        var command = new Command("hosts", "Joins many simulated hosts, none with a story of its own, to a service and runs their agents until Ctrl-C.") { count, Service, Token, Data };
        command.SetAction(async (parsed, cancel) =>
        {
            if (parsed.GetRequiredValue(count) is var wanted && wanted is < 1 or > Most)
            {
                await Console.Error.WriteLineAsync($"From 1 to {Most} hosts, not {wanted}.").ConfigureAwait(false);
                return 2;
            }
            return await RunAsync(parsed, [.. Scenario.Hosts(wanted).Select(h => h with { Story = HostStory.None })], cancel).ConfigureAwait(false);
        });
        return command;
    }

    private static async Task<int> RunAsync(ParseResult parsed, IReadOnlyList<SimulatedHost> hosts, CancellationToken cancel)
    {
        if (!Uri.TryCreate(parsed.GetRequiredValue(Service), UriKind.Absolute, out var address))
        {
            await Console.Error.WriteLineAsync($"'{parsed.GetRequiredValue(Service)}' is no address; write it like https://localhost:8443.").ConfigureAwait(false);
            return 2;
        }
        var agents = new SimulatedAgents(Path.GetFullPath(parsed.GetRequiredValue(Data)), TimeProvider.System);
        foreach (var host in hosts)
        {
            try
            {
                await agents.EnrolAsync(host, address, parsed.GetRequiredValue(Token), cancel).ConfigureAwait(false);
            }
            catch (Exception e) when (e is EnrolmentException or Wire.Api.ApiException or Wire.Api.UnreachableException)
            {
                await Console.Error.WriteLineAsync($"{host.Name} can't join: {e.Message}").ConfigureAwait(false);
                return 1;
            }
        }
        await Console.Out.WriteLineAsync($"joined as {(hosts.Count == 1 ? hosts[0].Name : $"{hosts.Count} hosts")}").ConfigureAwait(false);
        await Task.WhenAll(hosts.Select(h => agents.RunAsync(h, cancel))).ConfigureAwait(false);
        return 0;
    }
}
