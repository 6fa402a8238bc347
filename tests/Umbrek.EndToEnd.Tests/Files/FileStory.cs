using System.Security.Cryptography;
using Umbrek.EndToEnd.Tests.Hosting;
using Umbrek.Tests;

namespace Umbrek.EndToEnd.Tests.Files;

/// <summary>A service, one host and a client, with a folder for what is on the host and one for what is here.</summary>
public abstract class FileStory : IAsyncLifetime
{
    protected const string Host = "creamery-files";

    private protected World World { get; private set; } = null!;

    private protected TestPrograms Agent { get; private set; } = null!;

    public async ValueTask InitializeAsync()
    {
        World = await World.StartAsync();
        Agent = await World.JoinAsync(Host);
        await World.SignInClientAsync();
        Directory.CreateDirectory(World.In("host"));
        Directory.CreateDirectory(World.In("here"));
    }

    public ValueTask DisposeAsync()
    {
        GC.SuppressFinalize(this);
        return World.DisposeAsync();
    }

    protected string On(string name) => Path.Combine(World.In("host"), name);

    protected string Here(string name) => Path.Combine(World.In("here"), name);

    protected static async Task ShellAsync(string line)
    {
        var (status, _, stderr) = await TestPrograms.RunAsync("/bin/bash", ["-c", line]);
        status.ShouldBe(0, stderr);
    }

    /// <summary>A file arrives whole over a line that is cut at two hundred places, most of them in its middle.</summary>
    /// <param name="verb">The command that moves it.</param>
    /// <param name="folder">Where it comes to lie, alone.</param>
    /// <param name="said">What the command says then.</param>
    protected async Task ArrivesOverCutsAsync(string verb, string source, string folder, string said)
    {
        var bytes = RandomNumberGenerator.GetBytes(24_000_000);
        await File.WriteAllBytesAsync(source, bytes);
        var (seed, cuts) = (Environment.TickCount, 200);
        var random = new Random(seed);
        // What opens a line takes some thousand bytes, so some are cut before it is open.
        await using var proxy = new CuttingProxy(World.Address.Port, () => cuts-- > 0 ? random.Next(500, 200_000) : long.MaxValue, countsThere: verb == "send");
        var (status, stdout, stderr) = await TestPrograms.RunAsync("umbrek", [verb, Host, source, "--to", folder], null, HomeOf(proxy), seconds: 180);
        status.ShouldBe(0, $"{stderr} (seed {seed})");
        stdout.ShouldContain(said);
        proxy.Cuts.ShouldBeGreaterThanOrEqualTo(100, $"seed {seed}");
        await IsWholeAsync(bytes, source, folder);
    }

    /// <summary>A file arrives whole though the service, the agent or the client is killed in the middle of it.</summary>
    protected async Task ArrivesThoughKilledAsync(string which, string verb, string source, string folder)
    {
        if (which == "service")
        {
            await World.TakeOwnProcessAsync();
        }
        var bytes = RandomNumberGenerator.GetBytes(12_000_000);
        await File.WriteAllBytesAsync(source, bytes);
        await using var proxy = new CuttingProxy(World.Address.Port, () => long.MaxValue, holdsAt: 5_000_000, countsThere: verb == "send");
        string[] command = [verb, Host, source, "--to", folder];
        await using var moving = TestPrograms.Start("umbrek", command, HomeOf(proxy));
        await proxy.Held.WaitAsync(TimeSpan.FromSeconds(60));
        await Wait.UntilAsync(() => Directory.GetFiles(folder, ".large.*.part") is [var part] && new FileInfo(part).Length > 4_000_000, "what was passed on to be there");
        switch (which)
        {
            case "service":
                await World.Service.KillAsync();
                await World.StartServiceAsync();
                break;
            case "agent":
                await Agent.KillAsync();
                World.StartAgent(Host);
                break;
            default:
                await moving.KillAsync();
                break;
        }
        proxy.Release();
        if (which == "client")
        {
            var before = proxy.Passed;
            var (status, _, stderr) = await TestPrograms.RunAsync("umbrek", command, null, HomeOf(proxy));
            status.ShouldBe(0, stderr);
            (proxy.Passed - before).ShouldBeLessThan(10_000_000);
        }
        else
        {
            await Wait.UntilAsync(() => moving.HasExited, "the transfer to end", 120);
            moving.ExitCode.ShouldBe(0, string.Join('\n', moving.Lines));
        }
        await IsWholeAsync(bytes, source, folder);
    }

    private static async Task IsWholeAsync(byte[] bytes, string source, string folder)
    {
        var file = Path.Combine(folder, Path.GetFileName(source));
        Enumerable.SequenceEqual(await File.ReadAllBytesAsync(file), bytes).ShouldBeTrue();
        Directory.GetFileSystemEntries(folder).ShouldBe([file]);
    }

    private protected Dictionary<string, string> HomeOf(CuttingProxy proxy) => World.HomeThrough(proxy);
}
