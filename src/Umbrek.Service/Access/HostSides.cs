using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Service.Enrolment;
using Umbrek.Service.Estate;
using Umbrek.Service.Storage;
using Umbrek.Wire;

namespace Umbrek.Service.Access;

/// <summary>Keeps what hosts say of their own side.</summary>
public sealed class HostSides(IDatabase database, EstateIndex estate)
{
    /// <summary>Most hosts say at each link what they said before: that writes nothing.</summary>
    /// <returns>True when the host has ended the sessions that were open on it.</returns>
    public async Task<bool> TakeAsync(Guid hostId, HostSide side, CancellationToken cancel)
    {
        var before = estate.FindSide(hostId);
        if (before == side)
        {
            return false;
        }
        var json = JsonSerializer.Serialize(side, WireJson.Default.HostSide);
        await using var db = database.Open();
        await db.Hosts.Where(h => h.Id == hostId).ExecuteUpdateAsync(set => set.SetProperty(h => h.Side, json), cancel).ConfigureAwait(false);
        estate.SideTold(hostId, side);
        return side.SessionsEndedAt is not null && side.SessionsEndedAt != before?.SessionsEndedAt;
    }

    /// <summary>What the host said last; until it has said anything, what it joined with.</summary>
    public static HostSide Read(HostRow row) =>
        row.Side is null ? new HostSide(InstallerService.ReadPolicy(row.Policy)) : JsonSerializer.Deserialize(row.Side, WireJson.Default.HostSide)!;
}
