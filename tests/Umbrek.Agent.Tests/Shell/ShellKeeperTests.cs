using System.Globalization;
using System.Security.Cryptography;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Agent.Shell;
using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;
using Umbrek.Tests;
using Umbrek.Wire.Shell;

namespace Umbrek.Agent.Tests.Shell;

public sealed class ShellKeeperTests : IDisposable
{
    private readonly TestDirectory directory = new();

    public void Dispose() => directory.Dispose();

    [Fact]
    public async Task A_command_with_pipes_keeps_its_streams_apart_and_its_status()
    {
        await using var shell = TestShell.Run(directory, "printf 'out\\000\\377'; echo err >&2; exit 3");
        using var side = await shell.AttendAsync();
        (await side.EndAsync()).ShouldBe(new RunEnd(RunOutcome.Exited, 3, null));
        side.Output.ShouldBe("out\0"u8.ToArray().Append((byte)0xff).ToArray());
        side.Errors.ShouldBe("err\n");
        side.Opened!.User.ShouldBe(Environment.UserName);
        await shell.GoneAsync();
    }

    [Fact]
    public async Task Input_arrives_to_the_byte_and_ends_when_it_is_said()
    {
        var sent = RandomNumberGenerator.GetBytes(300_000);
        await using var shell = TestShell.Run(directory, "sha256sum");
        using var side = await shell.AttendAsync();
        foreach (var piece in sent.Chunk(ShellWord.MaxData))
        {
            await side.Stream.WriteAsync(ShellStream.Input, piece, default);
        }
        await side.SayAsync(new ShellWord(InputEnds: true));
        (await side.EndAsync()).ExitStatus.ShouldBe(0);
        side.Text.ShouldBe(Convert.ToHexStringLower(SHA256.HashData(sent)) + "  -\n");
        side.Taken.ShouldBe(sent.Length);
    }

    [Fact]
    public async Task A_terminal_has_its_size_job_control_and_a_name()
    {
        await using var shell = TestShell.Start(directory, new ShellWish { Command = new CommandSpec { Arguments = ["/bin/sh"] }, Terminal = new TerminalSize(133, 41), TerminalType = "vt220" });
        using var side = await shell.AttendAsync();
        await side.TypeAsync("PS1=; stty size; echo $TERM; tty; echo who:$UMBREK_TECHNICIAN\r");
        await side.UntilSaidAsync("who:Ines Okafor");
        side.Text.ShouldContain("41 133");
        side.Text.ShouldContain("vt220");
        side.Text.ShouldContain("/dev/pts/");
        await side.SayAsync(new ShellWord(Size: new TerminalSize(0, 65535)));
        await side.TypeAsync("stty size\r");
        await side.UntilSaidAsync("1000 1\r\n");
        // Job control: a stopped job comes back, and Ctrl-C ends only what is in front. It says itself when it is in front, and starts nothing that could be stopped in its place.
        await side.TypeAsync("sh -c 'trap \"echo front \\$((1+2))\" CONT; echo front $((1+1)); while :; do :; done'\r");
        await side.UntilSaidAsync("front 2");
        await side.TypeAsync("\u001a");
        await side.UntilSaidAsync("Stopped");
        await side.TypeAsync("fg\r");
        await side.UntilSaidAsync("front 3");
        await side.TypeAsync("\u0003");
        await side.TypeAsync("echo still $((40+2))\r");
        await side.UntilSaidAsync("still 42");
        await side.TypeAsync("exit 7\r");
        (await side.EndAsync()).ExitStatus.ShouldBe(7);
        await shell.GoneAsync();
    }

    [Fact]
    public async Task It_goes_on_alone_and_whoever_comes_back_sees_what_was_missed()
    {
        await using var shell = TestShell.InTerminal(directory, "read a; echo first $a; read b; echo second $b; read c; echo third $c");
        long seen;
        string before;
        using (var side = await shell.AttendAsync())
        {
            await side.TypeAsync("one\r");
            await side.UntilSaidAsync("first one\r\n");
            await side.TypeAsync("two\r");
            await side.UntilAsync(() => side.Taken == 8, "the input to be taken");
            (seen, before) = (side.Seen, side.Text);
        }
        using var back = await shell.AttendAsync(seen);
        // A part of it may have come before the line broke.
        await back.UntilAsync(() => back.Opened is not null && (before + back.Text).Contains("second two\r\n", StringComparison.Ordinal), "what was missed");
        back.Opened!.Missed.ShouldBe(0);
        back.Text.ShouldNotContain("first");
        await back.TypeAsync("three\r");
        await back.EndAsync();
        back.Text.ShouldContain("third three");
    }

    [Fact]
    public async Task Input_that_was_not_taken_before_the_line_broke_can_be_said_again()
    {
        await using var shell = TestShell.Run(directory, "head -c 6; sleep 0.2; cat");
        long taken;
        using (var side = await shell.AttendAsync())
        {
            await side.TypeAsync("abc");
            await side.UntilAsync(() => side.Taken == 3, "the input to be taken");
            taken = side.Taken;
        }
        using var back = await shell.AttendAsync();
        await back.UntilAsync(() => back.Opened is not null, "it to open");
        back.Opened!.Taken.ShouldBe(taken);
        await back.TypeAsync("defghi");
        await back.SayAsync(new ShellWord(InputEnds: true));
        await back.EndAsync();
        back.Text.ShouldBe("abcdefghi");
    }

    [Fact]
    public async Task Of_a_terminal_that_nobody_watches_the_newest_is_kept_and_it_does_not_stand_still()
    {
        await using var shell = TestShell.InTerminal(directory, $"read a; head -c {3 * ShellKeeper.Remembered} /dev/zero | tr '\\0' x; touch {directory.In("through")}; echo END; read b");
        using (var side = await shell.AttendAsync())
        {
            await side.TypeAsync("\r");
            await side.UntilSaidAsync("xxx");
        }
        await Wait.UntilAsync(() => File.Exists(directory.In("through")), "the command to go on");
        using var back = await shell.AttendAsync(10);
        await back.UntilSaidAsync("END");
        back.Opened!.Missed.ShouldBeGreaterThan(ShellKeeper.Remembered);
        // The last line may have come after what was kept had been sent.
        back.Output.Length.ShouldBeLessThanOrEqualTo(ShellKeeper.Remembered + "END\r\n".Length);
    }

    [Fact]
    public async Task Of_pipes_nothing_is_dropped_however_long_nobody_reads()
    {
        var most = 5 * ShellKeeper.Remembered;
        await using var shell = TestShell.Run(directory, $"head -c {most} /dev/zero | tr '\\0' y");
        long seen;
        using (var side = await shell.AttendAsync())
        {
            await side.UntilAsync(() => side.Seen > 100_000, "some of it");
            seen = side.Seen;
        }
        using var back = await shell.AttendAsync(seen);
        (await back.EndAsync()).ExitStatus.ShouldBe(0);
        (seen + back.Output.Length).ShouldBe(most);
        back.Output.ShouldAllBe(b => b == (byte)'y');
    }

    [Fact]
    public async Task Whoever_reads_slowly_holds_the_command_up_and_nothing_piles_up()
    {
        await using var shell = TestShell.Run(directory, "yes");
        using var side = await shell.AttendAsync();
        side.Acknowledges = false;
        await side.UntilAsync(() => side.Seen >= ShellWord.Window, "the window to be full");
        side.Seen.ShouldBe(ShellWord.Window);
        var kept = new FileInfo($"/proc/{shell.Keeper.Pid}/statm");
        var pages = long.Parse(File.ReadAllText(kept.FullName).Split(' ')[1], CultureInfo.InvariantCulture);
        (pages * Environment.SystemPageSize).ShouldBeLessThan(100L << 20);
        side.Acknowledges = true;
        await side.SayAsync(new ShellWord(Seen: side.Seen));
        await side.UntilAsync(() => side.Seen >= 3 * ShellWord.Window, "it to go on");
        await side.SayAsync(new ShellWord(Signal: ShellSignal.Terminate));
        (await side.EndAsync()).ExitStatus.ShouldBe(128 + 15);
    }

    [Fact]
    public async Task A_later_side_takes_the_place_of_an_earlier()
    {
        await using var shell = TestShell.InTerminal(directory, "read a; echo got $a");
        using var first = await shell.AttendAsync();
        await first.UntilAsync(() => first.Opened is not null, "it to open");
        using var second = await shell.AttendAsync();
        await first.UntilAsync(() => first.Displaced, "it to be told");
        await second.TypeAsync("this\r");
        await second.EndAsync();
        second.Text.ShouldContain("got this");
    }

    [Fact]
    public async Task Ending_it_ends_what_runs_in_it_but_not_what_was_told_to_outlive_it()
    {
        var pids = directory.In("pids");
        await using var shell = TestShell.InTerminal(directory, $"nohup sleep 300 >/dev/null 2>&1 & echo $! > {pids}; until grep -q ^sleep /proc/$!/cmdline; do :; done; sleep 300 & echo $! >> {pids}; trap '' HUP TERM; echo ready; while :; do sleep 0.1; done");
        using var side = await shell.AttendAsync();
        await side.UntilSaidAsync("ready");
        await side.SayAsync(new ShellWord(End: true));
        (await side.EndAsync()).Reason.ShouldBe("ended by its technician");
        var started = (await File.ReadAllLinesAsync(pids)).Select(l => int.Parse(l, CultureInfo.InvariantCulture)).ToList();
        await Wait.UntilAsync(() => !Directory.Exists($"/proc/{started[1]}"), "its child to end");
        Directory.Exists($"/proc/{started[0]}").ShouldBeTrue();
        System.Diagnostics.Process.GetProcessById(started[0]).Kill();
        await shell.GoneAsync();
    }

    [Fact]
    public async Task Nobody_comes_back_and_it_ends()
    {
        await using var shell = TestShell.Start(directory, new ShellWish { Command = new CommandSpec { Line = "sleep 300" }, KeepSeconds = 1 });
        using (var side = await shell.AttendAsync())
        {
            await side.UntilAsync(() => side.Opened is not null, "it to open");
        }
        await shell.GoneAsync();
    }

    [Fact]
    public async Task Without_a_key_it_warns_and_ends_and_a_key_in_time_keeps_it()
    {
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var kept = new ShellDirectory(directory.In(Guid.CreateVersion7().ToString("N")));
        Directory.CreateDirectory(kept.Path);
        kept.Write(new KeptShell(TestShell.Technician, "Ines Okafor", new ShellWish { Command = new CommandSpec { Line = "cat" }, Terminal = TerminalSize.Usual, IdleSeconds = 600, KeepSeconds = 3600 }, time.GetUtcNow()));
        var keeping = new ShellKeeper(kept, new LinuxShellRunner(), time).RunAsync(default);
        using var side = await TestShell.AttendAsync(kept);
        await side.UntilAsync(() => side.Opened is not null, "it to open");
        for (var round = 0; round < 2; round++)
        {
            time.Advance(TimeSpan.FromMinutes(9));
            var typed = $"key {round}";
            await side.UntilAsync(() => side.Notices == round + 1, "a word of warning");
            side.Notice!.ShouldContain("No key was pressed for 9 min");
            await side.TypeAsync(typed + "\n");
            await side.UntilSaidAsync(typed);
            // Still there, more than ten minutes after the first key would have been due.
            side.Ended.ShouldBeNull();
        }
        time.Advance(TimeSpan.FromMinutes(10));
        // What runs in it is told, and given a moment of the same clock.
        var ending = side.UntilAsync(() => side.Ended is not null, "its end");
        await Wait.UntilAsync(
            () =>
            {
                // Slowly enough for what runs to keep pace with it.
                time.Advance(TimeSpan.FromMilliseconds(250));
                return ending.IsCompleted;
            },
            "its end");
        await ending;
        side.Ended!.Reason!.ShouldContain("no key was pressed for 10 min");
        await side.SayAsync(new ShellWord(End: true));
        await Wait.UntilAsync(
            () =>
            {
                time.Advance(TimeSpan.FromSeconds(1));
                return keeping.IsCompleted;
            },
            "the keeper to end");
        await keeping;
    }

    [Theory]
    [InlineData("no-such-user", 126, "no user 'no-such-user'")]
    [InlineData(null, 127, "no program 'no-such-program'")]
    public async Task What_can_not_start_says_why(string? user, int status, string word)
    {
        await using var shell = TestShell.Start(directory, new ShellWish { Command = new CommandSpec { Arguments = ["no-such-program"] }, User = user });
        using var side = await shell.AttendAsync();
        var end = await side.EndAsync();
        (end.Outcome, end.ExitStatus).ShouldBe((RunOutcome.NotStarted, status));
        end.Reason!.ShouldContain(word);
        await shell.GoneAsync();
    }

    [Fact]
    public async Task Another_user_is_that_user_with_his_own_home_and_groups()
    {
        Assert.SkipUnless(Environment.IsPrivilegedProcess, "Only root can act as somebody else.");
        await using var shell = TestShell.Start(directory, new ShellWish { Command = new CommandSpec { Line = "id -un; id -gn; echo $HOME $USER $LOGNAME; cat /proc/self/status | grep -c '^Groups:.*\\b0\\b'; pwd", Shell = "/bin/sh" }, User = "games" });
        using var side = await shell.AttendAsync();
        await side.EndAsync();
        side.Text.ShouldStartWith("games\ngames\n/usr/games games games\n0\n");
        side.Opened!.User.ShouldBe("games");
    }

    [Fact]
    public async Task Words_that_are_none_and_endless_input_close_the_line_and_nothing_else()
    {
        await using var shell = TestShell.InTerminal(directory, "sleep 1000");
        using (var hostile = await shell.AttendAsync())
        {
            await hostile.UntilAsync(() => hostile.Opened is not null, "it to open");
            await hostile.Stream.WriteWordAsync("{\"size\":"u8.ToArray(), default);
            await Should.ThrowAsync<IOException>(() => hostile.UntilAsync(() => false, "nothing"));
        }
        using (var hostile = await shell.AttendAsync())
        {
            await Should.ThrowAsync<IOException>(async () =>
            {
                for (var i = 0; i < 10_000; i++)
                {
                    await hostile.Stream.WriteAsync(ShellStream.Input, new byte[ShellWord.MaxData], default);
                }
            });
        }
        using var side = await shell.AttendAsync();
        await side.SayAsync(new ShellWord(End: true));
        (await side.EndAsync()).Outcome.ShouldBe(RunOutcome.Signalled);
    }
}
