using System.Collections.Concurrent;
using System.Globalization;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Enrolment;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Enrolment;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Enrolment;

/// <summary>Finding computers without an agent: a linked host tries the addresses around it, one range at a time.</summary>
public sealed class ScanService(IDatabase database, EstateIndex estate, IAgentLinks links, Vendors vendors, Gate gate, AuditLog audit, TimeProvider time)
{
    public static readonly IReadOnlyList<int> UsualPorts = [22, 80, 443, 445, 631, 3389, 9100];
    private static readonly TimeSpan AnswerWithin = TimeSpan.FromSeconds(10);

    /// <summary>Hosts that scan now: all the others leave without a look into the database.</summary>
    private readonly ConcurrentDictionary<Guid, Guid> running = new();

    /// <summary>Published to whenever a scan has news.</summary>
    public ChangeFeed<Guid> Changes { get; } = new();

    public async Task<ScanInfo> StartAsync(NewScan wish, Asker by, CancellationToken cancel)
    {
        var host = gate.Host(by, wish.HostId, Permission.Scan);
        if (AddressRange.Parse(wish.Range ?? "", out var problem) is not { } range)
        {
            await audit.AddAsync(by, "scan.refuse", host.Label, cancel, ("range", wish.Range), ("reason", problem)).ConfigureAwait(false);
            throw ProblemException.Invalid(problem);
        }
        var ports = wish.Ports ?? UsualPorts;
        if (ports.Count is < 1 or > 16 || ports.Any(p => p is < 1 or > 65535))
        {
            throw ProblemException.Invalid("Name 1 to 16 ports, each from 1 to 65535.");
        }
        if (wish.ProbesPerSecond is < 1 or > 500)
        {
            throw ProblemException.Invalid("A scan makes 1 to 500 probes a second; more would disturb small networks.");
        }
        var row = new ScanRow
        {
            Id = Guid.CreateVersion7(),
            HostId = host.Id,
            Range = wish.Range!.Trim(),
            Ports = string.Join(',', ports.Distinct()),
            ProbesPerSecond = wish.ProbesPerSecond,
            State = ScanState.Running,
            StartedAt = time.GetUtcNow(),
            StartedBy = by.Name,
            Total = range.Count,
        };
        await using var db = database.Open();
        await using (var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false))
        {
            if (await db.Scans.AnyAsync(s => s.HostId == host.Id && s.State == ScanState.Running, cancel).ConfigureAwait(false))
            {
                throw new ProblemException(409, ProblemTypes.Conflict, $"{host.Label} is scanning already. Wait for it, or cancel that scan.");
            }
            db.Scans.Add(row);
            await audit.AddAsync(db, by, "scan.start", host.Label, cancel, ("id", $"{row.Id}"), ("range", row.Range), ("ports", row.Ports), ("rate", $"{row.ProbesPerSecond}")).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        running[host.Id] = row.Id;
        string? refused;
        try
        {
            refused = (await links.AskAsync(host.Id, new HostRequest(HostRequest.BeginScan, Scan: new ScanOrder(row.Id, range.First, range.Last, [.. ports.Distinct()], row.ProbesPerSecond)), AnswerWithin, cancel).ConfigureAwait(false)).Error;
        }
        catch (HostUnreachableException e)
        {
            refused = e.Message;
        }
        if (refused is not null)
        {
            running.TryRemove(host.Id, out _);
            await EndAsync(row.Id, ScanState.Failed, refused, cancel).ConfigureAwait(false);
            throw new ProblemException(409, ProblemTypes.HostAway, refused);
        }
        return ToInfo(row, []);
    }

    /// <summary>Newest first, from hosts at which one may scan.</summary>
    public async Task<List<ScanInfo>> ListAsync(Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var rows = await db.Scans.AsNoTracking().OrderByDescending(s => s.Id).Take(Paging.Default).ToListAsync(cancel).ConfigureAwait(false);
        rows = [.. rows.Where(r => estate.Find(r.HostId) is { } host && by.Reach.May(Permission.Scan, host.GroupPath)).Take(50)];
        var ids = rows.Select(r => r.Id).ToList();
        var finds = (await db.ScanFinds.AsNoTracking().Where(f => ids.Contains(f.ScanId)).ToListAsync(cancel).ConfigureAwait(false)).ToLookup(f => f.ScanId);
        return [.. rows.Select(r => ToInfo(r, ToFinds(finds[r.Id], by.Reach)))];
    }

    public async Task<ScanDetail> GetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Scans.AsNoTracking().FirstOrDefaultAsync(s => s.Id == id, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("scan");
        if (estate.Find(row.HostId, by.Reach) is null)
        {
            throw ProblemException.NotFound("scan");
        }
        gate.Host(by, row.HostId, Permission.Scan);
        var finds = ToFinds(await db.ScanFinds.AsNoTracking().Where(f => f.ScanId == id).ToListAsync(cancel).ConfigureAwait(false), by.Reach);
        return new ScanDetail(ToInfo(row, finds), finds);
    }

    public async Task<ScanDetail> CancelAsync(Guid id, Asker by, CancellationToken cancel)
    {
        var detail = await GetAsync(id, by, cancel).ConfigureAwait(false);
        if (detail.Info.State == ScanState.Running)
        {
            try
            {
                await links.AskAsync(detail.Info.HostId, new HostRequest(HostRequest.CancelScan, Scan: new ScanOrder(id, 0, 0, [], 1)), AnswerWithin, cancel).ConfigureAwait(false);
            }
            catch (HostUnreachableException)
            {
                // It ended with the link.
            }
            await audit.AddAsync(by, "scan.cancel", detail.Info.HostLabel, cancel, ("id", $"{id}")).ConfigureAwait(false);
            await EndAsync(id, ScanState.Cancelled, $"cancelled by {by.Name}", cancel).ConfigureAwait(false);
        }
        return await GetAsync(id, by, cancel).ConfigureAwait(false);
    }

    /// <summary>What a host found; from another host than was asked it is passed over.</summary>
    public async Task ReportedAsync(Guid hostId, ScanReport report, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Scans.FirstOrDefaultAsync(s => s.Id == report.ScanId && s.HostId == hostId, cancel).ConfigureAwait(false);
        if (row is null || row.State != ScanState.Running || AddressRange.Parse(row.Range, out _) is not { } range)
        {
            return;
        }
        row.Probed = Math.Clamp(report.Probed, row.Probed, row.Total);
        foreach (var answer in (report.Answers ?? []).Where(a => a is { Address: not null } && AddressRange.Parse(a.Address, out _) is { Count: 1 } one && one.First >= range.First && one.First <= range.Last).DistinctBy(a => a.Address))
        {
            var find = await db.ScanFinds.FirstOrDefaultAsync(f => f.ScanId == row.Id && f.Address == answer.Address, cancel).ConfigureAwait(false);
            if (find is null)
            {
                db.ScanFinds.Add(find = new ScanFindRow { ScanId = row.Id, Address = answer.Address });
            }
            find.Name = Names.Clean(answer.Name, "name", out _) ?? find.Name;
            find.HardwareAddress = answer.HardwareAddress is { Length: 17 } hardware ? hardware : find.HardwareAddress;
            find.OpenPorts = string.Join(',', (answer.OpenPorts ?? []).Where(p => p is > 0 and < 65536).Distinct().Order().Take(16));
        }
        if (report.Ended)
        {
            row.State = report.Problem is null ? ScanState.Done : ScanState.Failed;
            row.Problem = report.Problem is { Length: > 500 } text ? text[..500] : report.Problem;
            row.EndedAt = time.GetUtcNow();
            running.TryRemove(hostId, out _);
        }
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        Changes.Publish(row.Id);
    }

    /// <summary>A scan lives and ends with its host's link.</summary>
    public async Task HostLeftAsync(Guid hostId)
    {
        if (running.TryRemove(hostId, out var id))
        {
            await EndAsync(id, ScanState.Failed, "the host's link ended before the scan did", CancellationToken.None).ConfigureAwait(false);
        }
    }

    /// <summary>Scans that were running when the service stopped have ended with the links.</summary>
    public async Task SettleAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        foreach (var id in await db.Scans.Where(s => s.State == ScanState.Running).Select(s => s.Id).ToListAsync(cancel).ConfigureAwait(false))
        {
            await EndAsync(id, ScanState.Failed, "the service stopped before the scan ended", cancel).ConfigureAwait(false);
        }
    }

    private async Task EndAsync(Guid id, ScanState state, string problem, CancellationToken cancel)
    {
        await using var db = database.Open();
        var now = time.GetUtcNow();
        await db.Scans.Where(s => s.Id == id && s.State == ScanState.Running)
            .ExecuteUpdateAsync(s => s.SetProperty(r => r.State, state).SetProperty(r => r.Problem, problem).SetProperty(r => r.EndedAt, now), cancel).ConfigureAwait(false);
        Changes.Publish(id);
    }

    private List<ScanFind> ToFinds(IEnumerable<ScanFindRow> rows, Reach reach)
    {
        var ours = estate.SeenBy(reach).Where(h => h.Address is not null).GroupBy(h => h.Address!).ToDictionary(g => g.Key, g => g.First());
        return [.. rows.Select(f => (Row: f, Ours: ours.GetValueOrDefault(f.Address)))
            .OrderBy(f => AddressRange.Parse(f.Row.Address, out _)!.First)
            .Select(f => new ScanFind(f.Row.Address, f.Row.Name, f.Row.HardwareAddress, vendors.Find(f.Row.HardwareAddress), Numbers(f.Row.OpenPorts), f.Ours?.Id, f.Ours?.Label))];
    }

    private ScanInfo ToInfo(ScanRow row, List<ScanFind> finds)
    {
        var host = estate.Find(row.HostId);
        return new ScanInfo(
            row.Id, row.HostId, host?.Label ?? "", host?.GroupPath ?? "", row.Range, Numbers(row.Ports), row.ProbesPerSecond, row.State, row.Problem,
            row.StartedAt, row.StartedBy, row.EndedAt, row.Probed, row.Total, finds.Count, finds.Count(f => f.OursHostId is null));
    }

    private static int[] Numbers(string text) => [.. text.Split(',', StringSplitOptions.RemoveEmptyEntries).Select(p => int.Parse(p, CultureInfo.InvariantCulture))];
}
