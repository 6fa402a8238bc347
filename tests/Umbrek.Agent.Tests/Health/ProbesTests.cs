using System.Diagnostics;
using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using Microsoft.Extensions.Time.Testing;
using Umbrek.Agent.Health;
using Umbrek.Agent.Health.Probes;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Agent.Platform.Linux.Probes;
using Umbrek.Core.Estate;
using Umbrek.Core.Health;
using Umbrek.Tests;

namespace Umbrek.Agent.Tests.Health;

/// <summary>Each kind of look, at what is really there.</summary>
public sealed class ProbesTests : IDisposable
{
    private readonly TestDirectory directory = new();
    private readonly StateDirectory state;
    private readonly IProber prober;

    public ProbesTests()
    {
        state = new StateDirectory(directory.In("s"));
        state.Create();
        prober = new LinuxPlatform().Prober(state);
    }

    public void Dispose() => directory.Dispose();

    [Fact]
    public async Task A_port_takes_a_connection_or_refuses_it()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var port = ((IPEndPoint)listener.LocalEndpoint).Port;
        var well = await LookAsync(new Probe(ProbeKind.Port, $"127.0.0.1:{port}"));
        well.State.ShouldBe(ProbeState.Well, well.Says);
        well.Figures.ShouldHaveSingleItem().ShouldSatisfyAllConditions(f => f.Name.ShouldBe("took"), f => f.Unit.ShouldBe(Dimension.Time));
        listener.Stop();
        (await LookAsync(new Probe(ProbeKind.Port, $"127.0.0.1:{port}"))).ShouldSatisfyAllConditions(r => r.State.ShouldBe(ProbeState.Failed), r => r.Says.ShouldContain("nothing listens there"));
        (await LookAsync(new Probe(ProbeKind.Port, "printer-2.invalid:9100", TimeoutSeconds: 20))).ShouldSatisfyAllConditions(r => r.State.ShouldBe(ProbeState.Failed));
    }

    [Theory]
    [InlineData("200 OK", "all is ready here", ProbeState.Well, "answered 200")]
    [InlineData("200 OK", "all is broken here", ProbeState.Failed, "without 'ready'")]
    [InlineData("503 Service Unavailable", "ready", ProbeState.Failed, "answered 503 Service Unavailable")]
    public async Task A_web_address_has_to_answer_well_and_hold_the_text(string status, string body, ProbeState found, string says)
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var serving = ServeAsync(listener, async stream =>
            await stream.WriteAsync(Encoding.ASCII.GetBytes($"HTTP/1.1 {status}\r\nContent-Length: {body.Length}\r\nConnection: close\r\n\r\n{body}")));
        var reading = await LookAsync(new Probe(ProbeKind.Web, $"http://127.0.0.1:{((IPEndPoint)listener.LocalEndpoint).Port}/health", "ready"));
        reading.State.ShouldBe(found, reading.Says);
        reading.Says.ShouldContain(says);
        reading.Figures[0].ShouldBe(new ProbeFigure("status", int.Parse(status[..3], System.Globalization.CultureInfo.InvariantCulture), Dimension.Count));
        await serving;
    }

    [Fact]
    public async Task A_text_is_found_across_the_pieces_it_comes_in_and_a_silent_server_is_given_up()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var address = $"http://127.0.0.1:{((IPEndPoint)listener.LocalEndpoint).Port}/";
        var serving = ServeAsync(listener, async stream =>
        {
            await stream.WriteAsync(Encoding.ASCII.GetBytes($"HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n{new string('.', 40_000)}rea"));
            await stream.FlushAsync();
            await stream.WriteAsync("dy"u8.ToArray());
        });
        (await LookAsync(new Probe(ProbeKind.Web, address, "ready"))).State.ShouldBe(ProbeState.Well);
        await serving;
        (await LookAsync(new Probe(ProbeKind.Web, address, TimeoutSeconds: 1))).Says.ShouldBe("No answer within 1 s.");
    }

    [Fact]
    public async Task A_web_address_whose_certificate_nobody_vouches_for_is_not_well_and_its_certificate_can_still_be_read()
    {
        using var certificate = NewCertificate(TimeSpan.FromDays(9.5));
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var port = ((IPEndPoint)listener.LocalEndpoint).Port;
        async Task TlsAsync(Stream stream)
        {
            await using var tls = new SslStream(stream);
            await tls.AuthenticateAsServerAsync(certificate);
        }
        var first = ServeAsync(listener, TlsAsync);
        var web = await LookAsync(new Probe(ProbeKind.Web, $"https://localhost:{port}/"));
        (web.State, web.Says).ShouldSatisfyAllConditions(r => r.State.ShouldBe(ProbeState.Failed), r => r.Says.ShouldContain("can't be trusted"));
        await first;
        var second = ServeAsync(listener, TlsAsync);
        var shown = await LookAsync(new Probe(ProbeKind.Certificate, $"localhost:{port}"));
        shown.State.ShouldBe(ProbeState.Well, shown.Says);
        shown.Says.ShouldStartWith("The certificate of shop.tarnvalley.example lasts 9 d more");
        ProbeLimits.Read("left < 14 d", ["left"], out _)!.Judge(shown.Figures).Past.ShouldNotBeNull();
        await second;
    }

    [Fact]
    public async Task The_certificate_of_a_file_that_ends_first_counts()
    {
        using var good = NewCertificate(TimeSpan.FromDays(90));
        using var over = NewCertificate(TimeSpan.FromDays(-2));
        var file = directory.In("chain.pem");
        await File.WriteAllTextAsync(file, good.ExportCertificatePem());
        (await LookAsync(new Probe(ProbeKind.Certificate, file))).State.ShouldBe(ProbeState.Well);
        await File.AppendAllTextAsync(file, "\n" + over.ExportCertificatePem());
        (await LookAsync(new Probe(ProbeKind.Certificate, file))).ShouldSatisfyAllConditions(r => r.State.ShouldBe(ProbeState.Failed), r => r.Says.ShouldContain("ended 2 d ago"));
        await File.WriteAllBytesAsync(file, good.RawData);
        (await LookAsync(new Probe(ProbeKind.Certificate, file))).State.ShouldBe(ProbeState.Well);
        await File.WriteAllTextAsync(file, "nothing of the kind");
        (await LookAsync(new Probe(ProbeKind.Certificate, file))).Says.ShouldContain("holds no certificate");
        (await LookAsync(new Probe(ProbeKind.Certificate, file + ".gone"))).Says.ShouldContain("There is no file");
    }

    [Fact]
    public async Task A_host_answers_echoes()
    {
        var reading = await LookAsync(new Probe(ProbeKind.Ping, "127.0.0.1"));
        reading.State.ShouldBe(ProbeState.Well, reading.Says);
        reading.Figures[0].ShouldBe(new ProbeFigure("lost", 0, Dimension.Percent));
    }

    [Fact]
    public async Task A_program_runs_by_its_name_its_path_and_what_it_was_started_with()
    {
        // A copy under a name of its own: the machine may run the same program for somebody else.
        var program = directory.In("tillserver");
        File.Copy("/bin/sleep", program);
        File.SetUnixFileMode(program, (UnixFileMode)Convert.ToInt32("755", 8));
        (await LookAsync(new Probe(ProbeKind.Program, program))).ShouldSatisfyAllConditions(r => r.State.ShouldBe(ProbeState.Failed), r => r.Figures.ShouldBe([new ProbeFigure("count", 0, Dimension.Count)]));
        using var running = Process.Start(program, ["4711"]);
        try
        {
            (await LookAsync(new Probe(ProbeKind.Program, program))).Figures.ShouldBe([new ProbeFigure("count", 1, Dimension.Count)]);
            (await LookAsync(new Probe(ProbeKind.Program, "tillserver", "4711"))).State.ShouldBe(ProbeState.Well);
            (await LookAsync(new Probe(ProbeKind.Program, "tillserver", "4712"))).State.ShouldBe(ProbeState.Failed);
        }
        finally
        {
            running.Kill();
            await running.WaitForExitAsync();
        }
        (await LookAsync(new Probe(ProbeKind.Program, program))).State.ShouldBe(ProbeState.Failed);
    }

    [Fact]
    public async Task A_script_s_status_figures_and_words_are_read()
    {
        var well = await LookAsync(new Probe(ProbeKind.Script, "", "echo queue=14\necho age=90 min\necho the spool is slow >&2\n"));
        well.ShouldSatisfyAllConditions(
            r => r.State.ShouldBe(ProbeState.Well),
            r => r.Says.ShouldBe("The script ended with 0: the spool is slow."),
            r => r.Figures.ShouldBe([new("exit", 0, Dimension.Count), new("queue", 14, Dimension.Count), new("age", 5400, Dimension.Time)]));
        (await LookAsync(new Probe(ProbeKind.Script, "", "echo no paper\nexit 3"))).ShouldSatisfyAllConditions(r => r.State.ShouldBe(ProbeState.Failed), r => r.Says.ShouldBe("The script ended with 3: no paper."));
        (await LookAsync(new Probe(ProbeKind.Script, "", "#!/usr/bin/env -S perl -w\nprint qq(lines=3\\n);\n"))).Figures.ShouldContain(new ProbeFigure("lines", 3, Dimension.Count));
        (await LookAsync(new Probe(ProbeKind.Script, "", "kill -9 $$"))).Figures[0].Value.ShouldBe(137);
        (await LookAsync(new Probe(ProbeKind.Script, "", "no-such-program"))).State.ShouldBe(ProbeState.Unknown);
        Directory.EnumerateFiles(state.Path, "check-*").ShouldBeEmpty();
    }

    [Fact]
    public async Task A_script_that_prints_a_gigabyte_is_heard_out_and_not_kept()
    {
        var before = GC.GetTotalMemory(forceFullCollection: true);
        var reading = await LookAsync(new Probe(ProbeKind.Script, "", "echo queue=3\nhead -c 1073741824 /dev/zero\nexit 4\n", TimeoutSeconds: 120));
        reading.State.ShouldBe(ProbeState.Failed, reading.Says);
        reading.Figures.ShouldContain(new ProbeFigure("queue", 3, Dimension.Count));
        reading.Says.ShouldContain("It printed 1.00 GiB; only the beginning was read.");
        (GC.GetTotalMemory(forceFullCollection: true) - before).ShouldBeLessThan(256 * 1024 * 1024);
    }

    [Fact]
    public async Task A_script_that_takes_too_long_is_ended_with_what_it_started()
    {
        var marker = Guid.NewGuid().ToString("N");
        var reading = await LookAsync(new Probe(ProbeKind.Script, "", $"sleep 600 & sh -c 'sleep 601; : {marker}' & wait\n", TimeoutSeconds: 1));
        (reading.State, reading.Says).ShouldBe((ProbeState.Failed, "No answer within 1 s."));
        await Wait.UntilAsync(async () => (await LookAsync(new Probe(ProbeKind.Program, "sh", marker))).State == ProbeState.Failed, "what it started to end");
    }

    [Fact]
    public async Task What_a_script_leaves_running_goes_on_and_does_not_hold_the_look_up()
    {
        var pid = directory.In("pid");
        var reading = await LookAsync(new Probe(ProbeKind.Script, "", $"setsid sleep 300 & echo $! > {pid}\necho started\n"));
        reading.ShouldSatisfyAllConditions(r => r.State.ShouldBe(ProbeState.Well), r => r.Says.ShouldContain("started"));
        using var left = Process.GetProcessById(int.Parse(await File.ReadAllTextAsync(pid), System.Globalization.CultureInfo.InvariantCulture));
        left.HasExited.ShouldBeFalse();
        left.Kill();
    }

    [Fact]
    public async Task A_log_is_read_on_over_rotation_and_only_new_lines_count_for_a_while()
    {
        var time = new FakeTimeProvider(DateTimeOffset.UtcNow);
        var probe = new LogProbe(time);
        var log = directory.In("capture.log");
        var wish = new Probe(ProbeKind.Log, log, "frame (dropped|late)");
        await File.WriteAllTextAsync(log, "old: frame dropped\n");
        (await probe.LookAsync("c", wish, default)).State.ShouldBe(ProbeState.Well);
        (await probe.LookAsync(null, wish, default)).Says.ShouldBe($"1 such line at the end of {log}, the last: old: frame dropped");
        await File.AppendAllTextAsync(log, "frame kept\nframe late at 4\nframe dro");
        var found = await probe.LookAsync("c", wish, default);
        found.ShouldSatisfyAllConditions(r => r.State.ShouldBe(ProbeState.Failed), r => r.Says.ShouldContain("1 such line in"), r => r.Says.ShouldEndWith("the last: frame late at 4"));
        await File.AppendAllTextAsync(log, "pped at 5\n");
        (await probe.LookAsync("c", wish, default)).Figures.ShouldBe([new ProbeFigure("lines", 2, Dimension.Count)]);

        // Rotated: the name is another file now, and longer than the old one was.
        File.Move(log, log + ".1");
        await File.WriteAllTextAsync(log, $"new file\nframe dropped at 6\n{new string('x', 4000)}\n");
        (await probe.LookAsync("c", wish, default)).Says.ShouldEndWith("the last: frame dropped at 6");
        time.Advance(Probe.MatchCounts);
        (await probe.LookAsync("c", wish, default)).State.ShouldBe(ProbeState.Well);

        // Emptied in its place, gone, and there again.
        await File.WriteAllTextAsync(log, "frame late at 7\n");
        (await probe.LookAsync("c", wish, default)).State.ShouldBe(ProbeState.Failed);
        time.Advance(Probe.MatchCounts);
        File.Delete(log);
        (await probe.LookAsync("c", wish, default)).State.ShouldBe(ProbeState.Well);
        await File.WriteAllTextAsync(log, "frame late at 8\n");
        (await probe.LookAsync("c", wish, default)).Says.ShouldEndWith("frame late at 8");
    }

    [Fact]
    public async Task A_pattern_that_runs_away_is_stopped_and_said()
    {
        var probe = new LogProbe(TimeProvider.System);
        var log = directory.In("till.log");
        var wish = new Probe(ProbeKind.Log, log, "^(a+)+$");
        await File.WriteAllTextAsync(log, "begun\n");
        await probe.LookAsync("c", wish, default);
        await File.AppendAllTextAsync(log, new string('a', 40) + "!\n");
        (await probe.LookAsync("c", wish, default)).ShouldSatisfyAllConditions(r => r.State.ShouldBe(ProbeState.Unknown), r => r.Says.ShouldContain("ran away on 1 lines"));
    }

    [Fact]
    public void A_unit_s_properties_are_read_as_systemctl_shows_them()
    {
        Read("LoadState=loaded\nActiveState=active\nSubState=running\nResult=success\n").ShouldBe((ProbeState.Well, "Service ticket-print runs."));
        Read("LoadState=loaded\nActiveState=failed\nSubState=failed\nResult=exit-code\n").ShouldBe((ProbeState.Failed, "Service ticket-print has failed (exit-code)."));
        Read("LoadState=loaded\nActiveState=inactive\nSubState=dead\nResult=success\n").ShouldBe((ProbeState.Failed, "Service ticket-print does not run."));
        Read("LoadState=loaded\nActiveState=activating\nSubState=start\nResult=success\n").State.ShouldBe(ProbeState.Starting);
        Read("LoadState=masked\nActiveState=inactive\n").State.ShouldBe(ProbeState.Failed);
        Read("LoadState=not-found\nActiveState=inactive\n").ShouldBe((ProbeState.Unknown, "There is no service ticket-print on this host."));
        Read("").State.ShouldBe(ProbeState.Unknown);

        static (ProbeState State, string Says) Read(string shown)
        {
            var reading = LinuxServices.ReadUnit("ticket-print", shown);
            return (reading.State, reading.Says);
        }
    }

    private Task<ProbeReading> LookAsync(Probe probe) => prober.LookAsync("check", probe, CancellationToken.None);

    private static async Task ServeAsync(TcpListener listener, Func<Stream, Task> answer)
    {
        using var client = await listener.AcceptTcpClientAsync();
        await using var stream = client.GetStream();
        try
        {
            await answer(stream);
        }
        catch (Exception e) when (e is IOException or System.Security.Authentication.AuthenticationException)
        {
            // The one that looked has seen enough.
        }
    }

    private static X509Certificate2 NewCertificate(TimeSpan left)
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var request = new CertificateRequest("CN=shop.tarnvalley.example", key, HashAlgorithmName.SHA256);
        using var made = request.CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-100), DateTimeOffset.UtcNow + left);
        return X509CertificateLoader.LoadPkcs12(made.Export(X509ContentType.Pkcs12), null);
    }
}
