using CsCheck;
using Umbrek.Core.Jobs;

namespace Umbrek.Core.Tests.Jobs;

public sealed class ProcessTests
{
    private static readonly DateTimeOffset Then = new(2026, 3, 29, 1, 0, 0, TimeSpan.Zero);

    private static readonly Gen<ProcessReading> Readings =
        Gen.Select(Gen.Select(Gen.Int[1, 12], Gen.Int[0, 12], Gen.Int[0, 3], Gen.Int[0, 2]).Array[0, 12], Gen.Int[0, 1]).Select((processes, boot) => new ProcessReading(
            Then, $"boot {boot}", 2, 1 << 30,
            [.. processes.DistinctBy(p => p.Item1).OrderBy(p => p.Item1).Select(p => Make(p.Item1, p.Item2, p.Item3, p.Item4))]));

    private static HostProcess Make(int pid, int parent, long start = 0, double used = 0, string name = "tide", string? line = "/opt/tide --ebb", string user = "root") =>
        new(pid, parent, start, Then, user, name, line, "sleeping", 0, 1, 4096, used);

    [Fact]
    public void Changes_lead_from_one_reading_to_the_next() =>
        Readings.Array[1, 6].Sample(readings =>
        {
            ProcessReading? before = null;
            ProcessReading? seen = null;
            foreach (var now in readings)
            {
                var changes = ProcessChanges.Between(before, now);
                changes.Reset.ShouldBe(before?.Boot != now.Boot);
                seen = changes.Apply(seen);
                seen.Processes.ShouldBe(now.Processes);
                ProcessChanges.Between(now, now).Changed.ShouldBeEmpty();
                before = now;
            }
        });

    [Fact]
    public void The_tree_has_everybody_once_and_each_behind_its_parent() =>
        Readings.Sample(reading =>
        {
            // A parent is older than its children, and so it is in every reading.
            var all = reading.Processes.Where(p => p.Parent < p.Pid).ToList();
            var order = ProcessTree.Order(all, Comparer<HostProcess>.Create((a, b) => a.Pid.CompareTo(b.Pid)));
            order.Select(o => o.Process.Pid).Order().ShouldBe(all.Select(p => p.Pid));
            foreach (var (process, depth) in order.Where(o => o.Depth > 0))
            {
                var at = order.FindIndex(o => o.Process.Pid == process.Pid);
                var parent = order.FindIndex(o => o.Process.Pid == process.Parent);
                parent.ShouldBeLessThan(at);
                depth.ShouldBe(order[parent].Depth + 1);
            }
        });

    [Fact]
    public void Programs_are_known_by_their_names()
    {
        Make(1, 0, line: "/usr/lib/firefox-esr/firefox-esr -P", name: "firefox-esr").IsProgram("firefox-esr").ShouldBeTrue();
        // Linux keeps 15 bytes of a name.
        Make(1, 0, line: "/opt/capture/exposure-scheduler --now", name: "exposure-schedu").IsProgram("exposure-scheduler").ShouldBeTrue();
        Make(1, 0, line: "/bin/sh /opt/tide", name: "sh").IsProgram("tide").ShouldBeFalse();
        Make(1, 0, line: null, name: "kworker/0:1").IsProgram("kworker").ShouldBeFalse();
        Make(812, 0, line: "/usr/sbin/cupsd -l", name: "cupsd", user: "lp").Has(["CUPS", "lp"]).ShouldBeTrue();
        Make(812, 0, name: "cupsd").Has(["812"]).ShouldBeTrue();
        Make(812, 0, name: "cupsd").Has(["81"]).ShouldBeFalse();
    }

    [Fact]
    public void A_number_means_the_process_that_was_seen_and_no_later_one()
    {
        var seen = new ProcessChoice([new ProcessMark(7, 100, "tide")], "boot 1");
        seen.Of(new ProcessReading(Then, "boot 1", 1, 1, [Make(7, 1, 100)])).Count.ShouldBe(1);
        seen.Of(new ProcessReading(Then, "boot 1", 1, 1, [Make(7, 1, 230)])).ShouldBeEmpty();
        new ProcessChoice(Program: "tide", User: "lp").Of(new ProcessReading(Then, "", 1, 1, [Make(7, 1), Make(8, 1, user: "lp")])).Single().Pid.ShouldBe(8);
    }

    [Theory]
    [InlineData(null, null, "Say which processes")]
    [InlineData("", null, "Say which processes")]
    [InlineData("/usr/bin/tide", null, "without the directory")]
    [InlineData("tide", null, null)]
    [InlineData(null, "", "read the list again")]
    [InlineData(null, "boot 1", null)]
    public void A_choice_says_one_thing(string? program, string? boot, string? why)
    {
        var choice = new ProcessChoice(boot is null ? null : [new ProcessMark(7, 1, "tide")], boot, program);
        var problem = new HostAction { End = new EndProcesses(choice) }.Check();
        (problem is null).ShouldBe(why is null);
        problem?.ShouldContain(why!);
    }

    [Fact]
    public void An_act_of_the_agent_is_a_command_of_its_own()
    {
        var end = new CommandSpec { Action = new HostAction { End = new EndProcesses(new ProcessChoice([new ProcessMark(7, 1, "tide"), new ProcessMark(8, 1, "ebb\e[2J")], "boot"), Force: true) } };
        end.Check().ShouldBeNull();
        (end with { TimeoutSeconds = 60 }).Check().ShouldBeNull();
        end.Display().ShouldStartWith("kill tide (7), ebb");
        end.Display().ShouldNotContain('\e');
        (end with { Line = "true" }).Check()!.ShouldContain("takes neither a command");
        (end with { User = "lp" }).Check()!.ShouldContain("leave them out");
        new CommandSpec { Action = new HostAction() }.Check()!.ShouldContain("Say one thing");
        new CommandSpec { Action = new HostAction { Find = new FindProcesses(" ") } }.Check()!.ShouldContain("what to look for");
        new CommandSpec { Action = new HostAction { Rank = new RankProcesses(new ProcessChoice(Program: "tide"), 20) } }.Check()!.ShouldContain("Niceness");
        new CommandSpec { Action = new HostAction { Rank = new RankProcesses(new ProcessChoice(Program: "tide", User: "lp"), 5) } }.Display().ShouldBe("set niceness 5 for every 'tide' of lp");
        new CommandSpec { Action = new HostAction { End = new EndProcesses(null!) } }.Check().ShouldBe(ProcessChoice.Nobody);
    }
}
