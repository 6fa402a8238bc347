using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;

Terminal.Guard();
return await ClientCommands.RunAsync(args, CancellationToken.None);
