using System.Diagnostics;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Hosting;

/// <summary>Tests on a network of their own run alone: a browser takes interfaces that come and go for a change of its network.</summary>
[CollectionDefinition("lan", DisableParallelization = true)]
public sealed class LanTests;

/// <summary>
/// A small network of the test's own: a bridge that this machine stands on, and hosts that are network, mount, UTS and process
/// namespaces, each with its own name, machine id and copies of the directories that an installation writes to.
/// </summary>
internal sealed class Lan : IAsyncDisposable
{
    private readonly TestDirectory directory = new();
    private readonly string bridge = $"ubk{Random.Shared.Next(0x10000):x4}";
    private readonly List<LanHost> hosts = [];

    /// <summary>This machine's addresses on the network: from the documentation ranges (RFC 5737, RFC 3849).</summary>
    public const string Address = "198.51.100.1";
    public const string Address6 = "2001:db8:77::1";

    public static async Task<Lan> StartAsync()
    {
        Environment.IsPrivilegedProcess.ShouldBeTrue("these tests make network namespaces, and need root");
        // A bridge that a run left behind when it was killed has this one's addresses, and no hosts any more.
        await ShAsync("for b in $(ls /sys/class/net | grep -E '^ubk[0-9a-f]{4}$'); do [ -n \"$(ls /sys/class/net/$b/brif)\" ] || ip link del $b; done");
        var lan = new Lan();
        // An address of its own: by default a bridge takes the lowest of its ports', and changes it whenever a host is added.
        await ShAsync($"ip link add {lan.bridge} address 00:00:5e:00:53:01 type bridge && ip addr add {Address}/24 dev {lan.bridge} && ip -6 addr add {Address6}/64 dev {lan.bridge} nodad && ip link set {lan.bridge} up");
        return lan;
    }

    /// <summary>A host with the next address; <paramref name="adjust"/> runs inside before anything else.</summary>
    public async Task<LanHost> AddAsync(string name, bool onlyIpv6 = false, string? machineId = null, string? bootId = null, string adjust = "")
    {
        var number = hosts.Count + 11;
        var host = new LanHost(name, number, bridge, directory.In(name), onlyIpv6, machineId ?? $"{number:x4}".PadLeft(32, 'a'), bootId, adjust);
        hosts.Add(host);
        await host.StartAsync();
        return host;
    }

    /// <summary>A host whose disk is a copy of another's as it is now; board and boot are its own.</summary>
    public async Task<LanHost> CopyAsync(LanHost original, string name)
    {
        await ShAsync($"cp -a {directory.In(original.Name)} {directory.In(name)}");
        return await AddAsync(name, machineId: original.MachineId);
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var host in hosts)
        {
            await host.DisposeAsync();
        }
        await ShAsync($"ip link del {bridge}");
        directory.Dispose();
    }

    internal static async Task ShAsync(string line)
    {
        var (status, _, stderr) = await TestPrograms.RunAsync("/bin/sh", ["-c", line]);
        status.ShouldBe(0, $"{line}: {stderr}");
    }
}

/// <summary>One host of a <see cref="Lan"/>.</summary>
internal sealed class LanHost(string name, int number, string bridge, string directory, bool onlyIpv6, string machineId, string? bootId, string adjust) : IAsyncDisposable
{
    private Process? holder;
    private int init;

    public string Name { get; } = name;
    public string MachineId { get; } = machineId;
    public string Address => $"198.51.100.{number}";

    /// <summary>Directories that it has a copy of; what it writes there stays over a restart.</summary>
    private static readonly string[] Own = ["/etc", "/opt", "/root", "/usr", "/var"];

    public async Task StartAsync()
    {
        var link = $"u{number}{bridge[3..]}";
        var setUp = string.Join('\n', Own.Select(d => $"mkdir -p {directory}{d}/u {directory}{d}/w && mount -t overlay overlay -o lowerdir={d},upperdir={directory}{d}/u,workdir={directory}{d}/w {d}"));
        var boot = $"{directory}/boot-id";
        Directory.CreateDirectory(directory);
        await File.WriteAllTextAsync(boot, (bootId ?? Guid.NewGuid().ToString()) + "\n");
        var script = $"""
            set -e
            mount --make-rprivate /
            {setUp}
            hostname {Name}
            echo {MachineId} >/etc/machine-id
            mount --bind {boot} /proc/sys/kernel/random/boot_id
            rm -f /run/nologin
            {adjust}
            echo entered
            read go
            ip link set lo up
            ip link set {link} name eth0
            {(onlyIpv6 ? "" : $"ip addr add {Address}/24 dev eth0")}
            ip -6 addr add 2001:db8:77::{number}/64 dev eth0 nodad
            ip link set eth0 up
            echo ready
            exec sleep infinity
            """;
        holder = Process.Start(new ProcessStartInfo("unshare", ["--mount", "--uts", "--net", "--ipc", "--pid", "--fork", "--kill-child", "--mount-proc", "/bin/sh", "-c", script])
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        })!;
        var errors = holder.StandardError.ReadToEndAsync();
        // Before that its network is still this machine's.
        var entered = await holder.StandardOutput.ReadLineAsync();
        entered.ShouldBe("entered", entered is null ? await errors : "");
        await Lan.ShAsync($"ip link del {link}b 2>/dev/null; ip link add {link}b type veth peer name {link} && ip link set {link}b master {bridge} up && ip link set {link} netns {holder.Id}");
        await holder.StandardInput.WriteLineAsync("go");
        var line = await holder.StandardOutput.ReadLineAsync();
        line.ShouldBe("ready", line is null ? await errors : "");
        init = int.Parse((await File.ReadAllTextAsync($"/proc/{holder.Id}/task/{holder.Id}/children")).Trim(), System.Globalization.CultureInfo.InvariantCulture);
    }

    /// <summary>Runs a line of shell inside, to its end.</summary>
    public Task<(int Status, string Stdout, string Stderr)> RunAsync(string line, string? input = null, Dictionary<string, string>? environment = null) =>
        TestPrograms.RunAsync("/usr/bin/nsenter", [.. Enter, line], input, environment);

    /// <summary>Starts a line of shell inside.</summary>
    public TestPrograms Start(string line) => TestPrograms.Start("/usr/bin/nsenter", [.. Enter, line]);

    /// <summary>What is left of all that was written on the host, by name: the upper sides of its copies.</summary>
    public async Task<string> WrittenAsync(string pattern) =>
        (await TestPrograms.RunAsync("/usr/bin/find", [directory, "-path", "*/u/*", "-name", pattern, "(", "-type", "f", "-o", "-type", "l", "-o", "-type", "d", ")"])).Stdout;

    /// <summary>Waits until it has gone down by itself.</summary>
    public async Task DownAsync() => await holder!.WaitForExitAsync().WaitAsync(TimeSpan.FromMinutes(2));

    /// <summary>As if the power went, and came back.</summary>
    public async Task RestartAsync()
    {
        await DisposeAsync();
        await StartAsync();
        // What a system that starts by scripts does.
        await RunAsync("for s in /etc/init.d/umbrek-agent; do [ ! -x $s ] || $s start; done");
    }

    public async ValueTask DisposeAsync()
    {
        if (holder is not null)
        {
            holder.Kill(entireProcessTree: true);
            await holder.WaitForExitAsync();
            holder.Dispose();
            holder = null;
        }
    }

    private IEnumerable<string> Enter => ["--target", $"{init}", "--mount", "--uts", "--net", "--ipc", "--pid", "/bin/sh", "-c"];
}
