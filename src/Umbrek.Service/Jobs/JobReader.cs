using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Estate;
using Umbrek.Service.Files;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Jobs;

/// <summary>Reads jobs, runs and output as they are stored.</summary>
public sealed class JobReader(IDatabase database, EstateIndex estate, AccessIndex access, Gate gate, IAgentLinks links, ContentServer content, OutputTerm term)
{
    /// <summary>Newest first; those that name a host which one may see.</summary>
    public async Task<Page<JobInfo>> ListAsync(Asker by, Guid? hostId, string? cursor, int? limit, CancellationToken cancel)
    {
        var size = Paging.Size(limit);
        await using var db = database.Open();
        var jobs = db.Jobs.AsNoTracking();
        var seen = access.GroupsWith(by.Reach, Permission.See);
        if (seen is not null)
        {
            jobs = jobs.Where(j => db.Runs.Any(r => r.JobId == j.Id && db.Hosts.Any(h => h.Id == r.HostId && seen.Contains(h.GroupId))));
        }
        if (hostId is { } host)
        {
            gate.Host(by, host, Permission.See);
            jobs = jobs.Where(j => db.Runs.Any(r => r.JobId == j.Id && r.HostId == host));
        }
        var total = await jobs.CountAsync(cancel).ConfigureAwait(false);
        if (!string.IsNullOrEmpty(cursor))
        {
            // Jobs made in the same millisecond are told apart by their id.
            var last = Paging.ReadCursor(cursor);
            var at = await db.Jobs.Where(j => j.Id == last).Select(j => j.CreatedAt).FirstOrDefaultAsync(cancel).ConfigureAwait(false);
            jobs = jobs.Where(j => j.CreatedAt < at || (j.CreatedAt == at && j.Id.CompareTo(last) < 0));
        }
        var rows = await jobs.OrderByDescending(j => j.CreatedAt).ThenByDescending(j => j.Id).Take(size + 1).ToListAsync(cancel).ConfigureAwait(false);
        var page = rows.Take(size).ToList();
        var counts = await CountAsync(db, [.. page.Select(j => j.Id)], seen, cancel).ConfigureAwait(false);
        var open = await WholeAsync(db, [.. page.Select(j => j.Id)], by.Reach, cancel).ConfigureAwait(false);
        return new Page<JobInfo>([.. page.Select(j => ToInfo(j, counts.GetValueOrDefault(j.Id, None), open.Contains(j.Id)))], rows.Count > size ? page[^1].Id.ToString() : null, total);
    }

    /// <summary>A job as one sees it: with the runs on hosts that one may see.</summary>
    /// <exception cref="ProblemException">404: there is none, or one may see none of its hosts.</exception>
    public async Task<JobInfo> GetInfoAsync(Guid jobId, Reach reach, CancellationToken cancel) =>
        await FindInfoAsync(jobId, reach, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("job");

    /// <returns>Null when there is none, or one may see none of its hosts.</returns>
    public async Task<JobInfo?> FindInfoAsync(Guid jobId, Reach reach, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Jobs.AsNoTracking().FirstOrDefaultAsync(j => j.Id == jobId, cancel).ConfigureAwait(false);
        if (row is null)
        {
            return null;
        }
        var seen = access.GroupsWith(reach, Permission.See);
        var counts = await CountAsync(db, [jobId], seen, cancel).ConfigureAwait(false);
        return seen is null || counts.ContainsKey(jobId)
            ? ToInfo(row, counts.GetValueOrDefault(jobId, None), (await WholeAsync(db, [jobId], reach, cancel).ConfigureAwait(false)).Contains(jobId))
            : null;
    }

    /// <summary>What one has to be granted on a host to read what a job's run put out there, or to end it.</summary>
    public async Task<Permission> NeedsAsync(Guid jobId, CancellationToken cancel)
    {
        await using var db = database.Open();
        var command = await db.Jobs.Where(j => j.Id == jobId).Select(j => j.Command).FirstOrDefaultAsync(cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("job");
        return JsonSerializer.Deserialize(command, WireJson.Default.CommandSpec)!.Needs;
    }

    /// <summary>Those of the jobs that one may see whole: with scripts, variables and input, for one may run commands on a host of theirs.</summary>
    private async Task<HashSet<Guid>> WholeAsync(UmbrekContext db, List<Guid> jobIds, Reach reach, CancellationToken cancel)
    {
        if (access.GroupsWith(reach, Permission.Run) is not { } groups)
        {
            return [.. jobIds];
        }
        return [.. await db.Jobs.Where(j => jobIds.Contains(j.Id) && db.Runs.Any(r => r.JobId == j.Id && db.Hosts.Any(h => h.Id == r.HostId && groups.Contains(h.GroupId)))).Select(j => j.Id).ToListAsync(cancel).ConfigureAwait(false)];
    }

    public async Task<JobDetail> GetAsync(Guid jobId, Reach reach, CancellationToken cancel)
    {
        var info = await GetInfoAsync(jobId, reach, cancel).ConfigureAwait(false);
        await using var db = database.Open();
        var runs = await db.Runs.AsNoTracking().Where(r => r.JobId == jobId).ToListAsync(cancel).ConfigureAwait(false);
        return new JobDetail(info, ToInfos(runs, info.CreatedAt, reach));
    }

    /// <exception cref="ProblemException">404: there is none, or one may not see its host.</exception>
    public async Task<RunInfo> GetRunAsync(Guid runId, Reach reach, CancellationToken cancel)
    {
        await using var db = database.Open();
        var run = await db.Runs.AsNoTracking().FirstOrDefaultAsync(r => r.Id == runId, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("run");
        return Sees(run, reach)
            ? ToInfo(run, await db.Jobs.Where(j => j.Id == run.JobId).Select(j => j.CreatedAt).FirstAsync(cancel).ConfigureAwait(false))
            : throw ProblemException.NotFound("run");
    }

    public async Task<List<RunInfo>> GetRunsAsync(IReadOnlyCollection<Guid> runIds, DateTimeOffset createdAt, Reach reach, CancellationToken cancel)
    {
        await using var db = database.Open();
        var found = new List<RunInfo>();
        foreach (var part in runIds.Chunk(500))
        {
            found.AddRange(ToInfos(await db.Runs.AsNoTracking().Where(r => part.Contains(r.Id)).ToListAsync(cancel).ConfigureAwait(false), createdAt, reach));
        }
        return found;
    }

    /// <summary>Output of one run behind a sequence, in order.</summary>
    /// <param name="mostBytes">Stops after this many bytes; ask again for the rest.</param>
    public async Task<List<OutputPiece>> ReadOutputAsync(Guid runId, long after, int mostBytes, CancellationToken cancel)
    {
        await using var db = database.Open();
        var pieces = new List<OutputPiece>();
        var bytes = 0;
        await foreach (var row in db.RunOutput.AsNoTracking().Where(o => o.RunId == runId && o.Sequence > after).OrderBy(o => o.Sequence).AsAsyncEnumerable().WithCancellation(cancel).ConfigureAwait(false))
        {
            var data = OutputPacking.Unpack(row);
            pieces.Add(new OutputPiece(row.RunId, row.Sequence, row.Stream, data));
            bytes += data.Length;
            if (bytes >= mostBytes)
            {
                break;
            }
        }
        return pieces;
    }

    private static readonly RunCounts None = new(0, 0, 0, 0, 0, 0, 0, 0, 0, 0);

    private static async Task<Dictionary<Guid, RunCounts>> CountAsync(UmbrekContext db, List<Guid> jobIds, List<Guid>? seen, CancellationToken cancel)
    {
        var runs = db.Runs.Where(r => jobIds.Contains(r.JobId));
        if (seen is not null)
        {
            runs = runs.Where(r => db.Hosts.Any(h => h.Id == r.HostId && seen.Contains(h.GroupId)));
        }
        var rows = await runs.GroupBy(r => new { r.JobId, r.State })
            .Select(g => new { g.Key.JobId, g.Key.State, Count = g.Count() }).ToListAsync(cancel).ConfigureAwait(false);
        return rows.GroupBy(r => r.JobId).ToDictionary(g => g.Key, g =>
        {
            int Of(RunState state) => g.Where(r => r.State == state).Sum(r => r.Count);
            return new RunCounts(
                Of(RunState.Waiting), Of(RunState.Sent), Of(RunState.Running), Of(RunState.Succeeded), Of(RunState.Failed),
                Of(RunState.TimedOut), Of(RunState.Refused), Of(RunState.Cancelled), Of(RunState.Expired), Of(RunState.Interrupted));
        });
    }

    /// <summary>A run on a host that is gone is for those who see everything.</summary>
    private bool Sees(RunRow run, Reach reach) => estate.Find(run.HostId) is { } host ? reach.May(Permission.See, host.GroupPath) : reach.Everywhere.Contains(Permission.See);

    private List<RunInfo> ToInfos(List<RunRow> runs, DateTimeOffset createdAt, Reach reach) =>
        [.. runs.Where(r => Sees(r, reach)).Select(r => ToInfo(r, createdAt)).OrderBy(r => r.HostLabel, StringComparer.OrdinalIgnoreCase).ThenBy(r => r.Id)];

    private RunInfo ToInfo(RunRow r, DateTimeOffset createdAt)
    {
        var host = estate.Find(r.HostId);
        var held = r is { Held: true, State: RunState.Waiting } && links.IsLinked(r.HostId);
        return new RunInfo(
            r.Id, r.JobId, r.HostId, host?.Label ?? "removed host", host?.SystemName ?? "", host?.GroupPath ?? "", r.State, createdAt,
            r.StartedAt, r.EndedAt, r.ExitStatus, r.Reason ?? (held ? "Its turn has not come yet." : null), r.User, r.StdoutBytes, r.StderrBytes, held,
            r.State is RunState.Sent or RunState.Running ? content.Fetched(r.Id) : null, r.ReadSteps(), term.IsOver(r, createdAt));
    }

    private static JobInfo ToInfo(JobRow j, RunCounts counts, bool whole)
    {
        var command = JsonSerializer.Deserialize(j.Command, WireJson.Default.CommandSpec)!;
        return new JobInfo(j.Id, j.CreatedAt, j.CreatedBy, j.Selection, whole ? command : command.ForOnlookers(), j.ScriptName is { } name ? $"{name} (version {j.ScriptNumber})" : command.Display(), j.ExpiresAt, j.CancelledAt, j.CancelledBy, counts,
            j.Pace is null ? null : JsonSerializer.Deserialize(j.Pace, WireJson.Default.RunPace), j.AgainOf,
            j.ScriptId is { } script ? new ScriptMark(script, j.ScriptName ?? "", j.ScriptNumber ?? 0) : null);
    }
}
