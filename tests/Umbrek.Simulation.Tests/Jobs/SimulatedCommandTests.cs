using System.Text;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Jobs;

namespace Umbrek.Simulation.Tests.Jobs;

public sealed class SimulatedCommandTests
{
    private static readonly IReadOnlyList<SimulatedHost> Hosts = Scenario.Hosts(60);

    [Theory]
    [InlineData("dome-control", "hostname; echo 'two words'", "dome-control\ntwo words\n", "", 0)]
    [InlineData("creamery-files", "uname -r", SimulatedPlatform.OddKernel + "\n", "", 0)]
    [InlineData("quay-ticket-01", "uname -r", SimulatedPlatform.CommonKernel + "\n", "", 0)]
    [InlineData("quay-ticket-03", "systemctl is-active ticket-print", "failed\n", "", 3)]
    [InlineData("quay-ticket-01", "systemctl is-active ticket-print", "active\n", "", 0)]
    [InlineData("quay-ticket-01", "nonsense", "", "sh: 1: nonsense: not found\n", 127)]
    [InlineData("quay-ticket-01", "echo a && echo b >&2; exit 7; echo c", "a\n", "b\n", 7)]
    public async Task Simulated_hosts_answer_as_their_story_says(string name, string line, string stdout, string stderr, int status)
    {
        using var command = Start(name, new CommandSpec { Line = line });
        var output = new StreamReader(command.Stdout, Encoding.UTF8).ReadToEndAsync();
        var errors = new StreamReader(command.Stderr, Encoding.UTF8).ReadToEndAsync();
        (await command.Ended).ExitStatus.ShouldBe(status);
        (await output).ShouldBe(stdout);
        (await errors).ShouldBe(stderr);
    }

    [Fact]
    public async Task A_long_command_can_be_ended()
    {
        using var command = Start("dome-control", new CommandSpec { Line = "sleep 100000" });
        command.Terminate(force: false);
        (await command.Ended.WaitAsync(TimeSpan.FromSeconds(20))).Outcome.ShouldBe(RunOutcome.Signalled);
    }

    [Fact]
    public void A_program_that_a_simulated_host_has_not_cannot_be_started() =>
        Should.Throw<CommandNotStartedException>(() => Start("dome-control", new CommandSpec { Arguments = ["frobnicate"] })).ExitStatus.ShouldBe(127);

    private static IRunningCommand Start(string name, CommandSpec command)
    {
        var host = Hosts.Single(h => h.Name == name);
        return new SimulatedCommandRunner(host, new SimulatedPlatform(host, TimeProvider.System), TimeProvider.System).Start(command);
    }
}
