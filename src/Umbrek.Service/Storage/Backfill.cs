using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Estate;
using Umbrek.Core.Inventory;

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
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
    }
}
