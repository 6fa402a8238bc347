using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Bench.Hosting;
using Umbrek.Bench.Links;
using Umbrek.Core.Estate;
using Umbrek.Simulation.Demo;
using Umbrek.Wire;

namespace Umbrek.Bench.Files;

/// <summary>One file to many hosts, against as many copies of it on this machine's own disk.</summary>
public static class DeliverBench
{
    private const int Hosts = 20;
    private const int Bytes = 256 << 20;
    private const int Times = 3;

    public static async Task RunAsync()
    {
        Console.WriteLine($"-- a file to {Hosts} hosts");
        if (!Environment.IsPrivilegedProcess)
        {
            Console.WriteLine("Left out: each of these hosts sees another folder under one name, which takes a mount namespace, and that takes root.");
            return;
        }
        using var directory = new Scratch();
        var (file, target) = (Path.Combine(directory.Path, "large"), Path.Combine(directory.Path, "target"));
        Directory.CreateDirectory(target);
        await FileBench.WriteAsync(file, Bytes);
        await using var first = await OneHost.StartAsync();
        var environment = await first.SignInClientAsync();
        var agents = new List<Measured>();
        try
        {
            var enrolment = await DemoWorld.TokenAsync(first.Api, "Saltmarsh Ferry", Hosts, "many", default);
            for (var i = 1; i <= Hosts; i++)
            {
                var (state, own) = (first.In($"agent-{i}"), Path.Combine(directory.Path, $"host-{i}"));
                Directory.CreateDirectory(own);
                await new Enroller(new StateDirectory(state), new LinuxPlatform()).EnrolAsync(first.Address, enrolment, $"desk-{i}", AccessKeyChoice.None, default);
                agents.Add(await Measured.StartAsync("/usr/bin/unshare", "linked with", "--mount", "sh", "-c", "mount --bind \"$1\" \"$2\" && exec \"$0\" run --state \"$3\"", ChildProgram.Find("umbrek-agent"), own, target, state));
            }
            do
            {
                await Task.Delay(100);
            }
            while ((await first.Api.GetAsync("hosts?selection=desk-*", WireJson.Default.PageHostSummary, default)).Items.Count(h => h.Presence.State == PresenceState.Linked) < Hosts);
            var (ours, theirs) = (new List<double>(), new List<double>());
            var (service, most) = (first.Service.Resident(), agents.Max(a => a.Resident()));
            for (var i = 0; i < Times; i++)
            {
                ours.Add(await OneHost.TimeAsync(ChildProgram.Find("umbrek"), ["deliver", file, "--on", "desk-*", "--to", target], environment));
                // What the service keeps by then would not be sent to it again.
                await OneHost.TimeAsync("sh", ["-c", "umbrek=$0; $umbrek parcel list --output csv | tail -n +2 | cut -d, -f1 | while read id; do $umbrek parcel remove $id; done", ChildProgram.Find("umbrek")], environment);
                var copies = Enumerable.Range(1, Hosts).Select(n => Path.Combine(directory.Path, $"host-{n}", "large")).ToList();
                if (copies.Exists(c => new FileInfo(c) is not { Exists: true, Length: Bytes }))
                {
                    throw new InvalidOperationException("A host has not got the file.");
                }
                copies.ForEach(File.Delete);
                theirs.Add(await OneHost.TimeAsync("sh", ["-c", $"for n in $(seq {Hosts}); do cp \"$0\" \"$1/host-$n/large\" && sync \"$1/host-$n/large\"; done", file, directory.Path], environment));
                copies.ForEach(File.Delete);
            }
            Figures.Line($"a file of {Bytes >> 20} MiB to {Hosts} hosts", Figures.Median(ours), Figures.Median(theirs), "s", "");
            Figures.Alone("  service: more resident after it", (first.Service.Resident() - service) / 1e6, "MB", "under 64 MB");
            Figures.Alone("  agents: more resident after it, the most of them", (agents.Max(a => a.Resident()) - most) / 1e6, "MB", "under 64 MB");
        }
        finally
        {
            foreach (var agent in agents)
            {
                await agent.DisposeAsync();
            }
        }
    }
}
