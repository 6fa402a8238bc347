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

/// <summary>Finding and selecting among thirty thousand known hosts, beside the bare SQL of the same rows.</summary>
internal static class EstateBench
{
    private const int Hosts = 30_000;
    private const int Runs = 15;
    private const string Password = "tide-lantern-orchard";
    private static readonly DateTimeOffset Now = DateTimeOffset.UtcNow;

    public static async Task RunAsync()
    {
        Console.WriteLine($"-- estate of {Hosts} hosts");
        using var directory = new Scratch();
        var data = Path.Combine(directory.Path, "service");
        var port = LinkBench.FreePort();
        var address = new Uri($"https://localhost:{port}");
        ServicePin pin;
        await using (var first = await StartAsync(data, port))
        {
            pin = ServicePin.Parse(first.Said("key"))!;
            using var anonymous = new ApiClient(address, pin);
            await anonymous.PostAsync("set-up", new SetUpRequest(first.Said("set-up code"), "Ines Okafor", Password), WireJson.Default.SetUpRequest, WireJson.Default.TechnicianInfo, default);
        }
        var file = Path.Combine(data, "umbrek.db");
        Fill(file);
        var began = Stopwatch.GetTimestamp();
        await using var service = await StartAsync(data, port);
        Figures.Alone("start of the service", Stopwatch.GetElapsedTime(began).TotalSeconds, "s", "");
        Figures.Alone("resident after the start", service.Resident() / 1e6, "MB", "under 900 MB");
        string token;
        using (var anonymous = new ApiClient(address, pin))
        {
            token = (await anonymous.PostAsync("sign-in", new SignInRequest("Ines Okafor", Password, SignInUse.Token), WireJson.Default.SignInRequest, WireJson.Default.SignInAnswer, default)).Token!;
        }
        using var api = new ApiClient(address, pin, token);
        using var bare = new SqliteConnection($"Data Source={file};Mode=ReadOnly");
        bare.Open();

        const string Latest = """(SELECT {0} FROM "Samples" s WHERE s."HostId"=h."Id" ORDER BY s."At" DESC LIMIT 1)""";
        await CompareAsync(api, bare, "quay-ticket-*1", """h."LabelKey" LIKE 'QUAY-TICKET-%1'""");
        await CompareAsync(api, bare, "in \"Saltmarsh Ferry\" and tagged kiosk", """(g."PathKey"='SALTMARSH FERRY' OR g."PathKey" LIKE 'SALTMARSH FERRY/%') AND EXISTS (SELECT 1 FROM "HostTags" t WHERE t."HostId"=h."Id" AND t."Key"='KIOSK')""");
        await CompareAsync(api, bare, "memory.free < 1 GiB and not is used", string.Format(System.Globalization.CultureInfo.InvariantCulture, Latest, "s.\"MemoryFreeBytes\"") + """ < 1073741824 AND NOT EXISTS (SELECT 1 FROM "FactValues" v WHERE v."HostId"=h."Id" AND v."Name"='users.logged-in')""");
        await CompareAsync(api, bare, "fact os.version = 12 and name = *-01", """EXISTS (SELECT 1 FROM "FactValues" v WHERE v."HostId"=h."Id" AND v."Name"='os.version' AND v."TextKey"='12') AND h."SystemNameKey" LIKE '%-01'""");

        foreach (var typed in new[] { "ticket-1234", "tikcet", "elin.marlow", "saltmarsh kiosk" })
        {
            var found = await TimeAsync(() => api.GetAsync($"find?text={Uri.EscapeDataString(typed)}", WireJson.Default.PageFindHit, default));
            using var query = bare.CreateCommand();
            query.CommandText = """SELECT h."Id",h."Label" FROM "Hosts" h WHERE h."LabelKey" LIKE $t OR h."SystemNameKey" LIKE $t OR EXISTS (SELECT 1 FROM "FactValues" v WHERE v."HostId"=h."Id" AND v."TextKey" LIKE $t) LIMIT 10""";
            query.Parameters.AddWithValue("$t", $"%{Wildcard.Fold(typed)}%");
            Figures.Line($"find '{typed}'", found * 1000, Time(() => ReadAll(query)) * 1000, "ms", "under 50 ms");
        }
    }

    /// <summary>The first page of a selection over the API, beside the query of the same rows.</summary>
    private static async Task CompareAsync(ApiClient api, SqliteConnection bare, string selection, string where)
    {
        var path = $"hosts?limit=200&selection={Uri.EscapeDataString(selection)}";
        var page = await api.GetAsync(path, WireJson.Default.PageHostSummary, default);
        using var query = bare.CreateCommand();
        query.CommandText = $"""SELECT h."Id",h."SystemName",h."Label",g."Path",h."Presence",h."LastSeenAt" FROM "Hosts" h JOIN "Groups" g ON g."Id"=h."GroupId" WHERE {where} ORDER BY h."LabelKey" """;
        var rows = ReadAll(query);
        if (rows != page.Total)
        {
            throw new InvalidOperationException($"'{selection}' names {page.Total} hosts; the query finds {rows}.");
        }
        Figures.Line($"{selection} ({rows})", await TimeAsync(() => api.GetAsync(path, WireJson.Default.PageHostSummary, default)) * 1000, Time(() => ReadAll(query)) * 1000, "ms", "under 50 ms");
    }

    private static int ReadAll(SqliteCommand query)
    {
        using var reader = query.ExecuteReader();
        var rows = 0;
        while (reader.Read())
        {
            rows++;
        }
        return rows;
    }

    private static async Task<double> TimeAsync(Func<Task> act)
    {
        var times = new List<double>();
        for (var i = 0; i < Runs; i++)
        {
            var began = Stopwatch.GetTimestamp();
            await act();
            times.Add(Stopwatch.GetElapsedTime(began).TotalSeconds);
        }
        return Figures.Median(times);
    }

    private static double Time(Func<int> act) => Figures.Median(Enumerable.Range(0, Runs).Select(_ =>
    {
        var began = Stopwatch.GetTimestamp();
        act();
        return Stopwatch.GetElapsedTime(began).TotalSeconds;
    }).ToList());

    private static Task<Measured> StartAsync(string data, int port) => Measured.StartAsync(ChildProgram.Find("umbrekd"), "ready", "serve", "--data", data, "--listen", $"127.0.0.1:{port}");

    /// <summary>Known hosts, with facts and a sample each, straight into the stopped service's database.</summary>
    private static void Fill(string file)
    {
        using var database = new SqliteConnection($"Data Source={file}");
        database.Open();
        using var transaction = database.BeginTransaction();
        var groups = new Dictionary<string, byte[]>();
        foreach (var path in Scenario.Groups)
        {
            groups[path] = Guid.CreateVersion7().ToByteArray(true);
            var cut = path.LastIndexOf('/');
            Insert(database, "Groups", ("Id", groups[path]), ("ParentId", cut < 0 ? null : groups[path[..cut]]), ("Name", path[(cut + 1)..]), ("Path", path), ("PathKey", Wildcard.Fold(path)), ("CreatedAt", 0L), ("Version", 1));
        }
        foreach (var host in Scenario.Hosts(Hosts))
        {
            var id = Guid.CreateVersion7().ToByteArray(true);
            Insert(database, "Hosts", ("Id", id), ("GroupId", groups[host.GroupPath]), ("SystemName", host.Name), ("Label", host.Name), ("SystemNameKey", Wildcard.Fold(host.Name)), ("LabelKey", Wildcard.Fold(host.Name)), ("Policy", ""),
                ("PublicKey", id), ("EnrolledAt", Now.AddDays(-host.Number % 400).ToUnixTimeMilliseconds()), ("EnrolledWith", id), ("AgentVersion", "0.1.0"), ("Address", host.Address), ("LastSeenAt", Now.AddHours(-host.Number % 300).ToUnixTimeMilliseconds()),
                ("Presence", (int)PresenceState.Away), ("PresenceReason", (int)AwayReason.LostContact), ("PresenceSince", Now.AddHours(-host.Number % 300).ToUnixTimeMilliseconds()), ("Version", 1L));
            if (host.Kind == HostKind.Kiosk)
            {
                Insert(database, "HostTags", ("HostId", id), ("Key", "KIOSK"), ("Tag", "kiosk"));
            }
            foreach (var fact in new SimulatedPlatform(host, TimeProvider.System).GatherFacts(Now))
            {
                Insert(database, "Facts", ("HostId", id), ("Name", fact.Name), ("Value", fact.Value.GetRawText()), ("LearntAt", Now.ToUnixTimeMilliseconds()));
                foreach (var (ordinal, value) in FactValues.Of(fact.Value).Index())
                {
                    Insert(database, "FactValues", ("HostId", id), ("Name", fact.Name), ("Ordinal", ordinal), ("TextKey", Wildcard.Fold(value.Text)), ("Number", value.Number));
                }
            }
            var sample = SimulatedHealth.At(host, Now);
            Insert(database, "Samples", ("HostId", id), ("At", Now.ToUnixTimeMilliseconds()), ("ProcessorPercent", sample.ProcessorPercent), ("MemoryUsedPercent", sample.MemoryUsedPercent), ("StorageUsedPercent", sample.Fullest?.UsedPercent ?? 0), ("Load1", sample.Load1),
                ("MemoryTotalBytes", sample.MemoryTotalBytes), ("MemoryFreeBytes", sample.MemoryAvailableBytes), ("StorageFreeBytes", sample.Fullest?.AvailableBytes), ("UptimeSeconds", sample.UptimeSeconds), ("Sample", JsonSerializer.Serialize(sample, WireJson.Default.Sample)));
        }
        transaction.Commit();
    }

    private static readonly Dictionary<string, SqliteCommand> Statements = [];

    private static void Insert(SqliteConnection database, string table, params ReadOnlySpan<(string Column, object? Value)> values)
    {
        if (!Statements.TryGetValue(table, out var statement))
        {
            Statements[table] = statement = database.CreateCommand();
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
