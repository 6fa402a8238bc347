using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Umbrek.Bench.Hosting;
using Umbrek.Bench.Links;
using Umbrek.Simulation.Demo;

namespace Umbrek.Bench.Files;

/// <summary>Files over a line that is slower than the machine: what packs, and what does not, against the time that the line takes for their bytes.</summary>
public static class SlowLineBench
{
    /// <summary>What a line of 40 Mbit/s carries.</summary>
    private const int Rate = 5_000_000;
    private const int Length = 40_000_000;

    public static async Task RunAsync()
    {
        Console.WriteLine("-- files over a line of 40 Mbit/s");
        using var directory = new Scratch();
        var (text, noise) = (Path.Combine(directory.Path, "text"), Path.Combine(directory.Path, "noise"));
        await File.WriteAllBytesAsync(text, Encoding.UTF8.GetBytes(LogLines())[..Length]);
        await File.WriteAllBytesAsync(noise, RandomNumberGenerator.GetBytes(Length));
        await using var host = await OneHost.StartAsync();
        await using var line = new SlowLine(host.Address.Port, Rate, Rate);
        var environment = await host.SignInClientAsync(new Uri($"https://localhost:{line.Port}"));
        var client = ChildProgram.Find("umbrek");
        foreach (var (what, file) in new[] { ("40 MB of a log", text), ("40 MB of noise", noise) })
        {
            var fetched = await OneHost.TimeAsync(client, ["fetch", host.Host.SystemName, file, "--to", Directory.CreateDirectory(file + "-fetched").FullName], environment);
            var sent = await OneHost.TimeAsync(client, ["send", host.Host.SystemName, file, "--to", Directory.CreateDirectory(file + "-sent").FullName], environment);
            Figures.Line($"{what}, fetched", fetched, (double)Length / Rate, "s", "");
            Figures.Line($"{what}, sent", sent, (double)Length / Rate, "s", "");
        }
    }

    private static string LogLines()
    {
        var lines = new StringBuilder(Length + 200);
        for (var n = 0; lines.Length < Length; n++)
        {
            // What changes from line to line is what changes in a log.
            var mark = Convert.ToHexStringLower(SHA256.HashData(BitConverter.GetBytes(n)).AsSpan(0, 6));
            lines.Append(CultureInfo.InvariantCulture, $"2026-11-27T{n / 3600 % 24:00}:{n / 60 % 60:00}:{n % 60:00}Z quay-ticket-{n % 12:00} ticket-print[{n % 997}]: printed ticket {mark} for {n % 7} passengers from the quay\n");
        }
        return lines.ToString();
    }
}
