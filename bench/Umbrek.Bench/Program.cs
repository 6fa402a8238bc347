using Umbrek.Bench.Access;
using Umbrek.Bench.Enrolment;
using Umbrek.Bench.Estate;
using Umbrek.Bench.Health;
using Umbrek.Bench.Hosting;
using Umbrek.Bench.Jobs;
using Umbrek.Bench.Links;
using Umbrek.Bench.Shell;

// dotnet run --project bench/Umbrek.Bench -c Release -- [1000] [10000] [joining] [estate] [health] [console] [access] [folding] [shell] [processes] [programs]
if (args is ["bare-hub", var port])
{
    await BareHub.ServeAsync(int.Parse(port));
    return;
}
var wanted = args.Length == 0 ? ["1000", "10000", "joining", "estate", "health", "console", "access", "folding", "shell", "processes", "programs"] : args;
Figures.Machine();
foreach (var what in wanted)
{
    if (int.TryParse(what, out var hosts))
    {
        await LinkBench.RunAsync(hosts);
    }
    else if (what == "joining")
    {
        await EnrolmentBench.RunAsync();
    }
    else if (what == "estate")
    {
        await EstateBench.RunAsync();
    }
    else if (what == "health")
    {
        await HealthBench.RunAsync();
    }
    else if (what == "console")
    {
        await ConsoleBench.RunAsync();
    }
    else if (what == "access")
    {
        await AccessBench.RunAsync();
    }
    else if (what == "folding")
    {
        FoldBench.Run();
    }
    else if (what == "shell")
    {
        await ShellBench.RunAsync();
    }
    else if (what == "processes")
    {
        await ProcessBench.RunAsync();
    }
    else if (what == "programs")
    {
        await ProgramBench.RunAsync();
    }
    else
    {
        Console.Error.WriteLine($"'{what}' is no benchmark; give numbers of hosts, 'joining', 'estate', 'health', 'console', 'access', 'folding', 'shell', 'processes' or 'programs'.");
    }
}
