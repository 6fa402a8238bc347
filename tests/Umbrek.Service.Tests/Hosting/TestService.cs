using System.Net;
using System.Net.Http.Headers;
using Microsoft.AspNetCore.Hosting.Server;
using Microsoft.AspNetCore.Hosting.Server.Features;
using Microsoft.AspNetCore.Http.Connections;
using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Client;
using Umbrek.Agent.Enrolment;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Service.Access;
using Microsoft.EntityFrameworkCore;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Links;
using Umbrek.Tests;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Estate;

namespace Umbrek.Service.Tests.Hosting;

/// <summary>A whole service in this process, on a port of its own, with a database of its own.</summary>
internal sealed class TestService : IAsyncDisposable
{
    public const string Name = "Ines Okafor";
    public const string Password = "tide-lantern-orchard";
    public const string Group = "Saltmarsh Ferry/Quay";

    private readonly TestDirectory directory = new();
    private readonly TimeProvider time;
    private readonly string? database;

    private TestService(TimeProvider time, string? database)
    {
        this.time = time;
        this.database = database;
    }

    public WebApplication App { get; private set; } = null!;
    public Uri Address { get; private set; } = null!;

    /// <summary>The agent programs as a built service has them beside it.</summary>
    private static string AgentDirectory => TestPrograms.Agents;

    /// <summary>Signed in as the lead.</summary>
    public ApiClient Api { get; private set; } = null!;
    public string Token { get; private set; } = "";

    public T Get<T>() where T : notnull => App.Services.GetRequiredService<T>();

    private Func<ServiceOptions, ServiceOptions> adjust = o => o;

    public static async Task<TestService> StartAsync(TimeProvider? time = null, string? database = null, Func<ServiceOptions, ServiceOptions>? adjust = null)
    {
        var service = new TestService(time ?? TimeProvider.System, database);
        service.adjust = adjust ?? service.adjust;
        await service.OpenAsync(TestPorts.Next());
        using (var anonymous = new ApiClient(service.Address, null))
        {
            await anonymous.PostAsync("set-up", new SetUpRequest(service.Get<SetUpCode>().Text, Name, Password), WireJson.Default.SetUpRequest, WireJson.Default.TechnicianInfo, default);
        }
        await service.SignInAgainAsync();
        foreach (var (name, parent) in new[] { ("Saltmarsh Ferry", (string?)null), ("Quay", "Saltmarsh Ferry"), ("Copperbeech Libraries", null) })
        {
            await service.Api.PostAsync("groups", new NewGroup(name, parent), WireJson.Default.NewGroup, WireJson.Default.GroupInfo, default);
        }
        return service;
    }

    /// <summary>A file in the service's data directory.</summary>
    public string In(string name) => directory.In(name);

    /// <summary>Gives the lead a new token.</summary>
    public async Task SignInAgainAsync()
    {
        using var anonymous = new ApiClient(Address, null);
        Token = (await anonymous.PostAsync("sign-in", new SignInRequest(Name, Password, SignInUse.Token), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default)).Token!;
        Api = new ApiClient(Address, null, Token);
    }

    /// <summary>Stops the service and starts it again on the same port and data.</summary>
    public async Task RestartAsync()
    {
        await CloseAsync();
        await OpenAsync(Address.Port);
    }

    /// <summary>Adds a technician and gives him a role on a group; his own client.</summary>
    /// <param name="group">Null gives none.</param>
    public async Task<ApiClient> JoinedByAsync(string name, string role = "technician", string? group = Group, DateTimeOffset? endsAt = null)
    {
        await Api.PostAsync("technicians", new NewTechnician(name, Password), WireJson.Default.NewTechnician, WireJson.Default.TechnicianInfo, default);
        if (group is not null)
        {
            await GrantAsync(name, role, group, endsAt);
        }
        return await SignInAsync(name);
    }

    public Task<GrantInfo> GrantAsync(string technician, string role, string group, DateTimeOffset? endsAt = null) =>
        Api.PostAsync("grants", new NewGrant(technician, null, role, group == "*" ? null : group, group == "*", endsAt), WireJson.Default.NewGrant, WireJson.Default.GrantInfo, default);

    public async Task<ApiClient> SignInAsync(string name)
    {
        using var anonymous = new ApiClient(Address, null);
        return new ApiClient(Address, null, (await anonymous.PostAsync("sign-in", new SignInRequest(name, Password, SignInUse.Token), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default)).Token);
    }

    /// <summary>A line for live views, not started yet.</summary>
    public HubConnection Live(string token)
    {
        var builder = new HubConnectionBuilder().WithUrl(new Uri(Address, "live"), HttpTransportType.WebSockets, o =>
        {
            o.SkipNegotiation = true;
            o.Headers["Authorization"] = $"Bearer {token}";
        });
        builder.Services.Configure<JsonHubProtocolOptions>(o => o.PayloadSerializerOptions = new(WireJson.Default.Options));
        return builder.Build();
    }

    public async Task<HubConnection> LiveAsync(ApiClient who)
    {
        var line = Live(who.Http.DefaultRequestHeaders.Authorization!.Parameter!);
        await line.StartAsync();
        return line;
    }

    public async Task<string> NewTokenAsync(int? uses = null, long? life = null, string group = Group) =>
        (await Api.PostAsync("installers", new NewInstaller(group, null, life, uses), WireJson.Default.NewInstaller, WireJson.Default.InstallerDetail, default)).Token;

    public Task<InstallerDetail> NewInstallerAsync(NewInstaller wish) =>
        Api.PostAsync("installers", wish, WireJson.Default.NewInstaller, WireJson.Default.InstallerDetail, default);

    public async Task<IReadOnlyList<EnrolmentInfo>> WaitingAsync() =>
        (await Api.GetAsync("enrolments?state=waiting", WireJson.Default.PageEnrolmentInfo, default)).Items;

    public async Task<List<EnrolmentInfo>> DecideAsync(EnrolmentDecision decision, params Guid[] ids) =>
        await Api.PostAsync("enrolments/decide", new EnrolmentDecisionRequest(ids, decision), WireJson.Default.EnrolmentDecisionRequest, WireJson.Default.ListEnrolmentInfo, default);

    /// <summary>The host's disk is wiped; the machine stays.</summary>
    public void Forget(string name) => Directory.Delete(directory.In("hosts/" + name), recursive: true);

    /// <summary>Enrols a simulated host and gives its identity.</summary>
    public async Task<(AgentIdentity Identity, SimulatedHost Host)> EnrolAsync(string name, string? token = null, string group = Group, AccessKeyRule accessKey = AccessKeyRule.None)
    {
        var host = new SimulatedHost(name, group, HostKind.Kiosk, Math.Abs(name.GetHashCode()) % 200);
        var state = new Umbrek.Agent.Hosting.StateDirectory(directory.In("hosts/" + name));
        var (identity, _) = await new Enroller(state, new SimulatedPlatform(host, time)).EnrolAsync(Address, token ?? await NewTokenAsync(group: group), null, new AccessKeyChoice(accessKey), default);
        return (identity, host);
    }

    /// <summary>Enrols a host and links it.</summary>
    public async Task<LightHost> LinkAsync(string name)
    {
        var (identity, host) = await EnrolAsync(name);
        var light = new LightHost(identity, host, time);
        await light.ConnectAsync(default);
        return light;
    }

    public async Task<HostSummary> HostAsync(string name) =>
        (await Api.GetAsync($"hosts?selection={Uri.EscapeDataString($"\"{name}\"")}", WireJson.Default.PageHostSummary, default)).Items.Single();

    /// <summary>A raw request as the lead (or as nobody), and what came back.</summary>
    public async Task<(HttpStatusCode Status, string Body, HttpResponseMessage Response)> SendAsync(HttpMethod method, string path, string? json = null, bool signedIn = true, Action<HttpRequestMessage>? adjust = null)
    {
        using var http = new HttpClient(new SocketsHttpHandler { UseCookies = false, AllowAutoRedirect = false }) { BaseAddress = Address };
        using var request = new HttpRequestMessage(method, path);
        if (json is not null)
        {
            request.Content = new StringContent(json, new MediaTypeHeaderValue("application/json"));
        }
        if (signedIn)
        {
            request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", Token);
        }
        adjust?.Invoke(request);
        var response = await http.SendAsync(request);
        return (response.StatusCode, await response.Content.ReadAsStringAsync(), response);
    }

    public async ValueTask DisposeAsync()
    {
        Api?.Dispose();
        await CloseAsync();
        directory.Dispose();
    }

    private async Task CloseAsync()
    {
        await App.StopAsync();
        await App.DisposeAsync();
    }

    private async Task OpenAsync(int port)
    {
        var options = new ServiceOptions { DataDirectory = directory.Path, Database = database, PasswordIterations = 1000, AgentDirectory = AgentDirectory, Listen = [ListenAddress.Parse($"http://127.0.0.1:{port}")] };
        if (database is null && !File.Exists(options.PathOf(SqliteDatabase.FileName)))
        {
            Storage.SqliteFile.CopyTo(options.PathOf(SqliteDatabase.FileName));
        }
        App = ServiceHost.Build(adjust(options), time);
        await ServiceHost.StartAsync(App, default);
        Address = new Uri(Get<IServer>().Features.Get<IServerAddressesFeature>()!.Addresses.Single(a => a.StartsWith("http://", StringComparison.Ordinal)));
    }
}
