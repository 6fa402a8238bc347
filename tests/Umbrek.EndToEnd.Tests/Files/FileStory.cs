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

    private protected Dictionary<string, string> HomeOf(CuttingProxy proxy) => new() { ["UMBREK_HOME"] = World.In($"client of {proxy.Port}") };

    private protected async Task SignInAsync(CuttingProxy proxy)
    {
        // Signed in without the proxy, which may cut: only the address is changed.
        await World.SignInClientAsync();
        Directory.CreateDirectory(World.In($"client of {proxy.Port}"));
        foreach (var file in Directory.GetFiles(World.In("client")))
        {
            var copy = Path.Combine(World.In($"client of {proxy.Port}"), Path.GetFileName(file));
            await File.WriteAllTextAsync(copy, (await File.ReadAllTextAsync(file)).Replace($":{World.Address.Port}", $":{proxy.Port}", StringComparison.Ordinal));
            File.SetUnixFileMode(copy, File.GetUnixFileMode(file));
        }
    }

    private protected async Task<(int Status, string Stdout, string Stderr)> ThroughAsync(CuttingProxy proxy, params string[] arguments)
    {
        await SignInAsync(proxy);
        return await TestPrograms.RunAsync("umbrek", arguments, null, HomeOf(proxy));
    }
}
