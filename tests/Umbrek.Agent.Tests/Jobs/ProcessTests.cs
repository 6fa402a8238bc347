using System.Diagnostics;
using System.Globalization;
using System.Text.Json;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Core.Jobs;
using Umbrek.Tests;
using Umbrek.Wire;

namespace Umbrek.Agent.Tests.Jobs;

/// <summary>Processes of this machine, read and ended as on a host.</summary>
public sealed class ProcessTests : IDisposable
{
    private readonly TestDirectory directory = new();
    private readonly List<Process> started = [];

    public void Dispose()
    {
        foreach (var process in started)
        {
            process.Kill();
            process.WaitForExit();
            process.Dispose();
        }
        directory.Dispose();
    }

    [Fact]
    public async Task A_process_is_read_whatever_it_is_called()
    {
        // A name with everything that the format of the file uses, and a command line that has it too.
        var program = directory.In("a) R 1 (b");
        File.Copy("/bin/sleep", program);
        var sleeping = Start(program, "1000");
        await Wait.UntilAsync(() => Find(sleeping.Id) is { CommandLine: { } line } && line.EndsWith(" 1000", StringComparison.Ordinal), "it to be there");
        var seen = Find(sleeping.Id)!;
        seen.Name.ShouldBe("a) R 1 (b");
        seen.Parent.ShouldBe(Environment.ProcessId);
        seen.User.ShouldBe(Environment.UserName);
        seen.State.ShouldBe("sleeping");
        seen.MemoryBytes.ShouldBeGreaterThan(0);
        (DateTimeOffset.UtcNow - seen.StartedAt).ShouldBeInRange(TimeSpan.FromSeconds(-2), TimeSpan.FromMinutes(5));
        var own = Find(Environment.ProcessId)!;
        own.Threads.ShouldBeGreaterThan(1);
        own.ProcessorSeconds.ShouldBeGreaterThan(0);
        Read().Processes.Single(p => p.Pid == 1).Parent.ShouldBe(0);
    }

    [Fact]
    public async Task What_one_uses_is_measured_between_two_readings()
    {
        var busy = Start("/bin/sh", "-c", "while :; do :; done");
        var reader = new LinuxPlatform().Processes();
        var now = DateTimeOffset.UtcNow;
        reader.Read(now).Processes.ShouldAllBe(p => p.ProcessorPercent == null);
        await Wait.UntilAsync(() => Find(busy.Id)!.ProcessorSeconds > 0.5, "it to use the processor");
        var second = reader.Read(now + TimeSpan.FromSeconds(1)).Processes.Single(p => p.Pid == busy.Id);
        second.ProcessorPercent!.Value.ShouldBeGreaterThan(10);
        // A new process under an old reader has no share yet.
        var fresh = Start("/bin/sleep", "1000");
        reader.Read(now + TimeSpan.FromSeconds(2)).Processes.Single(p => p.Pid == fresh.Id).ProcessorPercent.ShouldBeNull();
    }

    [Fact]
    public async Task Those_that_are_asked_end_and_the_one_that_does_not_is_killed()
    {
        var (willing, deaf) = (Start("/bin/sleep", "1000"), Start("/bin/sh", "-c", "trap '' TERM; echo deaf; while :; do sleep 0.05; done"));
        (await deaf.StandardOutput.ReadLineAsync()).ShouldBe("deaf");
        var asked = await ActAsync(new HostAction { End = new EndProcesses(Marks(willing, deaf), GraceSeconds: 0.3) });
        asked.Stdout.ShouldContain($"sleep ({willing.Id}) has ended.");
        asked.Stdout.ShouldContain($"sh ({deaf.Id}) goes on after 0.3 s; it can be killed.");
        asked.Status.ShouldBe(1);
        willing.WaitForExit(60_000).ShouldBeTrue();
        var killed = await ActAsync(new HostAction { End = new EndProcesses(Marks(deaf), Force: true) });
        killed.ShouldBe((0, $"sh ({deaf.Id}) has been killed.\n", ""));
        deaf.WaitForExit(60_000).ShouldBeTrue();
    }

    [Fact]
    public async Task Another_process_with_the_same_number_is_left_alone()
    {
        var sleeping = Start("/bin/sleep", "1000");
        var meant = Marks(sleeping);
        var later = meant with { Marks = [meant.Marks![0] with { Start = meant.Marks[0].Start - 1 }] };
        (await ActAsync(new HostAction { End = new EndProcesses(later, Force: true) })).ShouldBe((0, $"sleep ({sleeping.Id}) had ended already.\n", ""));
        (await ActAsync(new HostAction { End = new EndProcesses(meant with { Boot = "another" }, Force: true) })).ShouldBe((2, "The host has restarted since its processes were read; nothing was ended.\n", ""));
        sleeping.HasExited.ShouldBeFalse();
    }

    [Fact]
    public async Task The_system_and_the_agent_itself_are_not_ended()
    {
        var init = Read().Processes.Single(p => p.Pid == 1);
        var refused = await ActAsync(new HostAction { End = new EndProcesses(new ProcessChoice([new ProcessMark(1, init.Start, init.Name)], Read().Boot), Force: true) });
        refused.Status.ShouldBe(1);
        refused.Stdout.ShouldContain("is the system itself; restart the host instead.");
        await using var agent = TestPrograms.Start("umbrek-agent", ["wire"]);
        await Wait.UntilAsync(() => Find(agent.Pid)?.CommandLine?.EndsWith("wire", StringComparison.Ordinal) == true, "it to be there");
        var seen = Find(agent.Pid)!;
        (await ActAsync(new HostAction { End = new EndProcesses(new ProcessChoice([new ProcessMark(seen.Pid, seen.Start, seen.Name)], Read().Boot)) })).Stdout.ShouldContain("is this host's agent");
        agent.HasExited.ShouldBeFalse();
    }

    [Fact]
    public async Task All_of_a_program_are_found_ranked_and_ended()
    {
        var name = $"tide-{Guid.NewGuid():N}"[..20];
        File.Copy("/bin/sleep", directory.In(name));
        var two = new[] { Start(directory.In(name), "1000"), Start(directory.In(name), "1000") };
        await Wait.UntilAsync(() => two.All(p => Find(p.Id)?.CommandLine?.Contains(name) == true), "both to be there");
        (await ActAsync(new HostAction { Find = new FindProcesses($"{name} 1000") })).ShouldBe((0, $"2 × {Environment.UserName}: {directory.In(name)} 1000\n", ""));

        var ranked = await ActAsync(new HostAction { Rank = new RankProcesses(new ProcessChoice(Program: name), 7) });
        ranked.Stdout.Split('\n').Count(l => l.EndsWith("has niceness 7 (before 0).", StringComparison.Ordinal)).ShouldBe(2);
        Find(two[0].Id)!.Niceness.ShouldBe(7);

        (await ActAsync(new HostAction { End = new EndProcesses(new ProcessChoice(Program: name, User: "nobody")) })).Stdout.ShouldBe($"Nothing runs '{name}' as nobody; nothing was ended.\n");
        (await ActAsync(new HostAction { End = new EndProcesses(new ProcessChoice(Program: name)) })).Status.ShouldBe(0);
        two.ShouldAllBe(p => p.WaitForExit(60_000));
        (await ActAsync(new HostAction { Find = new FindProcesses(name) })).Stdout.ShouldBe($"Nothing runs '{name}'.\n");
    }

    private Process Start(string program, params string[] arguments)
    {
        var process = Process.Start(new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true, RedirectStandardInput = true })!;
        started.Add(process);
        return process;
    }

    private static ProcessReading Read() => new LinuxPlatform().Processes().Read(DateTimeOffset.UtcNow);

    private static HostProcess? Find(int pid) => Read().Processes.FirstOrDefault(p => p.Pid == pid);

    private static ProcessChoice Marks(params Process[] processes)
    {
        var reading = Read();
        return new ProcessChoice([.. processes.Select(p => reading.Processes.Single(r => r.Pid == p.Id)).Select(p => new ProcessMark(p.Pid, p.Start, p.Name))], reading.Boot);
    }

    /// <summary>As a run's keeper has it done: by the agent's program, which reads what it is to do.</summary>
    private static Task<(int Status, string Stdout, string Stderr)> ActAsync(HostAction action) =>
        TestPrograms.RunAsync("umbrek-agent", ["act"], JsonSerializer.Serialize(action, LinkJson.Default.HostAction));
}
