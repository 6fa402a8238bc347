using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Access;
using Umbrek.Wire.Api;

namespace Umbrek.Service.Access;

/// <summary>What places say of the host policy: shown, changed, and sent to the hosts that it reaches.</summary>
public sealed class PolicyService(IDatabase database, PolicyIndex policies, PolicyCourier courier, AccessIndex access, EstateIndex estate, Gate gate, AuditLog audit, TimeProvider time)
{
    /// <summary>The places at which something is said, as far as the caller may see them.</summary>
    public async Task<List<PolicyPlace>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var rows = await db.Policies.AsNoTracking().ToListAsync(cancel).ConfigureAwait(false);
        return [.. rows.Select(r => ToPlace(r, by)).OfType<PolicyPlace>().Where(p => !p.Own.SaysNothing)
            .OrderBy(p => p.GroupPath ?? "", StringComparer.OrdinalIgnoreCase).ThenBy(p => p.IsHost).ThenBy(p => p.Place, StringComparer.OrdinalIgnoreCase)];
    }

    public Task<PolicyInfo> EverywhereAsync(CancellationToken cancel) => ReadAsync(Guid.Empty, null, null, policies.Layers(null), cancel);

    public Task<PolicyInfo> OfGroupAsync(Guid groupId, Asker by, CancellationToken cancel)
    {
        var path = gate.Group(by, groupId, Permission.See);
        return ReadAsync(groupId, path, null, policies.Layers(path), cancel);
    }

    public async Task<PolicyInfo> OfHostAsync(Guid hostId, Asker by, CancellationToken cancel)
    {
        var host = gate.Host(by, hostId, Permission.See);
        var read = await ReadAsync(hostId, host.Label, estate.FindSide(hostId), policies.Layers(host.GroupPath, (hostId, host.Label)), cancel).ConfigureAwait(false);
        var same = read.Side?.KeyMark is { } mark ? estate.WithKeyMark(mark).Where(h => h.Id != hostId && by.Reach.May(Permission.See, h.GroupPath)).Select(h => h.Label).Order(StringComparer.OrdinalIgnoreCase).ToList() : [];
        // The mark itself is for comparing alone.
        return read with { SameKeyAs = same, Side = read.Side is { } side ? side with { KeyMark = null } : null };
    }

    public async Task<PolicyInfo> ChangeEverywhereAsync(HostPolicyPart part, long version, Asker by, CancellationToken cancel)
    {
        await StoreAsync(new PolicyRow { Id = Guid.Empty }, "everything", part, version, by, cancel).ConfigureAwait(false);
        return await EverywhereAsync(cancel).ConfigureAwait(false);
    }

    public async Task<PolicyInfo> ChangeGroupAsync(Guid groupId, HostPolicyPart part, long version, Asker by, CancellationToken cancel)
    {
        await StoreAsync(new PolicyRow { Id = groupId, GroupId = groupId }, gate.Group(by, groupId, Permission.Administer), part, version, by, cancel).ConfigureAwait(false);
        return await OfGroupAsync(groupId, by, cancel).ConfigureAwait(false);
    }

    public async Task<PolicyInfo> ChangeHostAsync(Guid hostId, HostPolicyPart part, long version, Asker by, CancellationToken cancel)
    {
        await StoreAsync(new PolicyRow { Id = hostId, HostId = hostId }, gate.Host(by, hostId, Permission.Administer).Label, part, version, by, cancel).ConfigureAwait(false);
        return await OfHostAsync(hostId, by, cancel).ConfigureAwait(false);
    }

    /// <summary>The policy is in the database, and on its way to every linked host that it reaches, when this returns.</summary>
    private async Task StoreAsync(PolicyRow fresh, string place, HostPolicyPart part, long version, Asker by, CancellationToken cancel)
    {
        var usable = part.Normalise() ?? throw ProblemException.Invalid("The policy names what is allowed, when a person is asked and told, and what takes the access key; what is left out comes from above. See the API description.");
        var changed = new ProblemException(412, ProblemTypes.Changed, $"Somebody else changed the policy of {place} meanwhile. Read it again and repeat the change if it is still right.");
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            var row = await db.Policies.FirstOrDefaultAsync(p => p.Id == fresh.Id, cancel).ConfigureAwait(false);
            if ((row?.Version ?? 0) != version)
            {
                throw changed;
            }
            var before = row?.Part ?? "{}";
            if (row is null)
            {
                db.Policies.Add(row = fresh);
            }
            row.Part = JsonSerializer.Serialize(usable, WireJson.Default.HostPolicyPart);
            row.Version = version + 1;
            row.ChangedAt = time.GetUtcNow();
            row.ChangedBy = by.Name;
            try
            {
                await audit.AddAsync(db, by, "policy.change", place, cancel, ("id", fresh.Id == Guid.Empty ? null : $"{fresh.Id}"), ("from", before), ("to", row.Part)).ConfigureAwait(false);
            }
            catch (DbUpdateException)
            {
                throw changed;
            }
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        await policies.LoadAsync().ConfigureAwait(false);
        await courier.SendAllAsync(CancellationToken.None).ConfigureAwait(false);
    }

    private async Task<PolicyInfo> ReadAsync(Guid id, string? place, HostSide? side, IReadOnlyList<PolicyLayer> layers, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Policies.AsNoTracking().FirstOrDefaultAsync(p => p.Id == id, cancel).ConfigureAwait(false);
        var from = PolicyLayers.Origins(layers);
        static string? Name(PolicyLayer? layer) => layer is null ? null : layer.Place ?? "everything";
        return new PolicyInfo(
            id == Guid.Empty ? null : id, place, row is null ? HostPolicyPart.Inherit : PolicyIndex.Read(row.Part), PolicyLayers.Fold(layers),
            new PolicyFrom(Name(from.Allowed), Name(from.Consent), Name(from.Notice), Name(from.KeyFor), Name(from.PutOff), Name(from.Record), Name(from.FileRoots), Name(from.GiveScreen)), side, row?.Version ?? 0, row?.ChangedAt, row?.ChangedBy);
    }

    /// <returns>Null for what the caller may not see.</returns>
    private PolicyPlace? ToPlace(PolicyRow row, Asker by)
    {
        var own = PolicyIndex.Read(row.Part);
        if (row.HostId is { } hostId)
        {
            return estate.Find(hostId, by.Reach) is { } host
                ? new PolicyPlace(hostId, true, host.Label, host.GroupPath, own, policies.Wanted(hostId, host.GroupPath), row.ChangedAt, row.ChangedBy)
                : null;
        }
        var path = row.GroupId is { } group ? access.PathOf(group) : null;
        return row.GroupId is not null && (path is null || !by.Reach.Shows(path))
            ? null
            : new PolicyPlace(row.GroupId, false, path ?? "everything", path, own, PolicyLayers.Fold(policies.Layers(path)), row.ChangedAt, row.ChangedBy);
    }
}
