using System.Diagnostics;
using Microsoft.Data.Sqlite;
using Umbrek.Bench.Hosting;
using Umbrek.Core.Estate;
using Umbrek.Wire;
using Umbrek.Wire.Api;

namespace Umbrek.Bench.Estate;

/// <summary>Finding and selecting among thirty thousand known hosts, beside the bare SQL of the same rows.</summary>
internal static class EstateBench
{
    private const int Hosts = 30_000;
    private const int Runs = 15;
    private const int Warming = 60;
    private const string JustStarted = "    the first fifteen calls";

    public static async Task RunAsync()
    {
        Console.WriteLine($"-- estate of {Hosts} hosts");
        await using var estate = await KnownEstate.StartAsync(Hosts);
        var (service, api, file) = (estate.Service, estate.Api, estate.File);
        Figures.Alone("start of the service", estate.StartSeconds, "s", "");
        Figures.Alone("resident after the start", service.Resident() / 1e6, "MB", "under 900 MB");
        using var bare = new SqliteConnection($"Data Source={file};Mode=ReadOnly");
        bare.Open();

        const string Latest = """(SELECT {0} FROM "Samples" s WHERE s."HostId"=h."Id" ORDER BY s."At" DESC LIMIT 1)""";
        await CompareAsync(api, bare, "quay-ticket-*1", """h."LabelKey" LIKE 'QUAY-TICKET-%1'""");
        await CompareAsync(api, bare, "in \"Saltmarsh Ferry\" and tagged kiosk", """(g."PathKey"='SALTMARSH FERRY' OR g."PathKey" LIKE 'SALTMARSH FERRY/%') AND EXISTS (SELECT 1 FROM "HostTags" t WHERE t."HostId"=h."Id" AND t."Key"='KIOSK')""");
        await CompareAsync(api, bare, "memory.free < 1 GiB and not is used", string.Format(System.Globalization.CultureInfo.InvariantCulture, Latest, "s.\"MemoryFreeBytes\"") + """ < 1073741824 AND NOT EXISTS (SELECT 1 FROM "FactValues" v WHERE v."HostId"=h."Id" AND v."Name"='users.logged-in')""");
        await CompareAsync(api, bare, "fact os.version = 12 and name = *-01", """EXISTS (SELECT 1 FROM "FactValues" v WHERE v."HostId"=h."Id" AND v."Name"='os.version' AND v."TextKey"='12') AND h."SystemNameKey" LIKE '%-01'""");

        foreach (var typed in new[] { "ticket-1234", "tikcet", "elin.marlow", "saltmarsh kiosk" })
        {
            var (cold, found) = await TimeAsync(() => api.GetAsync($"find?text={Uri.EscapeDataString(typed)}", WireJson.Default.PageFindHit, default));
            using var query = bare.CreateCommand();
            query.CommandText = """SELECT h."Id",h."Label" FROM "Hosts" h WHERE h."LabelKey" LIKE $t OR h."SystemNameKey" LIKE $t OR EXISTS (SELECT 1 FROM "FactValues" v WHERE v."HostId"=h."Id" AND v."TextKey" LIKE $t) LIMIT 10""";
            query.Parameters.AddWithValue("$t", $"%{Wildcard.Fold(typed)}%");
            Figures.Line($"find '{typed}'", found * 1000, Time(() => ReadAll(query)) * 1000, "ms", "under 50 ms");
            Figures.Alone(JustStarted, cold * 1000, "ms", "");
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
        var (cold, selected) = await TimeAsync(() => api.GetAsync(path, WireJson.Default.PageHostSummary, default));
        Figures.Line($"{selection} ({rows})", selected * 1000, Time(() => ReadAll(query)) * 1000, "ms", "under 50 ms");
        Figures.Alone(JustStarted, cold * 1000, "ms", "");
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

    /// <summary>Medians: of the first calls of its kind after the start, and of those once what they run is compiled.</summary>
    private static async Task<(double Cold, double Warm)> TimeAsync(Func<Task> act)
    {
        var cold = await MedianAsync(act);
        for (var i = 0; i < Warming; i++)
        {
            await act();
        }
        return (cold, await MedianAsync(act));
    }

    private static async Task<double> MedianAsync(Func<Task> act)
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
}
