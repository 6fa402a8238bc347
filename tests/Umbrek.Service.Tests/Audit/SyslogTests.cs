using Umbrek.Service.Audit;
using Umbrek.Service.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Tests.Audit;

public sealed class SyslogTests
{
    [Fact]
    public async Task Every_line_arrives_in_order_also_those_that_were_written_while_the_receiver_was_down()
    {
        var first = new SyslogReceiver(TestPorts.Next());
        var port = first.Port;
        await using var service = await TestService.StartAsync(adjust: o => o with { Syslog = new SyslogTarget("localhost", port, false) });
        var lines = await CountAsync(service);
        await Wait.UntilAsync(() => first.Numbers.Count >= lines, "the first lines");
        first.Numbers.ShouldBe(Enumerable.Range(1, lines).Select(n => (long)n));
        first.Messages[0].ShouldStartWith("<110>1 20");
        first.Messages[0].ShouldContain(" umbrekd - technician.create [umbrek@32473 number=\"1\" actor=\"set-up code\" address=\"127.0.0.1\" target=\"Ines Okafor\" hash=\"");
        await first.DisposeAsync();

        await MakeGroupAsync(service, "Deck");
        await MakeGroupAsync(service, "Hold");
        await using var second = new SyslogReceiver(port);
        await Wait.UntilAsync(() => second.Numbers.Contains(lines + 2), "what was written meanwhile");
        // At least once: nothing between the two receivers is missing, and what is sent again comes in order too.
        first.Numbers.Concat(second.Numbers).Distinct().Order().ShouldBe(Enumerable.Range(1, lines + 2).Select(n => (long)n));
        second.Numbers.ShouldBe(second.Numbers.Order());
    }

    [Fact]
    public async Task After_a_restart_it_goes_on_where_the_receiver_had_settled()
    {
        await using var receiver = new SyslogReceiver();
        await using var service = await TestService.StartAsync(adjust: o => o with { Syslog = new SyslogTarget("localhost", receiver.Port, false) });
        var lines = await CountAsync(service);
        var position = service.In("syslog.position");
        await Wait.UntilAsync(() => File.Exists(position) && File.ReadAllText(position) == $"{lines}", "the lines to settle");
        await service.RestartAsync();
        await MakeGroupAsync(service, "Deck");
        await Wait.UntilAsync(() => receiver.Numbers[^1] == lines + 1, "the new line");
        receiver.Numbers.Count.ShouldBe(lines + 1);
    }

    [Fact]
    public async Task A_position_beyond_the_end_of_the_log_withholds_nothing()
    {
        await using var receiver = new SyslogReceiver();
        await using var service = await TestService.StartAsync(adjust: o =>
        {
            File.WriteAllText(o.PathOf("syslog.position"), "4000");
            return o with { Syslog = new SyslogTarget("localhost", receiver.Port, false) };
        });
        var lines = await CountAsync(service);
        await Wait.UntilAsync(() => receiver.Numbers.Count >= lines, "the whole log");
        receiver.Numbers[0].ShouldBe(1);
    }

    [Fact]
    public async Task Over_TLS_only_a_receiver_that_the_authority_vouches_for_gets_anything()
    {
        using var directory = new TestDirectory();
        using var certificate = SyslogReceiver.MakeCertificate();
        using var other = SyslogReceiver.MakeCertificate();
        await File.WriteAllTextAsync(directory.In("ca.pem"), certificate.ExportCertificatePem());
        var wrong = new SyslogReceiver(TestPorts.Next(), other);
        var port = wrong.Port;
        await using var service = await TestService.StartAsync(adjust: o => o with { Syslog = new SyslogTarget("localhost", port, true), SyslogAuthorityFile = directory.In("ca.pem") });
        await Wait.UntilAsync(() => wrong.Refused > 0, "the wrong certificate to be refused");
        wrong.Messages.ShouldBeEmpty();
        await wrong.DisposeAsync();

        await using var right = new SyslogReceiver(port, certificate);
        var lines = await CountAsync(service);
        await Wait.UntilAsync(() => right.Numbers.Count >= lines, "the lines over TLS");
    }

    [Theory]
    [InlineData("tls://log.halyard.example:6514", "tls://log.halyard.example:6514")]
    [InlineData("tls://log.halyard.example", "tls://log.halyard.example:6514")]
    [InlineData("tcp://192.0.2.9", "tcp://192.0.2.9:601")]
    public void A_receiver_is_read_as_it_is_written(string text, string read) => $"{SyslogTarget.Parse(text)}".ShouldBe(read);

    [Theory]
    [InlineData("log.halyard.example:6514")]
    [InlineData("udp://192.0.2.9:514")]
    [InlineData("tcp://192.0.2.9:601/path")]
    [InlineData("")]
    public void What_is_no_receiver_is_refused_with_what_to_write(string text) => Should.Throw<FormatException>(() => SyslogTarget.Parse(text)).Message.ShouldContain("tls://HOST:PORT");

    private static async Task<int> CountAsync(TestService service) => (await service.Api.GetAsync("audit?limit=1", WireJson.Default.PageAuditInfo, default)).Total;

    private static Task<GroupInfo> MakeGroupAsync(TestService service, string name) => service.Api.PostAsync("groups", new NewGroup(name, "Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
}
