using Umbrek.Agent.Hosting;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Tests.Jobs;

/// <summary>A run's directory as an agent that has accepted its order leaves it.</summary>
internal static class TestRun
{
    public static RunOrder Order(CommandSpec command) => new(Guid.CreateVersion7(), Guid.CreateVersion7(), DateTimeOffset.UtcNow, command, "Ines Okafor");

    public static RunOrder Order(string line) => Order(new CommandSpec { Line = line });

    public static RunDirectory Accept(TestDirectory directory, CommandSpec command)
    {
        var order = Order(command);
        var run = new RunDirectory(directory.In(order.RunId.ToString("N")));
        Directory.CreateDirectory(run.Path);
        StateDirectory.WriteWhole(run.OrderFile, order, WireJson.Default.RunOrder);
        using var journal = new JournalWriter(run, TimeProvider.System);
        journal.AppendAccepted();
        return run;
    }

    public static List<RunEvent> Read(RunDirectory run)
    {
        using var reader = new JournalReader(run);
        var events = new List<RunEvent>();
        while (reader.Read() is { } e)
        {
            events.Add(e);
        }
        return events;
    }

    public static RunEnd? EndOf(RunDirectory run) => Read(run).LastOrDefault()?.End;

    public static string Text(IEnumerable<RunEvent> events, RunEventKind kind) =>
        System.Text.Encoding.UTF8.GetString([.. events.Where(e => e.Kind == kind).SelectMany(e => e.Data!)]);

    /// <summary>Keeps a run in a process of its own, as an agent does.</summary>
    public static TestPrograms StartKeeper(RunDirectory run) => TestPrograms.Start("umbrek-agent", ["keeper", run.Path]);

    public static async Task<List<RunEvent>> KeepAsync(TestDirectory directory, CommandSpec command)
    {
        var run = Accept(directory, command);
        await using var keeper = StartKeeper(run);
        await Wait.UntilAsync(() => keeper.HasExited, "the keeper to end");
        return Read(run);
    }
}
