using System.Net;
using System.Security.Cryptography;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Enrolment;
using Umbrek.Tests;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Tests.Enrolment;

/// <summary>
/// Replacing an installed agent, with the real launch script and small programs in the agent's place that note that they ran.
/// </summary>
public sealed class UpdateTests : IDisposable
{
    private readonly TestDirectory directory = new();
    private readonly StateDirectory state;
    private readonly Installation installation;
    private readonly InstalledUpdate update;
    private readonly ECDsa key = ECDsa.Create(ECCurve.NamedCurves.nistP256);

    public UpdateTests()
    {
        state = new StateDirectory(directory.In("state"));
        state.Create();
        installation = new Installation(directory.In("program"), "nothing");
        update = new InstalledUpdate(installation, state);
        installation.PointTo(installation.Place(Program("old", Healthy), "0.1.0"));
        File.WriteAllText(installation.Launch, LaunchScript.Text(installation.Directory, state.Path, new Dictionary<string, string>(), null, trialSeconds: 2));
    }

    /// <summary>Runs until it is stopped, and proves itself as the agent does when it is linked.</summary>
    private const string Healthy = "rm -f PROGRAM/trial; exec sleep 300";

    /// <summary>Runs, and never comes as far as a link.</summary>
    private const string Mute = "exec sleep 300";
    private const string Crashing = "exit 3";

    public void Dispose()
    {
        key.Dispose();
        directory.Dispose();
    }

    [Fact]
    public async Task A_power_cut_between_any_two_steps_leaves_a_program_that_starts()
    {
        var next = Program("new", Healthy);
        var manifest = Manifest(next, "0.2.0");
        var steps = update.Steps(manifest).Count();
        for (var cut = 0; cut <= steps; cut++)
        {
            Reset();
            File.Copy(next, Path.Combine(installation.Directory, "incoming"));
            foreach (var step in update.Steps(manifest).Take(cut))
            {
                step();
            }
            // The power is back.
            await using var launched = TestPrograms.Start("/bin/sh", [installation.Launch]);
            await launched.UntilSaidAsync("started");
            launched.Said("started").ShouldBe(cut < steps ? "old" : "new", $"cut after step {cut}");
            await Wait.UntilAsync(() => !File.Exists(installation.TrialFile), "the trial to end");
            File.Exists(installation.WentBackFile).ShouldBeFalse($"cut after step {cut}");
        }
        steps.ShouldBeGreaterThan(3);
    }

    [Theory]
    [InlineData(Crashing, "ended 3 times")]
    [InlineData(Mute, "not linked within 2 s")]
    public async Task A_new_version_that_does_not_prove_itself_goes_back_by_itself_and_says_why(string body, string why)
    {
        var next = Program("new", body);
        var manifest = Manifest(next, "0.2.0");
        File.Copy(next, Path.Combine(installation.Directory, "incoming"));
        StateDirectory.WriteWhole(Path.Combine(state.Path, "update.json"), manifest, AgentJson.Default.ReleaseManifest);
        // A link that is made again meanwhile has nothing to tell, and forgets nothing.
        update.Report().ShouldBeNull();
        update.Reported();
        foreach (var step in update.Steps(manifest))
        {
            step();
        }
        await using var launched = TestPrograms.Start("/bin/sh", [installation.Launch]);
        await launched.UntilSaidAsync("started new");
        await launched.UntilSaidAsync("started old");
        installation.CurrentVersion.ShouldStartWith("0.1.0-");
        var report = update.Report().ShouldNotBeNull();
        report.Version.ShouldBe("0.2.0");
        report.WentBack.ShouldBeTrue();
        report.Reason.ShouldContain(why);
        update.Reported();
        update.Report().ShouldBeNull();
    }

    [Fact]
    public async Task Power_cuts_during_the_trial_are_not_held_against_a_good_version_and_a_bad_one_does_not_last_over_them()
    {
        var next = Program("new", Mute);
        var manifest = Manifest(next, "0.2.0");
        File.Copy(next, Path.Combine(installation.Directory, "incoming"));
        foreach (var step in update.Steps(manifest))
        {
            step();
        }
        for (var cut = 0; cut < LaunchScript.TrialStarts; cut++)
        {
            var launched = TestPrograms.Start("/usr/bin/setsid", ["/bin/sh", installation.Launch]);
            await launched.UntilSaidAsync("started new");
            await TestPrograms.RunAsync("/bin/sh", ["-c", $"pkill -KILL -s {launched.Pid}; true"]);
            await launched.DisposeAsync();
        }
        await using var last = TestPrograms.Start("/bin/sh", [installation.Launch]);
        await last.UntilSaidAsync("started old");
    }

    [Fact]
    public async Task The_launch_script_starts_again_what_ends_and_stops_what_it_started_when_it_is_stopped()
    {
        installation.PointTo(installation.Place(Program("brief", "exit 0"), "0.1.1"));
        await using (var launched = TestPrograms.Start("/bin/sh", [installation.Launch]))
        {
            await Wait.UntilAsync(() => launched.Lines.Count(l => l == "started brief") >= 2, "a second start");
        }
        installation.PointTo(installation.Place(Program("long", $"echo $$ >{directory.Path}/pid; exec sleep 300"), "0.1.2"));
        var running = TestPrograms.Start("/bin/sh", [installation.Launch]);
        await Wait.UntilAsync(() => File.Exists(directory.In("pid")) && File.ReadAllText(directory.In("pid")).Length > 1, "it to run");
        await running.StopAsync();
        running.ExitCode.ShouldBe(0);
        Directory.Exists($"/proc/{File.ReadAllText(directory.In("pid")).Trim()}").ShouldBeFalse();
        await running.DisposeAsync();
    }

    [Fact]
    public async Task What_is_fetched_is_verified_resumed_and_not_run_when_it_is_not_what_was_signed()
    {
        var next = Program("new", Healthy);
        var content = await File.ReadAllBytesAsync(next);
        var manifest = Manifest(next, "0.2.0");
        var incoming = Path.Combine(installation.Directory, "incoming");
        await File.WriteAllBytesAsync(incoming, content[..10]);
        var server = new Giver(content);
        using var http = new HttpClient(server) { BaseAddress = new Uri("https://care.halyard.example/") };
        await update.ReplaceAsync(Offer(manifest), http, default);
        server.Ranges.ShouldBe(["bytes=10-"]);
        installation.CurrentVersion.ShouldStartWith("0.2.0-");

        Reset();
        await File.WriteAllBytesAsync(incoming, RandomNumberGenerator.GetBytes(content.Length));
        var e = await Should.ThrowAsync<IOException>(() => update.ReplaceAsync(Offer(manifest), http, default));
        e.Message.ShouldContain("is not version 0.2.0");
        installation.CurrentVersion.ShouldStartWith("0.1.0-");
        File.Exists(installation.TrialFile).ShouldBeFalse();
        File.Exists(incoming).ShouldBeFalse();

        var broken = Program("broken", "exit 0", version: "exit 1");
        var bad = Manifest(broken, "0.3.0");
        using var other = new HttpClient(new Giver(await File.ReadAllBytesAsync(broken))) { BaseAddress = new Uri("https://care.halyard.example/") };
        (await Should.ThrowAsync<IOException>(() => update.ReplaceAsync(Offer(bad), other, default))).Message.ShouldContain("can't be run");
        installation.CurrentVersion.ShouldStartWith("0.1.0-");
    }

    [Fact]
    public void A_wrong_signature_another_system_or_no_key_is_refused_before_anything_is_fetched()
    {
        var manifest = Manifest(Program("new", Healthy), "0.2.0");
        var good = Offer(manifest);
        update.Check(good, key.ExportSubjectPublicKeyInfo()).ShouldBeNull();
        using var other = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        update.Check(good, other.ExportSubjectPublicKeyInfo()).ShouldNotBeNull().ShouldContain("signature");
        update.Check(good with { Manifest = manifest with { Version = "0.9.9" } }, key.ExportSubjectPublicKeyInfo()).ShouldNotBeNull().ShouldContain("signature");
        update.Check(good, null).ShouldNotBeNull().ShouldContain("release key");
        update.Check(Offer(manifest with { System = "linux-arm64" }), key.ExportSubjectPublicKeyInfo()).ShouldNotBeNull().ShouldContain("linux-arm64");
        update.Check(good with { Manifest = null! }, key.ExportSubjectPublicKeyInfo()).ShouldNotBeNull().ShouldContain("malformed");
    }

    private void Reset()
    {
        foreach (var file in new[] { installation.TrialFile, installation.WentBackFile, Path.Combine(installation.Directory, "incoming") })
        {
            File.Delete(file);
        }
        installation.PointTo(installation.Place(directory.In("old"), "0.1.0"));
    }

    /// <summary>A program that answers <c>--version</c>, says which it is when it is started, and goes on as <paramref name="run"/>.</summary>
    private string Program(string name, string run, string version = "exit 0")
    {
        var file = directory.In(name);
        File.WriteAllText(file, $"#!/bin/sh\n[ \"$1\" != --version ] || {version}\necho started {name}\n{run.Replace("PROGRAM", installation.Directory)}\n");
        OwnerOnly.MakeProgram(file);
        return file;
    }

    private static ReleaseManifest Manifest(string program, string version)
    {
        var content = File.ReadAllBytes(program);
        return new ReleaseManifest(version, "linux-x64", content.Length, Convert.ToHexStringLower(SHA256.HashData(content)));
    }

    private ReleaseOffer Offer(ReleaseManifest manifest) => new(manifest, key.SignData(manifest.Statement(), HashAlgorithmName.SHA256));

    /// <summary>Gives one file, whole or from an offset.</summary>
    private sealed class Giver(byte[] content) : HttpMessageHandler
    {
        public List<string> Ranges { get; } = [];

        protected override Task<HttpResponseMessage> SendAsync(HttpRequestMessage request, CancellationToken cancellationToken)
        {
            if (request.Headers.Range is { } range)
            {
                Ranges.Add(range.ToString());
                return Task.FromResult(new HttpResponseMessage(HttpStatusCode.PartialContent) { Content = new ByteArrayContent(content[(int)range.Ranges.Single().From!.Value..]) });
            }
            return Task.FromResult(new HttpResponseMessage(HttpStatusCode.OK) { Content = new ByteArrayContent(content) });
        }
    }
}
