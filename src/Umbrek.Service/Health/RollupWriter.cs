using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Health;
using Umbrek.Service.Estate;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Wire;

namespace Umbrek.Service.Health;

/// <summary>Makes roll-ups of what is stored: of samples every five minutes, of those every hour, and of the hours when a disk will be full.</summary>
public sealed partial class RollupWriter(IDatabase database, RollupQueue queue, EstateIndex estate, Intake intake, TimeProvider time, ILogger<RollupWriter> log) : BackgroundService
{
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(15);

    /// <summary>How long a part that is over waits for its last samples.</summary>
    private static readonly TimeSpan Grace = TimeSpan.FromSeconds(20);

    /// <summary>How far back a disk's trend looks.</summary>
    private static readonly TimeSpan TrendOver = TimeSpan.FromHours(72);
    private const int PerTurn = 500;

    /// <summary>Hosts with another hour, whose trends are to be looked at.</summary>
    private readonly HashSet<Guid> trends = [];

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        await FindMissedAsync(stoppingToken).ConfigureAwait(false);
        using var timer = new PeriodicTimer(Look, time);
        do
        {
            foreach (var part in queue.Take(time.GetUtcNow() - Grace).Chunk(PerTurn))
            {
                try
                {
                    await RollAsync(part, stoppingToken).ConfigureAwait(false);
                }
                catch (Exception e) when (e is not OperationCanceledException)
                {
                    Log.Failed(log, e, part.Length);
                    foreach (var (host, span, at) in part)
                    {
                        queue.Add(host, span, at);
                    }
                }
            }
            await FollowTrendsAsync(stoppingToken).ConfigureAwait(false);
        }
        while (await timer.WaitForNextTickAsync(stoppingToken).ConfigureAwait(false));
    }

    /// <summary>What an earlier life of the service had stored and not rolled up.</summary>
    private async Task FindMissedAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        var since = time.GetUtcNow() - SampleRules.RawRetention;
        foreach (var host in estate.All.Where(h => h.SampledAt is not null).ToList())
        {
            var last = await db.Rollups.AsNoTracking().Where(r => r.HostId == host.Id && r.Span == RollupSpan.FiveMinutes).OrderByDescending(r => r.At).Select(r => (DateTimeOffset?)r.At).FirstOrDefaultAsync(cancel).ConfigureAwait(false);
            var from = RollupSpan.FiveMinutes.Floor(last is { } done && done > since ? done : since);
            for (var at = from; at <= host.SampledAt; at += RollupSpan.FiveMinutes.Length())
            {
                queue.Add(host.Id, RollupSpan.FiveMinutes, at);
            }
        }
    }

    private async Task RollAsync(IReadOnlyList<(Guid HostId, RollupSpan Span, DateTimeOffset At)> parts, CancellationToken cancel)
    {
        var rows = new List<RollupRow>();
        await using var db = database.Open();
        foreach (var (host, span, at) in parts)
        {
            var rollup = span == RollupSpan.FiveMinutes ? await OfSamplesAsync(db, host, at, cancel).ConfigureAwait(false) : await OfShorterAsync(db, host, at, cancel).ConfigureAwait(false);
            if (rollup is null)
            {
                continue;
            }
            rows.Add(new RollupRow { HostId = host, Span = span, At = at, Figures = rollup.Encode() });
            if (span == RollupSpan.FiveMinutes)
            {
                queue.Add(host, RollupSpan.Hour, RollupSpan.Hour.Floor(at));
            }
            else
            {
                trends.Add(host);
            }
        }
        await intake.RollupsAsync(rows, []).WaitAsync(cancel).ConfigureAwait(false);
    }

    private static async Task<Rollup?> OfSamplesAsync(UmbrekContext db, Guid host, DateTimeOffset at, CancellationToken cancel)
    {
        var end = at + RollupSpan.FiveMinutes.Length();
        var samples = await db.Samples.AsNoTracking().Where(s => s.HostId == host && s.At >= at && s.At < end).Select(s => s.Sample).ToListAsync(cancel).ConfigureAwait(false);
        return samples.Count == 0 ? null : Rollup.Of([.. samples.Select(s => JsonSerializer.Deserialize(s, WireJson.Default.Sample)).OfType<Sample>()]);
    }

    private static async Task<Rollup?> OfShorterAsync(UmbrekContext db, Guid host, DateTimeOffset at, CancellationToken cancel)
    {
        var end = at + RollupSpan.Hour.Length();
        var parts = await db.Rollups.AsNoTracking().Where(r => r.HostId == host && r.Span == RollupSpan.FiveMinutes && r.At >= at && r.At < end).Select(r => r.Figures).ToListAsync(cancel).ConfigureAwait(false);
        return parts.Count == 0 ? null : Rollup.Merge([.. parts.Select(p => Rollup.Decode(p))]);
    }

    private async Task FollowTrendsAsync(CancellationToken cancel)
    {
        if (trends.Count == 0)
        {
            return;
        }
        try
        {
            await using var db = database.Open();
            var fills = new List<(Guid, DateTimeOffset?)>();
            foreach (var host in trends)
            {
                fills.Add((host, await FullAtAsync(db, host, cancel).ConfigureAwait(false)));
            }
            await intake.RollupsAsync([], fills).WaitAsync(cancel).ConfigureAwait(false);
            trends.Clear();
        }
        catch (Exception e) when (e is not OperationCanceledException)
        {
            Log.Failed(log, e, trends.Count);
        }
    }

    /// <summary>When the file system that is the fullest now will be full.</summary>
    private async Task<DateTimeOffset?> FullAtAsync(UmbrekContext db, Guid host, CancellationToken cancel)
    {
        var since = time.GetUtcNow() - TrendOver;
        var rows = await db.Rollups.AsNoTracking().Where(r => r.HostId == host && r.Span == RollupSpan.Hour && r.At >= since).OrderBy(r => r.At).Select(r => new { r.At, r.Figures }).ToListAsync(cancel).ConfigureAwait(false);
        var hours = rows.ConvertAll(r => (r.At, Rollup: Rollup.Decode(r.Figures)));
        if (hours.Count == 0 || hours[^1].Rollup.Figures.Where(f => f.Metric.Name == "storage.used").OrderByDescending(f => f.Mean).Select(f => f.Part).FirstOrDefault() is not { } fullest)
        {
            return null;
        }
        return FillTrend.FullAt([.. hours.Select(h => (h.At, Figure: h.Rollup.Find("storage.used", fullest))).Where(h => h.Figure is not null).Select(h => (h.At + RollupSpan.Hour.Length() / 2, (double)h.Figure!.Value.Mean))]);
    }

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Warning, Message = "{Count} roll-ups could not be made; they are tried again")]
        public static partial void Failed(ILogger logger, Exception e, int count);
    }
}
