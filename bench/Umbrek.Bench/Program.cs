using Umbrek.Bench.Access;
using Umbrek.Bench.Desktop;
using Umbrek.Bench.Enrolment;
using Umbrek.Bench.Estate;
using Umbrek.Bench.Files;
using Umbrek.Bench.Health;
using Umbrek.Bench.Hosting;
using Umbrek.Bench.Jobs;
using Umbrek.Bench.Links;
using Umbrek.Bench.Shell;

if (args is ["bare-hub", var port])
{
    await BareHub.ServeAsync(int.Parse(port));
    return;
}
var all = new Dictionary<string, Func<Task>>
{
    ["1000"] = () => LinkBench.RunAsync(1000),
    ["10000"] = () => LinkBench.RunAsync(10000),
    ["joining"] = EnrolmentBench.RunAsync,
    ["estate"] = EstateBench.RunAsync,
    ["health"] = HealthBench.RunAsync,
    ["console"] = ConsoleBench.RunAsync,
    ["access"] = AccessBench.RunAsync,
    ["folding"] = () =>
    {
        FoldBench.Run();
        return Task.CompletedTask;
    },
    ["shell"] = ShellBench.RunAsync,
    ["desktop"] = DesktopBench.RunAsync,
    ["desktop-slow"] = DesktopBench.RunSlowAsync,
    ["office"] = OfficeMinute.RunAsync,
    ["files"] = FileBench.RunAsync,
    ["small-files"] = SmallFilesBench.RunAsync,
    ["slow-line"] = SlowLineBench.RunAsync,
    ["deliver"] = DeliverBench.RunAsync,
    ["twin"] = TwinBench.RunAsync,
    ["processes"] = ProcessBench.RunAsync,
    ["programs"] = ProgramBench.RunAsync,
};
// dotnet run --project bench/Umbrek.Bench -c Release -- [any of those, or another number of hosts]
Figures.Machine();
foreach (var what in args.Length == 0 ? [.. all.Keys] : args)
{
    if (all.TryGetValue(what, out var run))
    {
        await run();
    }
    else if (int.TryParse(what, out var hosts))
    {
        await LinkBench.RunAsync(hosts);
    }
    else
    {
        Console.Error.WriteLine($"'{what}' is no benchmark; give {string.Join(", ", all.Keys)}, or another number of hosts.");
    }
}
