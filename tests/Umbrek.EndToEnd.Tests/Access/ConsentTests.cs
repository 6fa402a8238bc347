using System.Buffers.Binary;
using System.Text;
using Umbrek.Core.Access;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Enrolment;

namespace Umbrek.EndToEnd.Tests.Access;

/// <summary>A person at a terminal of the host is asked before a technician's command, and answers there.</summary>
[Collection("lan")]
public sealed class ConsentTests
{
    [Fact]
    public async Task Whoever_is_logged_in_is_asked_on_their_terminal_and_their_answer_counts()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan: true);
        await world.SignInClientAsync();
        var host = await lan.AddAsync("orrin-desk-03", adjust: "mount -t tmpfs tmpfs /run");
        var policy = HostPolicy.Everything with { Consent = ConsentRule.WhenSomebodyIsLoggedIn, Notice = NoticeRule.During };
        (await host.RunAsync(world.SilentLine(await world.NewInstallerAsync(new NewInstaller(World.Group, Policy: policy))))).Status.ShouldBe(0);

        // Nobody is there: nobody is asked.
        (await RunAsync(world, "echo alone")).Stdout.ShouldContain("alone");

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
        await Wait.UntilAsync(async () => (await host.RunAsync("umbrek-agent consent")).Stdout.Contains("echo agreed to", StringComparison.Ordinal), "the question");
        (await host.RunAsync("setpriv --reuid=4242 --regid=4242 --clear-groups umbrek-agent consent agree")).Status.ShouldBe(0);
        (await agreed).Stdout.ShouldContain("agreed to");
        await SeesAsync(host, "begins now on this computer: echo agreed to");
        await SeesAsync(host, "has ended on this computer: echo agreed to");

        var lines = (await world.Api.GetAsync("audit?action=consent", WireJson.Default.PageAuditInfo, default)).Items;
        lines.Select(l => (l.Action, l.Actor)).ShouldBe([("consent.agree", "elin at orrin-desk-03"), ("consent.refuse", "elin at orrin-desk-03")]);
    }

    private static Task<(int Status, string Stdout, string Stderr)> RunAsync(World world, string line) =>
        world.ClientAsync(null, "run", "--on", "orrin-desk-03", "--", line);

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
