using System.Globalization;
using System.Net.NetworkInformation;
using System.Net.Sockets;
using System.Runtime.InteropServices;
using System.Text;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Inventory;
using Umbrek.Core.Inventory;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>What a Linux host says of itself.</summary>
internal static class LinuxFacts
{
    public static List<Fact> Gather(LinuxPlatform platform, DateTimeOffset now)
    {
        var facts = new FactList(now);
        facts.Add(FactNames.SystemName, platform.SystemName);
        facts.Add(FactNames.MachineId, platform.MachineId);
        facts.Add(FactNames.AgentVersion, AgentVersion.Text);
        facts.Add(FactNames.Architecture, RuntimeInformation.OSArchitecture.ToString().ToLowerInvariant());
        facts.Add(FactNames.Kernel, LinuxPlatform.ReadLine("/proc/sys/kernel/osrelease"));
        var release = ReadRelease();
        facts.Add(FactNames.OsName, release.GetValueOrDefault("PRETTY_NAME") ?? release.GetValueOrDefault("NAME") ?? "Linux");
        facts.Add(FactNames.OsVersion, release.GetValueOrDefault("VERSION_ID"));
        facts.Add(FactNames.Vendor, LinuxPlatform.ReadLine("/sys/class/dmi/id/sys_vendor"));
        facts.Add(FactNames.Model, LinuxPlatform.ReadLine("/sys/class/dmi/id/product_name"));
        facts.Add(FactNames.ProcessorModel, ProcessorModel());
        facts.Add(FactNames.ProcessorCount, Environment.ProcessorCount);
        facts.Add(FactNames.MemoryTotal, LinuxSampler.ReadMemory().GetValueOrDefault("MemTotal"));
        facts.Add(FactNames.Disks, [.. LinuxSampler.ReadFileSystems().Select(f => $"{f.MountPoint} {f.Type} {f.TotalBytes}")]);
        facts.Add(FactNames.Addresses, Addresses());
        facts.Add(FactNames.NetworkCards, [.. LinuxCards.Read().Select(c => $"{c}")]);
        facts.Add(FactNames.BootedAt, BootTime());
        facts.Add(FactNames.Users, [.. Logins.Read().Select(l => l.Name).Distinct().Order(StringComparer.Ordinal).Take(64)]);
        if (Native.IsClockKept() is { } kept)
        {
            facts.Add(FactNames.ClockKept, kept ? "yes" : "no");
        }
        facts.Add(FactNames.RestartNeeded, File.Exists("/run/reboot-required") ? "yes" : "no");
        platform.Upkeep.AddTo(facts);
        return facts.Items;
    }

    private static Dictionary<string, string> ReadRelease()
    {
        // os-release(5): NAME="value" lines.
        var values = new Dictionary<string, string>(StringComparer.Ordinal);
        if (File.Exists("/etc/os-release"))
        {
            foreach (var line in File.ReadLines("/etc/os-release"))
            {
                if (line.Split('=', 2) is [var name, var value])
                {
                    values[name] = value.Trim('"', '\'');
                }
            }
        }
        return values;
    }

    private static string? ProcessorModel() =>
        File.ReadLines("/proc/cpuinfo").FirstOrDefault(l => l.StartsWith("model name", StringComparison.Ordinal))?.Split(':', 2)[1].Trim();

    private static string? BootTime()
    {
        var line = File.ReadLines("/proc/stat").FirstOrDefault(l => l.StartsWith("btime ", StringComparison.Ordinal));
        return line is null ? null : DateTimeOffset.FromUnixTimeSeconds(long.Parse(line[6..], CultureInfo.InvariantCulture)).ToString("yyyy-MM-ddTHH:mm:ssZ", CultureInfo.InvariantCulture);
    }

    private static string[] Addresses() =>
        [.. NetworkInterface.GetAllNetworkInterfaces()
            .Where(i => i.NetworkInterfaceType != NetworkInterfaceType.Loopback)
            .SelectMany(i => i.GetIPProperties().UnicastAddresses)
            .Where(a => a.Address.AddressFamily is AddressFamily.InterNetwork or AddressFamily.InterNetworkV6 && !a.Address.IsIPv6LinkLocal)
            .Select(a => a.Address.ToString())
            .Distinct()
            .Order(StringComparer.Ordinal)
            .Take(32)];
}
