using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;
using Umbrek.Tests;

namespace Umbrek.Agent.Tests.Jobs;

public sealed class KeeperTests : IDisposable
{
    private readonly TestDirectory directory = new();

    public void Dispose() => directory.Dispose();

    [Fact]
    public async Task Output_and_errors_are_kept_apart_with_the_exit_status()
    {
        var events = await KeepAsync("echo out; echo err >&2; printf '\\000\\377'; exit 3");
        events.Select(e => e.Sequence).ShouldBe(Enumerable.Range(0, events.Count).Select(i => (long)i));
        events.Where(e => e.Kind == RunEventKind.Stdout).SelectMany(e => e.Data!).ShouldBe("out\n"u8.ToArray().Concat(new byte[] { 0, 255 }));
        TestRun.Text(events, RunEventKind.Stderr).ShouldBe("err\n");
        events[^1].End.ShouldBe(new RunEnd(RunOutcome.Exited, 3, null));
        events[1].Start!.User.ShouldBe(Environment.UserName);
    }

    [Fact]
    public async Task A_program_runs_with_its_exact_arguments_and_directory()
    {
        var events = await TestRun.KeepAsync(directory, new CommandSpec { Arguments = ["printf", "%s|", "two words", "$HOME", "*"], WorkingDirectory = "/tmp" });
        TestRun.Text(events, RunEventKind.Stdout).ShouldBe("two words|$HOME|*|");
        events = await TestRun.KeepAsync(directory, new CommandSpec { Line = "pwd; echo $0", Shell = "/bin/bash", WorkingDirectory = "/usr" });
        TestRun.Text(events, RunEventKind.Stdout).ShouldBe("/usr\n/bin/bash\n");
    }

    [Theory]
    [InlineData("echo \"$1, $2\"; read line; echo \"read: $line\"", null, "one, two words\nread: from input\n")]
    [InlineData("#!/bin/bash\n[[ $1 == one ]] && echo $BASH_VERSION | grep -c .", null, "1\n")]
    [InlineData("#!/usr/bin/env  perl\nprint \"$ARGV[1]\\n\"", null, "two words\n")]
    [InlineData("#!/usr/bin/perl -l\nprint scalar @ARGV", null, "2\n")]
    [InlineData("print 'perl by name'", "perl", "perl by name")]
    public async Task A_script_is_read_by_what_it_names_with_arguments_and_input(string script, string? reader, string printed)
    {
        var events = await TestRun.KeepAsync(directory, new CommandSpec { Script = script, Shell = reader, Arguments = ["one", "two words"], Input = "from input\n"u8.ToArray() });
        TestRun.Text(events, RunEventKind.Stderr).ShouldBe("");
        TestRun.Text(events, RunEventKind.Stdout).ShouldBe(printed);
    }

    [Fact]
    public async Task Without_input_it_reads_nothing_and_does_not_wait()
    {
        TestRun.Text(await KeepAsync("cat; echo done"), RunEventKind.Stdout).ShouldBe("done\n");
        var bytes = Enumerable.Range(0, 60_000).Select(i => (byte)i).ToArray();
        var events = await TestRun.KeepAsync(directory, new CommandSpec { Line = "cat", Input = bytes });
        events.Where(e => e.Kind == RunEventKind.Stdout).SelectMany(e => e.Data!).ShouldBe(bytes);
    }

    [Fact]
    public async Task Variables_are_set_on_top_of_the_hosts_own()
    {
        var events = await TestRun.KeepAsync(directory, new CommandSpec { Line = "echo \"$TIDE|$EMPTY|${PATH:+path}\"", Environment = new Dictionary<string, string> { ["TIDE"] = "ebb; $(id) 'x'", ["EMPTY"] = "" } });
        TestRun.Text(events, RunEventKind.Stdout).ShouldBe("ebb; $(id) 'x'||path\n");
    }

    [Fact]
    public async Task It_runs_as_another_user_with_that_users_own_surroundings()
    {
        var events = await TestRun.KeepAsync(directory, new CommandSpec { Script = "id -un; echo $HOME; pwd; cat; echo $TIDE", User = "nobody", Input = "input "u8.ToArray(), Environment = new Dictionary<string, string> { ["TIDE"] = "ebb" } });
        TestRun.Text(events, RunEventKind.Stderr).ShouldBe("");
        TestRun.Text(events, RunEventKind.Stdout).ShouldBe("nobody\n/nonexistent\n/\ninput ebb\n");
        events[1].Start!.User.ShouldBe("nobody");
        var end = (await TestRun.KeepAsync(directory, new CommandSpec { Line = "id", User = "nobody-at-all" }))[^1].End!;
        (end.Outcome, end.ExitStatus).ShouldBe((RunOutcome.NotStarted, 126));
        end.Reason!.ShouldContain("nobody-at-all");
    }

    [Fact]
    public async Task Niceness_is_that_of_the_command_and_all_below_it() =>
        TestRun.Text(await TestRun.KeepAsync(directory, new CommandSpec { Line = "nice; sh -c nice", Niceness = 7 }), RunEventKind.Stdout).ShouldBe("7\n7\n");

    [Theory]
    [InlineData(0, "")]
    [InlineData(5, "12345")]
    public async Task Output_beyond_its_limit_is_read_and_not_kept(long limit, string kept)
    {
        var events = await TestRun.KeepAsync(directory, new CommandSpec { Line = "printf 1234567; head -c 3000000 /dev/zero; exit 3", OutputLimitBytes = limit });
        TestRun.Text(events, RunEventKind.Stdout).ShouldBe(kept);
        events[^1].End!.ExitStatus.ShouldBe(3);
        events[^1].End!.Reason.ShouldBe($"Its output was cut after {limit} B; 2.86 MiB more came and were not kept.");
    }

    [Theory]
    [InlineData("no-such-program-here", 127, "no program")]
    [InlineData("PLAIN-FILE", 126, "not executable")]
    public async Task A_program_that_cannot_start_says_why(string program, int status, string word)
    {
        if (program == "PLAIN-FILE")
        {
            program = directory.In("plain");
            await File.WriteAllTextAsync(program, "no program\n");
        }
        var end = (await TestRun.KeepAsync(directory, new CommandSpec { Arguments = [program] }))[^1].End!;
        (end.Outcome, end.ExitStatus).ShouldBe((RunOutcome.NotStarted, status));
        end.Reason!.ShouldContain(word);
    }

    [Fact]
    public async Task A_directory_that_is_not_there_runs_nothing()
    {
        var marker = directory.In("marker");
        var end = (await TestRun.KeepAsync(directory, new CommandSpec { Line = $"touch {marker}", WorkingDirectory = "/no/such/place" }))[^1].End!;
        end.Reason!.ShouldContain("/no/such/place");
        File.Exists(marker).ShouldBeFalse();
    }

    [Fact]
    public async Task A_signal_that_ends_the_command_is_named() =>
        (await KeepAsync("kill -SEGV $$"))[^1].End.ShouldBe(new RunEnd(RunOutcome.Signalled, 139, "Ended by signal SEGV."));

    [Fact]
    public async Task A_closed_pipe_ends_a_writer_as_it_does_in_a_shell() =>
        TestRun.Text(await KeepAsync("yes | head -n 1"), RunEventKind.Stdout).ShouldBe("y\n");

    [Fact]
    public async Task A_command_past_its_time_is_ended_with_all_its_children()
    {
        var pids = directory.In("pids");
        var events = await TestRun.KeepAsync(directory, new CommandSpec { Line = $"sleep 300 & echo $! > {pids}; echo before; sleep 300", TimeoutSeconds = 0.5 });
        events[^1].End!.Outcome.ShouldBe(RunOutcome.TimedOut);
        TestRun.Text(events, RunEventKind.Stdout).ShouldBe("before\n");
        await GoneAsync(pids);
    }

    [Fact]
    public async Task Cancelling_ends_the_group_what_ignores_it_and_what_fled_into_its_own_session()
    {
        var pids = directory.In("pids");
        var run = TestRun.Accept(directory, new CommandSpec { Line = $"trap '' TERM; setsid sleep 300 & echo $! > {pids}; sleep 300 & echo $! >> {pids}; echo ready; while :; do sleep 0.1; done" });
        await using var keeper = TestRun.StartKeeper(run);
        await Wait.UntilAsync(() => TestRun.Text(TestRun.Read(run), RunEventKind.Stdout) == "ready\n", "the command to run");
        File.WriteAllBytes(run.CancelFile, []);
        using (var socket = new System.Net.Sockets.Socket(System.Net.Sockets.AddressFamily.Unix, System.Net.Sockets.SocketType.Stream, 0))
        {
            await socket.ConnectAsync(new System.Net.Sockets.UnixDomainSocketEndPoint(run.Socket));
        }
        await Wait.UntilAsync(() => keeper.HasExited, "the keeper to end");
        TestRun.EndOf(run)!.Outcome.ShouldBe(RunOutcome.Cancelled);
        await GoneAsync(pids);
    }

    [Fact]
    public async Task A_run_cancelled_before_it_starts_runs_nothing()
    {
        var marker = directory.In("marker");
        var run = TestRun.Accept(directory, new CommandSpec { Line = $"touch {marker}" });
        File.WriteAllBytes(run.CancelFile, []);
        await using var keeper = TestRun.StartKeeper(run);
        await Wait.UntilAsync(() => keeper.HasExited, "the keeper to end");
        TestRun.EndOf(run)!.Outcome.ShouldBe(RunOutcome.Cancelled);
        File.Exists(marker).ShouldBeFalse();
    }

    [Fact]
    public async Task What_a_command_leaves_running_does_not_hold_up_its_end()
    {
        var pids = directory.In("pids");
        var events = await KeepAsync($"sleep 300 & echo $! > {pids}; echo started");
        events[^1].End!.ExitStatus.ShouldBe(0);
        TestRun.Text(events, RunEventKind.Stdout).ShouldBe("started\n");
        TestPrograms.Signal(int.Parse(File.ReadAllText(pids)), 9).ShouldBe(0, "a service that was started on purpose lives on");
    }

    [Fact]
    public async Task A_keeper_killed_in_the_middle_leaves_an_interrupted_run_that_never_starts_again()
    {
        var marker = directory.In("marker");
        var run = TestRun.Accept(directory, new CommandSpec { Line = $"echo x >> {marker}; echo part; sleep 300" });
        await using (var keeper = TestRun.StartKeeper(run))
        {
            await Wait.UntilAsync(() => TestRun.Text(TestRun.Read(run), RunEventKind.Stdout) == "part\n", "the first output");
            await keeper.KillAsync();
        }
        await using var second = TestRun.StartKeeper(run);
        await Wait.UntilAsync(() => second.HasExited, "the second keeper to end");
        TestRun.EndOf(run)!.Outcome.ShouldBe(RunOutcome.Interrupted);
        File.ReadAllText(marker).ShouldBe("x\n");
    }

    [Fact]
    public async Task A_torn_last_record_is_cut_off_and_the_rest_kept()
    {
        var run = TestRun.Accept(directory, new CommandSpec { Line = "echo fine" });
        await File.AppendAllBytesAsync(run.JournalFile, [40, 0, 0, 0, 1, 2, 3]);
        await using var keeper = TestRun.StartKeeper(run);
        await Wait.UntilAsync(() => keeper.HasExited, "the keeper to end");
        TestRun.Text(TestRun.Read(run), RunEventKind.Stdout).ShouldBe("fine\n");
    }

    [Fact]
    public async Task A_megabyte_of_output_arrives_whole_in_pieces_of_bounded_size()
    {
        var events = await KeepAsync("head -c 1000000 /dev/zero | tr '\\0' 'x'");
        events.Where(e => e.Kind == RunEventKind.Stdout).Sum(e => e.Data!.Length).ShouldBe(1_000_000);
        events.Where(e => e.Data is not null).ShouldAllBe(e => e.Data!.Length <= RunEvent.MaxDataBytes);
    }

    [Fact]
    public async Task While_the_disk_is_full_the_command_waits_and_nothing_is_lost()
    {
        // A small disk of its own in a mount namespace of its own; the shell that made it frees space when it is told to.
        var disk = directory.In("disk");
        Directory.CreateDirectory(disk);
        var template = TestRun.Accept(directory, new CommandSpec { Line = "head -c 400000 /dev/zero | tr '\\0' 'x'; echo done" });
        var script = $"""
            mount -t tmpfs -o size=600k tmpfs {disk} || exit 9
            cp -r {template.Path} {disk}/
            head -c 480000 /dev/zero > {disk}/ballast
            {TestPrograms.PathOf("umbrek-agent")} keeper {disk}/{Path.GetFileName(template.Path)} &
            keeper=$!
            while ! [ "$(df --output=avail {disk} | tail -1)" -lt 17 ]; do sleep 0.05; done
            echo full
            kill -0 $keeper && echo waits
            rm {disk}/ballast
            wait $keeper
            cp {disk}/{Path.GetFileName(template.Path)}/journal {template.JournalFile}
            """;
        string[] enter = Environment.IsPrivilegedProcess ? ["--mount"] : ["--mount", "--map-root-user", "--user"];
        var (status, stdout, stderr) = await TestPrograms.RunAsync("/usr/bin/unshare", [.. enter, "sh", "-c", script]);
        status.ShouldBe(0, stderr);
        stdout.ShouldBe("full\nwaits\n");
        var events = TestRun.Read(template);
        TestRun.Text(events, RunEventKind.Stdout).ShouldBe(new string('x', 400_000) + "done\n");
        events[^1].End!.ExitStatus.ShouldBe(0);
    }

    private Task<List<RunEvent>> KeepAsync(string line) => TestRun.KeepAsync(directory, new CommandSpec { Line = line });

    private static Task GoneAsync(string pids) => Wait.UntilAsync(
        () => File.ReadAllLines(pids).All(p => !Directory.Exists($"/proc/{p}") || File.ReadAllText($"/proc/{p}/stat").Contains(") Z ", StringComparison.Ordinal)),
        "every process of the command to be gone");
}
