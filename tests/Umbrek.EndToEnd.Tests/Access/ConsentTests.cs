using System.Buffers.Binary;
using System.Text;
using Umbrek.Core.Access;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Enrolment;

namespace Umbrek.EndToEnd.Tests.Access;

/// <summary>A person at a terminal of the host is asked before a technician's command, and answers there.</summary>
public sealed class ConsentTests
{
    [Fact]
    public async Task Whoever_is_logged_in_is_asked_on_their_terminal_and_their_answer_counts()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        await world.SignInClientAsync();
        var host = await lan.AddAsync("orrin-desk-03", adjust: "mount -t tmpfs tmpfs /run");
        var policy = HostPolicy.Everything with { Consent = ConsentRule.WhenSomebodyIsLoggedIn, Notice = NoticeRule.During, PutOffMinutes = 10 };
        (await host.RunAsync(world.SilentLine(await world.NewInstallerAsync(new NewInstaller(World.Group, Policy: policy))))).Status.ShouldBe(0);

        // Nobody is there: nobody is asked.
        var alone = await RunAsync(world, "echo alone");
        (alone.Status, alone.Stdout).ShouldBe((0, "orrin-desk-03 | alone\n"), alone.Stderr);

        await host.RunAsync("echo 'elin:x:4242:4242::/tmp:/bin/sh' >>/etc/passwd");
        await using var terminal = host.Start("script -qfc 'tty >/root/tty; sleep 1000' /root/screen");
        string line = "";
        await Wait.UntilAsync(async () => (line = (await host.RunAsync("cat /root/tty")).Stdout.Trim()).StartsWith("/dev/pts/", StringComparison.Ordinal), "the terminal");
        (await host.RunAsync("base64 -d >/run/utmp", Convert.ToBase64String(Login("elin", line["/dev/".Length..])))).Status.ShouldBe(0);

        var refused = RunAsync(world, "touch /root/refused");
        await SeesAsync(host, "asks to run commands on this computer");
        var screen = (await host.RunAsync("cat /root/screen")).Stdout;
        screen.ShouldContain("    touch /root/refused");
        screen.ShouldContain("umbrek-agent consent agree 1");
        // Not everybody may answer.
        var stranger = await host.RunAsync("setpriv --reuid=4343 --regid=4343 --clear-groups umbrek-agent consent agree 1");
        (stranger.Status, stranger.Stderr.Trim()).ShouldBe((1, "user 4343 is not logged in here; only somebody who is may answer."));
        (await host.RunAsync("setpriv --reuid=4242 --regid=4242 --clear-groups umbrek-agent consent")).Stdout.ShouldContain("asks to run commands, until");
        var no = await host.RunAsync("setpriv --reuid=4242 --regid=4242 --clear-groups umbrek-agent consent refuse 1");
        no.Status.ShouldBe(0, no.Stderr);
        var (status, _, stderr) = await refused;
        (status, stderr.Contains("elin, who is logged in there, has refused it. Nothing was run.", StringComparison.Ordinal)).ShouldBe((3, true), stderr);
        (await host.RunAsync("ls /root/refused")).Status.ShouldNotBe(0);
        (await host.RunAsync("umbrek-agent consent agree")).Stdout.Trim().ShouldBe("No technician asks for anything on this computer now.");

        var agreed = RunAsync(world, "echo agreed to");
        await AskedAsync(host, "echo agreed to");
        (await host.RunAsync("setpriv --reuid=4242 --regid=4242 --clear-groups umbrek-agent consent agree")).Status.ShouldBe(0);
        (await agreed).Stdout.ShouldContain("agreed to");
        await SeesAsync(host, "begins now on this computer: echo agreed to");
        await SeesAsync(host, "has ended on this computer: echo agreed to");

        // A shell is asked about, and told of, as a command is.
        var noShell = ShellAsync(world, "touch /root/refused");
        await AskedAsync(host, "touch /root/refused");
        (await host.RunAsync("setpriv --reuid=4242 --regid=4242 --clear-groups umbrek-agent consent refuse")).Status.ShouldBe(0);
        var (shellStatus, _, shellStderr) = await noShell;
        (shellStatus, shellStderr.Contains("elin, who is logged in there, has refused it.", StringComparison.Ordinal)).ShouldBe((1, true), shellStderr);
        (await host.RunAsync("ls /root/refused")).Status.ShouldNotBe(0);
        var shell = ShellAsync(world, "echo in a shell; exit 7");
        await AskedAsync(host, "echo in a shell");
        (await host.RunAsync("setpriv --reuid=4242 --regid=4242 --clear-groups umbrek-agent consent agree")).Status.ShouldBe(0);
        var inShell = await shell;
        (inShell.Status, inShell.Stdout).ShouldBe((7, "in a shell\n"), inShell.Stderr);
        await SeesAsync(host, "begins now on this computer: echo in a shell");
        await SeesAsync(host, "has ended on this computer: echo in a shell");

        // What would end their work they are told of, and may put off; once called off it does not come.
        var leaving = world.ClientAsync(null, "power", "log-out", "--on", "orrin-desk-03", "--person", "elin", "--grace", "5min", "--message", "the floor is painted", "--yes");
        await AskedAsync(host, "log elin out");
        (await host.RunAsync("setpriv --reuid=4242 --regid=4242 --clear-groups umbrek-agent consent agree")).Status.ShouldBe(0);
        await SeesAsync(host, "UTC: the floor is painted");
        await SeesAsync(host, "To put it off by some minutes, 10 at most:  umbrek-agent put-off 15");
        (await host.RunAsync("umbrek-agent put-off 0")).Stderr.ShouldContain("put off by 1 to 1440 minutes");
        (await host.RunAsync("setpriv --reuid=4242 --regid=4242 --clear-groups umbrek-agent put-off 3")).Stdout.ShouldBe("It is put off by 3 min.\n");
        (await host.RunAsync("setpriv --reuid=4242 --regid=4242 --clear-groups umbrek-agent put-off 60")).Stdout.ShouldBe("It is put off by 7 min.\n");
        var refusedMore = await host.RunAsync("setpriv --reuid=4242 --regid=4242 --clear-groups umbrek-agent put-off");
        (refusedMore.Status, refusedMore.Stdout).ShouldBe((1, "Nothing is about to happen on this computer that can be put off.\n"));
        var job = (await world.Api.GetAsync("jobs", WireJson.Default.PageJobInfo, default)).Items[0].Id;
        await Wait.UntilAsync(async () => (await world.JobAsync(job)).Runs[0].Reason?.StartsWith("elin has put it off by 7 min. elin is logged in there and has been told; it is done at ", StringComparison.Ordinal) == true, "the technician to be told");
        (await world.ClientAsync(null, "job", "cancel", $"{job}")).Status.ShouldBe(0);
        (await leaving).Stderr.ShouldContain("elin is logged in there and has been told; it is done at ");
        await SeesAsync(host, "does not do it after all: log elin out");
        (await world.ClientAsync(null, "power", "log-out", "--on", "orrin-desk-03", "--person", "elin", "--grace", "0", "--yes", "--plain")).Stdout.ShouldBe("elin is logged out.\n");
        await Wait.UntilAsync(() => terminal.HasExited, "the terminal to end");

        (await world.Api.GetAsync("audit?action=power", WireJson.Default.PageAuditInfo, default)).Items.Select(l => (l.Action, l.Actor)).ShouldBe([("power.put-off", "elin at orrin-desk-03"), ("power.put-off", "elin at orrin-desk-03")]);
        var lines = (await world.Api.GetAsync("audit?action=consent", WireJson.Default.PageAuditInfo, default)).Items;
        lines.Select(l => (l.Action, l.Actor)).ShouldBe([("consent.agree", "elin at orrin-desk-03"), ("consent.agree", "elin at orrin-desk-03"), ("consent.refuse", "elin at orrin-desk-03"), ("consent.agree", "elin at orrin-desk-03"), ("consent.refuse", "elin at orrin-desk-03")]);
    }

    private static Task<(int Status, string Stdout, string Stderr)> RunAsync(World world, string line) =>
        world.ClientAsync(null, "run", "--on", "orrin-desk-03", "--", line);

    private static Task<(int Status, string Stdout, string Stderr)> ShellAsync(World world, string line) =>
        world.ClientAsync(null, "shell", "orrin-desk-03", "--", line);

    private static Task AskedAsync(LanHost host, string words) =>
        Wait.UntilAsync(async () => (await host.RunAsync("umbrek-agent consent")).Stdout.Contains(words, StringComparison.Ordinal), "the question");

    private static Task SeesAsync(LanHost host, string words) =>
        Wait.UntilAsync(async () => (await host.RunAsync("cat /root/screen")).Stdout.Contains(words, StringComparison.Ordinal), words);

    /// <summary>A record of utmp(5), as a login program leaves it.</summary>
    private static byte[] Login(string name, string terminal)
    {
        var record = new byte[384];
        BinaryPrimitives.WriteInt16LittleEndian(record, 7);
        Encoding.ASCII.GetBytes(terminal).CopyTo(record, 8);
        Encoding.ASCII.GetBytes(name).CopyTo(record, 44);
        return record;
    }
}
