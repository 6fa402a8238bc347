using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Runtime.InteropServices;
using Microsoft.AspNetCore.Server.Kestrel.Transport.Sockets;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Hosting;

/// <summary>
/// A small network of the test's own, in a network namespace of its own: a bridge that the service stands on, and hosts that are
/// network, mount, UTS and process namespaces, each with its own name, machine id and copies of the directories that an
/// installation writes to. Nothing of it is seen from this machine's network, so any number of them are there at a time.
/// </summary>
internal sealed partial class Lan : IAsyncDisposable
{
    private const string Prefix = "ubk-";
    private const int NewNetwork = 0x40000000;
    private static readonly Lazy<Task> Swept = new(SweepAsync);
    private static int last;

    private readonly TestDirectory directory = new();
    private readonly string space = $"{Prefix}{Environment.ProcessId}-{Interlocked.Increment(ref last)}";
    private readonly List<LanHost> hosts = [];

    /// <summary>The service's addresses on the network: from the documentation ranges (RFC 5737, RFC 3849).</summary>
    public const string Address = "198.51.100.1";
    public const string Address6 = "2001:db8:77::1";

    public static async Task<Lan> StartAsync()
    {
        Environment.IsPrivilegedProcess.ShouldBeTrue("these tests make network namespaces, and need root");
        await Swept.Value;
        var lan = new Lan();
        await HereAsync($"ip netns add {lan.space}");
        // An address of its own: by default a bridge takes the lowest of its ports', and changes it whenever a host is added.
        await lan.ShAsync($"""
            set -e
            ip link set lo up
            ip link add bridge address 00:00:5e:00:53:01 type bridge
            ip addr add {Address}/24 dev bridge
            ip -6 addr add {Address6}/64 dev bridge nodad
            ip link set bridge up
            """);
        return lan;
    }

    /// <summary>A socket that listens at an address of this network, or of this machine's.</summary>
    public Socket Bind(EndPoint endpoint) => endpoint is IPEndPoint { Address: var at } && (at.Equals(IPAddress.Parse(Address)) || at.Equals(IPAddress.Parse(Address6)))
        ? Within(() => SocketTransportOptions.CreateDefaultBoundListenSocket(endpoint))
        : SocketTransportOptions.CreateDefaultBoundListenSocket(endpoint);

    /// <summary>Makes something in this network: a socket stays in the network in which it was made (network_namespaces(7)).</summary>
    public T Within<T>(Func<T> make)
    {
        T? made = default;
        System.Runtime.ExceptionServices.ExceptionDispatchInfo? failure = null;
        // setns(2) changes the thread that calls it, and no other; this one ends here.
        var thread = new Thread(() =>
        {
            try
            {
                using var file = File.OpenHandle($"/run/netns/{space}");
                SetNetwork((int)file.DangerousGetHandle(), NewNetwork).ShouldBe(0, $"setns: {Marshal.GetLastPInvokeErrorMessage()}");
                made = make();
            }
            catch (Exception e)
            {
                failure = System.Runtime.ExceptionServices.ExceptionDispatchInfo.Capture(e);
            }
        });
        thread.Start();
        thread.Join();
        failure?.Throw();
        return made!;
    }

    [LibraryImport("libc", EntryPoint = "setns", SetLastError = true)]
    private static partial int SetNetwork(int file, int kind);

    /// <summary>Networks that a run left behind when it was killed go.</summary>
    private static async Task SweepAsync()
    {
        foreach (var space in Directory.Exists("/run/netns") ? Directory.GetFiles("/run/netns", $"{Prefix}*").Select(Path.GetFileName) : [])
        {
            if (!Directory.Exists($"/proc/{space!.Split('-')[1]}"))
            {
                await HereAsync($"ip netns del {space}");
            }
        }
    }

    /// <summary>A host with the next address; <paramref name="adjust"/> runs inside before anything else.</summary>
    public async Task<LanHost> AddAsync(string name, bool onlyIpv6 = false, string? machineId = null, string? bootId = null, string adjust = "")
    {
        var number = hosts.Count + 11;
        var host = new LanHost(name, number, this, directory.In(name), onlyIpv6, machineId ?? $"{number:x4}".PadLeft(32, 'a'), bootId, adjust);
        hosts.Add(host);
        await host.StartAsync();
        return host;
    }

    /// <summary>A host whose disk is a copy of another's as it is now; board and boot are its own.</summary>
    public async Task<LanHost> CopyAsync(LanHost original, string name)
    {
        await HereAsync($"cp -a {directory.In(original.Name)} {directory.In(name)}");
        return await AddAsync(name, machineId: original.MachineId);
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var host in hosts)
        {
            await host.DisposeAsync();
        }
        await HereAsync($"ip netns del {space}");
        directory.Dispose();
    }

    /// <summary>A line of shell in this network.</summary>
    internal Task ShAsync(string line) => RunAsync("/usr/bin/nsenter", [$"--net=/run/netns/{space}", "/bin/sh", "-c", line]);

    private static Task HereAsync(string line) => RunAsync("/bin/sh", ["-c", line]);

    private static async Task RunAsync(string program, string[] arguments)
    {
        var (status, _, stderr) = await TestPrograms.RunAsync(program, arguments);
        status.ShouldBe(0, $"{arguments[^1]}: {stderr}");
    }
}

/// <summary>One host of a <see cref="Lan"/>.</summary>
internal sealed class LanHost(string name, int number, Lan lan, string directory, bool onlyIpv6, string machineId, string? bootId, string adjust) : IAsyncDisposable
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
        var link = $"u{number}";
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
        await lan.ShAsync($"ip link del {link}b 2>/dev/null; ip link add {link}b type veth peer name {link} && ip link set {link}b master bridge up && ip link set {link} netns {holder.Id}");
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
