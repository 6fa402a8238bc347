using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform.Linux;

// There may be many that show something on a screen, and each is to begin at once: it has no command line to read.
return args switch
{
    [ScreenProcess.Command] => await ScreenProcess.RunAsync(TimeProvider.System, CancellationToken.None),
    [PlacardProcess.Command] => await PlacardProcess.RunAsync(TimeProvider.System, CancellationToken.None),
    [LockProcess.Command] => await LockProcess.RunAsync(TimeProvider.System, CancellationToken.None),
    [GivenScreen.Command] => await GivenScreen.RunAsync(TimeProvider.System, CancellationToken.None),
    _ => await AgentCommands.Build().Parse(args).InvokeAsync(),
};
