using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Inventory;
using Umbrek.Wire;

namespace Umbrek.Service.Storage;

/// <summary>Fills what this version keeps beside rows that an older one wrote.</summary>
public static class Backfill
{
    public static async Task RunAsync(UmbrekContext db, CancellationToken cancel)
    {
        foreach (var host in await db.Hosts.Where(h => h.LabelKey == "").ToListAsync(cancel).ConfigureAwait(false))
        {
            host.LabelKey = Wildcard.Fold(host.Label);
            host.SystemNameKey = Wildcard.Fold(host.SystemName);
        }
        if (!await db.FactValues.AnyAsync(cancel).ConfigureAwait(false))
        {
            foreach (var fact in await db.Facts.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false))
            {
                using var value = JsonDocument.Parse(fact.Value);
                db.FactValues.AddRange(FactValues.Of(value.RootElement).Index().Select(v => new FactValueRow { HostId = fact.HostId, Name = fact.Name, Ordinal = v.Index, TextKey = Wildcard.Fold(v.Item.Text), Number = v.Item.Number }));
            }
        }
        // Selections compare the latest sample; the ones before it are only drawn, from what they hold as JSON.
        var latest = db.Hosts.Select(h => new { h.Id, Total = db.Samples.Where(s => s.HostId == h.Id).OrderByDescending(s => s.At).Select(s => (long?)s.MemoryTotalBytes).FirstOrDefault() });
        foreach (var host in await latest.Where(l => l.Total == 0).Select(l => l.Id).ToListAsync(cancel).ConfigureAwait(false))
        {
            var row = await db.Samples.Where(s => s.HostId == host).OrderByDescending(s => s.At).FirstAsync(cancel).ConfigureAwait(false);
            if (JsonSerializer.Deserialize(row.Sample, WireJson.Default.Sample) is { } sample)
            {
                (row.MemoryTotalBytes, row.MemoryFreeBytes, row.StorageFreeBytes, row.UptimeSeconds) = (sample.MemoryTotalBytes, sample.MemoryAvailableBytes, sample.Fullest?.AvailableBytes, sample.UptimeSeconds);
            }
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
    }
}
