using System.CommandLine;
using Umbrek.Simulation.Demo;

var root = new RootCommand("Simulated hosts and the demo world.") { DemoCommand.Build() };
return await root.Parse(args).InvokeAsync(new InvocationConfiguration { ProcessTerminationTimeout = null });
