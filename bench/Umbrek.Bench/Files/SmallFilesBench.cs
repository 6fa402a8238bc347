using System.Diagnostics;
using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Umbrek.Bench.Hosting;
using Umbrek.Bench.Links;
using Umbrek.Simulation.Demo;

namespace Umbrek.Bench.Files;

/// <summary>
/// Many small files of one host to the client and back, against tar over one TLS connection. Each run writes into a folder of its own and
/// nothing is deleted between them: without a journal ext4 passes over each inode that was deleted a moment ago, one by one.
/// </summary>
public static class SmallFilesBench
{
    private const int Files = 20_000;
    private const int Bytes = 4096;
    private const int Times = 3;

    public static async Task RunAsync()
    {
        Console.WriteLine("-- small files of one host");
        using var directory = new Scratch();
        var there = Path.Combine(directory.Path, "there");
        Directory.CreateDirectory(Path.Combine(there, "small"));
        for (var i = 0; i < Files; i++)
        {
            await File.WriteAllBytesAsync(Path.Combine(there, "small", $"file-{i:00000}"), RandomNumberGenerator.GetBytes(Bytes));
        }
        await using var host = await OneHost.StartAsync();
        var environment = await host.SignInClientAsync();
        using var certificate = X509Certificate2.CreateFromPemFile(host.In("service/tls.crt"), host.In("service/tls.key"));
        var client = ChildProgram.Find("umbrek");
        string NewFolder(string name, int run) => Directory.CreateDirectory(Path.Combine(directory.Path, $"{name}-{run}")).FullName;
        var (fetched, sent, packed) = (new List<double>(), new List<double>(), new List<double>());
        for (var i = 0; i < Times; i++)
        {
            packed.Add(await TarAsync(there, NewFolder("tar", i), certificate));
            fetched.Add(await OneHost.TimeAsync(client, ["fetch", host.Host.SystemName, Path.Combine(there, "small"), "--to", NewFolder("fetched", i)], environment));
            sent.Add(await OneHost.TimeAsync(client, ["send", host.Host.SystemName, Path.Combine(there, "small"), "--to", NewFolder("sent", i)], environment));
        }
        Figures.Line("20,000 files of 4 KiB", Figures.Median(fetched), Figures.Median(packed), "s", "under 1");
        Figures.Line("20,000 files of 4 KiB, sent", Figures.Median(sent), Figures.Median(packed), "s", "under 1");
    }

    /// <summary>tar into one TLS connection, and out of it.</summary>
    private static async Task<double> TarAsync(string there, string here, X509Certificate2 certificate)
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var began = Stopwatch.GetTimestamp();
        using var packing = Process.Start(new ProcessStartInfo("tar", ["-C", there, "-cf", "-", "small"]) { RedirectStandardOutput = true })!;
        using var unpacking = Process.Start(new ProcessStartInfo("tar", ["-C", here, "-xf", "-"]) { RedirectStandardInput = true })!;
        using var near = new TcpClient();
        await near.ConnectAsync((IPEndPoint)listener.LocalEndpoint);
        using var far = await listener.AcceptTcpClientAsync();
        var sending = Task.Run(async () =>
        {
            await using var tls = new SslStream(far.GetStream());
            await tls.AuthenticateAsServerAsync(certificate);
            await packing.StandardOutput.BaseStream.CopyToAsync(tls, 64 * 1024);
            await tls.ShutdownAsync();
        });
        await using (var tls = new SslStream(near.GetStream(), false, (_, shown, _, _) => shown?.GetCertHashString() == certificate.GetCertHashString()))
        {
            await tls.AuthenticateAsClientAsync("localhost");
            await tls.CopyToAsync(unpacking.StandardInput.BaseStream, 64 * 1024);
        }
        unpacking.StandardInput.Close();
        await sending;
        await unpacking.WaitForExitAsync();
        return Stopwatch.GetElapsedTime(began).TotalSeconds;
    }
}
