using System.Text.RegularExpressions;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Links;

namespace Umbrek.EndToEnd.Tests.Hosting;

/// <summary>
/// A service's data directory after its first technician was made and has signed in, and the first groups are there. It is made
/// once for a run, by the real service; each scenario starts from a copy. All services of a run have its key, so one browser trusts them all.
/// </summary>
internal sealed record SetUpData(string Directory, ServicePin Pin, string Token)
{
    private static readonly Lazy<Task<SetUpData>> Made = new(MakeAsync);

    public static Task<SetUpData> Get() => Made.Value;

    public async Task CopyToAsync(string directory)
    {
        var (status, _, stderr) = await TestPrograms.RunAsync("/bin/cp", ["-a", Directory, directory]);
        status.ShouldBe(0, stderr);
    }

    private static async Task<SetUpData> MakeAsync()
    {
        var directory = new TestDirectory();
        AppDomain.CurrentDomain.ProcessExit += (_, _) => directory.Dispose();
        var address = new Uri($"https://localhost:{TestPorts.Next()}");
        var service = await HostedService.StartAsync(["serve", "--data", directory.In("service"), "--listen", $"127.0.0.1:{address.Port}"], null);
        string Said(string word) => Regex.Match(string.Join('\n', service.Said), $"^{word} (.+)$", RegexOptions.Multiline).Groups[1].Value;
        var pin = ServicePin.Parse(Said("key"))!;
        string token;
        using (var anonymous = new ApiClient(address, pin))
        {
            var first = new SetUpRequest(Said("set-up code"), World.Name, World.Password);
            await anonymous.PostAsync("set-up", first, WireJson.Default.SetUpRequest, WireJson.Default.TechnicianInfo, default);
            var signIn = new SignInRequest(World.Name, World.Password, SignInUse.Token);
            token = (await anonymous.PostAsync("sign-in", signIn, WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default)).Token!;
        }
        using (var api = new ApiClient(address, pin, token))
        {
            await api.PostAsync("groups", new NewGroup("Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
            await api.PostAsync("groups", new NewGroup("Quay", "Saltmarsh Ferry"), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        }
        await service.StopAsync();
        // Connections that are kept for later hold the database's log open; what is copied is to be whole.
        Microsoft.Data.Sqlite.SqliteConnection.ClearAllPools();
        return new SetUpData(directory.In("service"), pin, token);
    }
}
