using System.CommandLine;
using Umbrek.Simulation.Demo;
using Umbrek.Simulation.Estate;

var root = new RootCommand("Simulated hosts and the demo world.") { DemoCommand.Build(), HostCommand.One(), HostCommand.Many() };
return await root.Parse(args).InvokeAsync(new InvocationConfiguration { ProcessTerminationTimeout = null });
