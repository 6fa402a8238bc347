using System.Text.Json;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Hosting;

public sealed class ProgramsTests
{
    [Fact]
    public async Task The_demo_checks_itself_through_the_real_client_and_agent()
    {
        var (status, stdout, stderr) = await TestPrograms.RunAsync("umbrek-sim", ["demo", "--check"], seconds: 300);
        status.ShouldBe(0, stdout + stderr);
        stdout.ShouldContain("umbrek was here");
        stdout.ShouldContain("check passed");
    }

    [Fact]
    public async Task What_it_is_made_of_is_told_from_what_is_locked()
    {
        var (status, stdout, stderr) = await TestPrograms.RunAsync("/usr/bin/env", ["node", Path.Combine(TestPrograms.Root, "scripts", "materials.mjs")]);
        status.ShouldBe(0, stderr);
        using var bill = JsonDocument.Parse(stdout);
        bill.RootElement.GetProperty("specVersion").GetString().ShouldBe("1.6");
        var known = bill.RootElement.GetProperty("components").EnumerateArray().Select(c => c.GetProperty("bom-ref").GetString()!).ToList();
        known.ShouldBeUnique();
        foreach (var part in (string[])["pkg:nuget/Npgsql@", "pkg:nuget/System.CommandLine@", "pkg:npm/react@", "pkg:npm/%40mantine/core@"])
        {
            known.Count(k => k.StartsWith(part, StringComparison.Ordinal)).ShouldBe(1, part);
        }
        // What only builds and tests is not in it.
        known.ShouldNotContain(k => k.StartsWith("pkg:npm/vitest@", StringComparison.Ordinal) || k.StartsWith("pkg:nuget/xunit", StringComparison.Ordinal));
        var needed = bill.RootElement.GetProperty("dependencies").EnumerateArray().SelectMany(d => d.GetProperty("dependsOn").EnumerateArray()).Select(d => d.GetString()!);
        needed.Except(known).ShouldBeEmpty();
        known.Except(needed).ShouldBeEmpty();
    }

    [Fact]
    public async Task A_service_with_another_key_is_refused_by_agent_and_client_with_the_reason()
    {
        await using var world = await World.StartAsync(ownProcess: true);
        await world.EnrolAsync("plover-log-01");
        await world.SignInClientAsync();
        await world.Service.StopAsync();
        File.Delete(world.In("service/tls.crt"));
        File.Delete(world.In("service/tls.key"));
        await world.StartServiceAsync();

        var agent = world.StartAgent("plover-log-01");
        await agent.UntilSaidAsync("another key than the one that is trusted");
        var (status, stdout, _) = await TestPrograms.RunAsync("umbrek-agent", ["status", "--state", world.StateOf("plover-log-01")]);
        status.ShouldBe(1);
        stdout.ShouldContain("another key");
        var listed = await world.ClientAsync(null, "host", "list");
        listed.Status.ShouldBe(1);
        listed.Stderr.ShouldContain("another key than the one that is trusted");
        (await TestPrograms.RunAsync("umbrek-agent", ["enrol", "--service", $"{world.Address}", "--token", Core.Enrolment.EnrolmentTokenText.Create(world.Pin.Sha256).ToString(), "--state", world.In("other")]))
            .Stderr.ShouldContain("another key");
    }

    [Fact]
    public async Task An_identity_is_its_owners_alone_and_one_agent_runs_with_it()
    {
        await using var world = await World.StartAsync();
        await world.JoinAsync("plover-log-01");
        File.GetUnixFileMode(Path.Combine(world.StateOf("plover-log-01"), "identity.json")).ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite);
        File.GetUnixFileMode(world.In("service/tls.key")).ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite);
        var second = await TestPrograms.RunAsync("umbrek-agent", ["run", "--state", world.StateOf("plover-log-01")]);
        second.Status.ShouldBe(1);
        second.Stderr.ShouldContain("Another agent");
        var again = await TestPrograms.RunAsync("umbrek-agent", ["enrol", "--service", $"{world.Address}", "--token", await world.NewTokenAsync(), "--state", world.StateOf("plover-log-01")]);
        again.Stderr.ShouldContain("enrolled already");
        // The service knows of the link a moment before the agent has written down that it has one.
        var status = (Status: -1, Stdout: "", Stderr: "");
        await Wait.UntilAsync(async () => (status = await TestPrograms.RunAsync("umbrek-agent", ["status", "--state", world.StateOf("plover-log-01")])).Stdout.Contains("linked since", StringComparison.Ordinal), "the agent to say that it is linked");
        status.Status.ShouldBe(0);
    }

    [Fact]
    public async Task An_agent_that_is_stopped_says_so_and_comes_back_by_itself_after_the_service_did()
    {
        await using var world = await World.StartAsync(ownProcess: true);
        var agent = await world.JoinAsync("plover-log-01");
        await agent.StopAsync();
        await world.UntilAsync("plover-log-01", "away");
        (await world.HostAsync("plover-log-01")).Presence.Reason.ShouldBe(Core.Estate.AwayReason.AgentStopped);
        world.StartAgent("plover-log-01");
        await world.UntilAsync("plover-log-01", "linked");
        await world.Service.StopAsync();
        world.Service.ExitCode.ShouldBe(0);
        await world.StartServiceAsync();
        await world.UntilAsync("plover-log-01", "linked");
    }

    [Fact]
    public async Task An_agent_that_freezes_is_noticed_by_its_silence_and_comes_back_when_it_thaws()
    {
        await using var world = await World.StartAsync();
        var agent = await world.JoinAsync("plover-log-01");
        const int stop = 19;
        const int go = 18;
        TestPrograms.Signal(agent.Pid, stop).ShouldBe(0);
        // Two pings go unanswered before that is taken for silence: 25 s.
        await world.UntilAsync("plover-log-01", "away", 60);
        (await world.HostAsync("plover-log-01")).Presence.Reason.ShouldBe(Core.Estate.AwayReason.LostContact);
        TestPrograms.Signal(agent.Pid, go).ShouldBe(0);
        await world.UntilAsync("plover-log-01", "linked");
    }

    [Fact]
    public async Task A_service_says_at_its_start_that_it_may_open_few_files_and_that_others_could_read_what_it_keeps()
    {
        using var directory = new TestDirectory();
        File.SetUnixFileMode(directory.Path, (UnixFileMode)0b111_101_101);
        await using var service = TestPrograms.Start("/bin/sh", ["-c", $"ulimit -n 1000; exec {TestPrograms.PathOf("umbrekd")} serve --data {directory.Path} --listen http://127.0.0.1:{TestPorts.Next()}"]);
        await service.UntilSaidAsync("ready", Wait.StartSeconds);
        service.Lines.ShouldContain(l => l.StartsWith("note:", StringComparison.Ordinal) && l.Contains("1000 files", StringComparison.Ordinal));
        service.Lines.ShouldContain($"note: {directory.Path} was open to other users of this machine (mode 755); it is closed now. If others have accounts here, change what it keeps: passwords, access keys and secrets.");
        File.GetUnixFileMode(directory.Path).ShouldBe((UnixFileMode)0b111_000_000);
        // And nobody else reads what it writes, wherever that lies.
        File.ReadLines($"/proc/{service.Pid}/status").ShouldContain("Umask:\t0077");
        Directory.GetFiles(directory.Path).ShouldNotBeEmpty();
        Directory.GetFiles(directory.Path).ShouldAllBe(f => (File.GetUnixFileMode(f) & (UnixFileMode)0b000_111_111) == 0);
    }

    [Theory]
    [InlineData("--listen http://0.0.0.0:8080", "this machine itself only")]
    [InlineData("--certificate /nowhere.pem", "belong together")]
    [InlineData("--sample-interval 0", "1 to 3600")]
    [InlineData("--database Host=127.0.0.1;Port=1;Timeout=2", "can't start")]
    public async Task A_service_that_cannot_start_says_why_in_a_sentence(string options, string word)
    {
        using var directory = new TestDirectory();
        var (status, _, stderr) = await TestPrograms.RunAsync("umbrekd", ["serve", "--data", directory.Path, .. options.Split(' ')]);
        status.ShouldBe(1);
        stderr.ShouldContain(word);
        stderr.ShouldNotContain("   at ");
    }

    [Fact, Trait("Journey", "Worst")]
    public async Task The_client_does_the_main_job_and_its_status_tells_the_outcome()
    {
        await using var world = await World.StartAsync(ownProcess: true);
        (await world.ClientAsync(null, "host", "list")).Status.ShouldBe(6);
        var untrusted = await world.ClientAsync(World.Password + "\n", "sign-in", $"{world.Address}", "--name", World.Name, "--password-stdin");
        untrusted.Status.ShouldBe(1);
        untrusted.Stderr.ShouldContain($"--trust {world.Pin}");
        await world.SignInClientAsync();
        File.GetUnixFileMode(world.In("client/sign-in.json")).ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite);

        var made = JsonDocument.Parse((await world.ClientAsync(null, "installer", "new", "--group", World.Group, "--uses", "2", "--output", "json")).Stdout).RootElement;
        var token = made.GetProperty("token").GetString()!;
        await world.JoinAsync("quay-ticket-01", token);
        await world.JoinAsync("quay-ticket-02", token);
        (await world.ClientAsync(null, "installer", "list", "--output", "csv")).Stdout.ShouldContain("used up,2 of 2");

        var listed = JsonDocument.Parse((await world.ClientAsync(null, "host", "list", "is linked", "--output", "json")).Stdout).RootElement;
        listed.EnumerateArray().Select(h => h.GetProperty("label").GetString()).ShouldBe(["quay-ticket-01", "quay-ticket-02"]);
        (await world.ClientAsync(null, "host", "show", "quay-ticket-01")).Stdout.ShouldContain("os.kernel");

        var run = await world.ClientAsync(null, "run", "--on", "quay-ticket-*", "--", "echo hello; echo oops >&2");
        run.Status.ShouldBe(0, run.Stderr);
        run.Stdout.Split('\n', StringSplitOptions.RemoveEmptyEntries).Order().ShouldBe(["quay-ticket-01 | hello", "quay-ticket-02 | hello"]);
        run.Stderr.ShouldContain("quay-ticket-01 ! oops");

        (await world.ClientAsync(null, "run", "--on", "quay-ticket-01", "--", "sh", "-c", "exit 3")).Status.ShouldBe(3);
        (await world.ClientAsync(null, "run", "--on", "nobody", "--", "true")).Status.ShouldBe(4);
        (await world.ClientAsync(null, "run", "--on", "quay-ticket-01 and", "--", "true")).Status.ShouldBe(2);
        await world.EnrolAsync("dunlin-log-01");
        var waits = await world.ClientAsync(null, "run", "--on", "dunlin-log-01", "--", "true");
        waits.Status.ShouldBe(5);
        waits.Stderr.ShouldContain("dunlin-log-01 is away; its run waits until");

        var results = JsonDocument.Parse((await world.ClientAsync(null, "run", "--on", "quay-ticket-*", "--output", "json", "--", "id -un")).Stdout).RootElement;
        results.EnumerateArray().Select(r => r.GetProperty("stdout").GetString()).ShouldAllBe(s => s == Environment.UserName + "\n");
        var job = results[0].GetProperty("jobId").GetString()!;
        (await world.ClientAsync(null, "job", "show", job[^8..])).Stdout.ShouldContain("quay-ticket-02");
        (await world.ClientAsync(null, "job", "output", job, "--host", "quay-ticket-01")).Stdout.ShouldBe(Environment.UserName + "\n");
        (await world.ClientAsync(null, "[suggest:18]", "umbrek host show q")).Stdout.ShouldContain("quay-ticket-01");
        var cancelled = JsonDocument.Parse((await world.ClientAsync(null, "job", "cancel", job, "--output", "json")).Stdout).RootElement;
        cancelled.GetProperty("cancelledBy").GetString().ShouldBe(World.Name);
        var tokens = JsonDocument.Parse((await world.ClientAsync(null, "installer", "list", "--output", "json")).Stdout).RootElement;
        var revoked = JsonDocument.Parse((await world.ClientAsync(null, "installer", "revoke", tokens[0].GetProperty("id").GetString()!, "--output", "json")).Stdout).RootElement;
        revoked.GetProperty("state").GetString().ShouldBe("revoked");
        var refreshed = JsonDocument.Parse((await world.ClientAsync(null, "host", "refresh", "quay-ticket-01", "--output", "json")).Stdout).RootElement;
        refreshed.GetProperty("facts").GetArrayLength().ShouldBeGreaterThan(10);
        var left = JsonDocument.Parse((await world.ClientAsync(null, "sign-out", "--output", "json")).Stdout).RootElement;
        left.GetProperty("signedIn").GetBoolean().ShouldBeFalse();
        (await world.ClientAsync(null, "host", "list")).Status.ShouldBe(6);
    }
}
