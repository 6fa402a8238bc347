using System.Text.Json;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;
using Umbrek.Wire;

namespace Umbrek.EndToEnd.Tests.Enrolment;

/// <summary>Looking around from a host, on a network of the test's own.</summary>
public sealed class ScanTests
{
    [Fact]
    public async Task A_host_finds_its_neighbours_with_name_hardware_ports_and_whether_they_are_ours()
    {
        await using var lan = await Lan.StartAsync();
        await using var world = await World.StartAsync(lan);
        var installer = await world.NewInstallerAsync();
        foreach (var name in new[] { "quay-office-01", "quay-ticket-01" })
        {
            var host = await lan.AddAsync(name);
            var (status, _, stderr) = await host.RunAsync(world.SilentLine(installer));
            status.ShouldBe(0, stderr);
            await host.RunAsync("printf '198.51.100.13 spare-desk.quay.example\\n' >>/etc/hosts");
        }
        // No agent, a port that is open, a registered hardware address, a name in the asker's own table of names.
        var spare = await lan.AddAsync("spare-desk");
        await spare.RunAsync("ip link set eth0 down && ip link set eth0 address 00:00:5e:00:53:07 && ip link set eth0 up");
        await using var listening = spare.Start("exec perl -MIO::Socket::INET -e 'my $s=IO::Socket::INET->new(LocalPort=>9100,Listen=>5,ReuseAddr=>1) or die; $|=1; print \"listening\\n\"; while(my $c=$s->accept){close $c}'");
        await listening.UntilSaidAsync("listening");
        // A responder of multicast DNS that answers for its own address.
        var camera = await lan.AddAsync("camera-north");
        await using var responding = camera.Start("exec perl -MIO::Socket::INET -e '" + Responder + "'");
        await responding.UntilSaidAsync("responding");

        await world.SignInClientAsync();
        var scan = await world.ClientAsync(null, "scan", "start", "--from", "quay-office-01", "--range", "198.51.100.8-20", "--ports", "22,9100", "--rate", "200", "--output", "json");
        scan.Status.ShouldBe(0, scan.Stderr);
        var finds = JsonSerializer.Deserialize(scan.Stdout, WireJson.Default.ListScanFind)!;
        finds.Select(f => f.Address).ShouldBe(["198.51.100.11", "198.51.100.12", "198.51.100.13", "198.51.100.14"]);
        finds[1].OursLabel.ShouldBe("quay-ticket-01");
        (finds[2].Name, finds[2].HardwareAddress, finds[2].Vendor, finds[2].OursLabel).ShouldBe(("spare-desk.quay.example", "00:00:5e:00:53:07", "ICANN, IANA Department", null));
        finds[2].OpenPorts.ShouldBe([9100]);
        finds[3].Name.ShouldBe("camera-north.local");

        var tooLarge = await world.ClientAsync(null, "scan", "start", "--from", "quay-office-01", "--range", "198.51.0.0/19");
        tooLarge.Status.ShouldBe(1);
        tooLarge.Stderr.ShouldContain("/20");
        var log = (await world.Api.GetAsync("audit?action=scan", WireJson.Default.PageAuditInfo, default)).Items;
        log.Select(l => l.Action).ShouldBe(["scan.refuse", "scan.start"]);
        log[1].Detail.ShouldContain("198.51.100.8-20");

        // A scan is cancelled, and ends with the link of the host that makes it.
        var slow = await world.ClientAsync(null, "scan", "start", "--from", "quay-office-01", "--range", "198.51.100.0/24", "--rate", "1", "--no-wait", "--output", "json");
        var id = JsonDocument.Parse(slow.Stdout).RootElement.GetProperty("id").GetString()!;
        (await world.ClientAsync(null, "scan", "start", "--from", "quay-office-01", "--range", "198.51.100.0/24")).Stderr.ShouldContain("scanning already");
        (await world.ClientAsync(null, "scan", "cancel", id)).Stdout.ShouldContain("is cancelled");
        var again = await world.ClientAsync(null, "scan", "start", "--from", "quay-ticket-01", "--range", "198.51.100.0/24", "--rate", "1", "--no-wait", "--output", "json");
        id = JsonDocument.Parse(again.Stdout).RootElement.GetProperty("id").GetString()!;
        (await world.MakeJobAsync("quay-ticket-01", "pkill -KILL -f '[u]mbrek-agent run'")).ShouldNotBeNull();
        await Wait.UntilAsync(async () => (await world.Api.GetAsync($"scans/{id}", WireJson.Default.ScanDetail, default)).Info.State == Wire.Enrolment.ScanState.Failed, "the scan to end with its link");
        // What still holds a pipe open holds up the end of the test.
        await spare.RunAsync("pkill perl");
        await camera.RunAsync("pkill perl");
    }

    /// <summary>Answers every question (RFC 6762) with one PTR record: the question's own name, and "camera-north.local".</summary>
    private const string Responder = """
        my $s=IO::Socket::INET->new(LocalPort=>5353,Proto=>"udp") or die; $|=1; print "responding\n";
        while(my $from=$s->recv(my $q,1500)){ my $name=substr($q,12,length($q)-16);
        $s->send(pack("n6",0,0x8400,0,1,0,0).$name.pack("nnNn",12,1,120,20).pack("C/a*C/a*C","camera-north","local",0),0,$from); }
        """;
}
