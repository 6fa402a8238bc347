using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform.Linux;

// There may be many that show a screen, and each is to begin at once: it has no command line to read.
return args is [ScreenProcess.Command]
    ? await ScreenProcess.RunAsync(TimeProvider.System, CancellationToken.None)
    : await AgentCommands.Build().Parse(args).InvokeAsync();
