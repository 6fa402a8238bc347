using Umbrek.Cli.Hosting;

return await ClientCommands.RunAsync(args, CancellationToken.None);
