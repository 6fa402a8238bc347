using System.Diagnostics;
using System.Text.Json;
using Microsoft.Data.Sqlite;
using Umbrek.Agent.Enrolment;
using Umbrek.Bench.Hosting;
using Umbrek.Bench.Links;
using Umbrek.Core.Estate;
using Umbrek.Core.Inventory;
using Umbrek.Simulation.Demo;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Health;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Links;

namespace Umbrek.Bench.Estate;

/// <summary>A service that knows many hosts, none of which is linked, with one technician signed in.</summary>
internal sealed class KnownEstate : IAsyncDisposable
{
    public const string Name = "Ines Okafor";
    public const string Password = "tide-lantern-orchard";
    private static readonly DateTimeOffset Now = DateTimeOffset.UtcNow;
    private readonly Scratch directory;

    public required Uri Address { get; init; }

    public required ServicePin Pin { get; init; }

    public required Measured Service { get; init; }

    public required double StartSeconds { get; init; }

    public required ApiClient Api { get; init; }

    /// <summary>The service's database.</summary>
    public required string File { get; init; }

    public static async Task<KnownEstate> StartAsync(int hosts)
    {
        var directory = new Scratch();
        var data = Path.Combine(directory.Path, "service");
        var port = LinkBench.FreePort();
        var address = new Uri($"https://localhost:{port}");
        ServicePin pin;
        await using (var first = await StartAsync(data, port))
        {
            pin = ServicePin.Parse(first.Said("key"))!;
            using var stranger = new ApiClient(address, pin);
            await stranger.PostAsync("set-up", new SetUpRequest(first.Said("set-up code"), Name, Password), WireJson.Default.SetUpRequest, WireJson.Default.TechnicianInfo, default);
        }
        var file = Path.Combine(data, "umbrek.db");
        Fill(file, hosts);
        var began = Stopwatch.GetTimestamp();
        var service = await StartAsync(data, port);
        var seconds = Stopwatch.GetElapsedTime(began).TotalSeconds;
        using var anonymous = new ApiClient(address, pin);
        var answer = await anonymous.PostAsync("sign-in", new SignInRequest(Name, Password, SignInUse.Token), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default);
        return new KnownEstate(directory) { Address = address, Pin = pin, Service = service, StartSeconds = seconds, Api = new ApiClient(address, pin, answer.Token), File = file };
    }

    private KnownEstate(Scratch directory) => this.directory = directory;

    public async ValueTask DisposeAsync()
    {
        Api.Dispose();
        await Service.DisposeAsync();
        directory.Dispose();
    }

    private static Task<Measured> StartAsync(string data, int port) => Measured.StartAsync(ChildProgram.Find("umbrekd"), "ready", "serve", "--data", data, "--listen", $"127.0.0.1:{port}", "--calls-per-second", "0");

    /// <summary>Known hosts, with facts and a sample each, straight into the stopped service's database.</summary>
    private static void Fill(string file, int hosts)
    {
        using var database = new SqliteConnection($"Data Source={file}");
        database.Open();
        using var transaction = database.BeginTransaction();
        var statements = new Dictionary<string, SqliteCommand>();
        var groups = new Dictionary<string, byte[]>();
        foreach (var path in Scenario.Groups)
        {
            groups[path] = Guid.CreateVersion7().ToByteArray(true);
            var cut = path.LastIndexOf('/');
            Insert(database, statements, "Groups", ("Id", groups[path]), ("ParentId", cut < 0 ? null : groups[path[..cut]]), ("Name", path[(cut + 1)..]), ("Path", path), ("PathKey", Wildcard.Fold(path)), ("CreatedAt", 0L), ("Version", 1));
        }
        foreach (var host in Scenario.Hosts(hosts))
        {
            var id = Guid.CreateVersion7().ToByteArray(true);
            Insert(database, statements, "Hosts", ("Id", id), ("GroupId", groups[host.GroupPath]), ("SystemName", host.Name), ("Label", host.Name), ("SystemNameKey", Wildcard.Fold(host.Name)), ("LabelKey", Wildcard.Fold(host.Name)), ("Policy", ""),
                ("PublicKey", id), ("EnrolledAt", Now.AddDays(-host.Number % 400).ToUnixTimeMilliseconds()), ("EnrolledWith", id), ("AgentVersion", "0.1.0"), ("Address", host.Address), ("LastSeenAt", Now.AddHours(-host.Number % 300).ToUnixTimeMilliseconds()),
                ("Presence", (int)PresenceState.Away), ("PresenceReason", (int)AwayReason.LostContact), ("PresenceSince", Now.AddHours(-host.Number % 300).ToUnixTimeMilliseconds()), ("Version", 1L));
            if (host.Kind == HostKind.Kiosk)
            {
                Insert(database, statements, "HostTags", ("HostId", id), ("Key", "KIOSK"), ("Tag", "kiosk"));
            }
            foreach (var fact in new SimulatedPlatform(host, TimeProvider.System).GatherFacts(Now))
            {
                Insert(database, statements, "Facts", ("HostId", id), ("Name", fact.Name), ("Value", fact.Value.GetRawText()), ("LearntAt", Now.ToUnixTimeMilliseconds()));
                foreach (var (ordinal, value) in FactValues.Of(fact.Value).Index())
                {
                    Insert(database, statements, "FactValues", ("HostId", id), ("Name", fact.Name), ("Ordinal", ordinal), ("TextKey", Wildcard.Fold(value.Text)), ("Number", value.Number));
                }
            }
            var sample = SimulatedHealth.At(host, Now);
            Insert(database, statements, "Samples", ("HostId", id), ("At", Now.ToUnixTimeMilliseconds()), ("ProcessorPercent", sample.ProcessorPercent), ("MemoryUsedPercent", sample.MemoryUsedPercent), ("StorageUsedPercent", sample.Fullest?.UsedPercent ?? 0), ("Load1", sample.Load1),
                ("MemoryTotalBytes", sample.MemoryTotalBytes), ("MemoryFreeBytes", sample.MemoryAvailableBytes), ("StorageFreeBytes", sample.Fullest?.AvailableBytes), ("UptimeSeconds", sample.UptimeSeconds), ("Sample", JsonSerializer.Serialize(sample, WireJson.Default.Sample)));
        }
        transaction.Commit();
    }

    private static void Insert(SqliteConnection database, Dictionary<string, SqliteCommand> statements, string table, params ReadOnlySpan<(string Column, object? Value)> values)
    {
        if (!statements.TryGetValue(table, out var statement))
        {
            statements[table] = statement = database.CreateCommand();
            var columns = new List<string>();
            foreach (var (column, _) in values)
            {
                columns.Add(column);
                statement.Parameters.Add(new SqliteParameter("$" + column, null));
            }
            statement.CommandText = $"""INSERT INTO "{table}" ({string.Join(',', columns.Select(c => $"\"{c}\""))}) VALUES ({string.Join(',', columns.Select(c => "$" + c))})""";
        }
        for (var i = 0; i < values.Length; i++)
        {
            statement.Parameters[i].Value = values[i].Value ?? DBNull.Value;
        }
        statement.ExecuteNonQuery();
    }
}
