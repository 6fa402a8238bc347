using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Jobs;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;

namespace Umbrek.Service.Jobs;

/// <summary>Reads jobs, runs and output as they are stored.</summary>
public sealed class JobReader(IDatabase database, EstateIndex estate)
{
    /// <summary>Newest first.</summary>
    public async Task<Page<JobInfo>> ListAsync(Guid? hostId, string? cursor, int? limit, CancellationToken cancel)
    {
        var size = Paging.Size(limit);
        await using var db = database.Open();
        var jobs = db.Jobs.AsNoTracking();
        if (hostId is { } host)
        {
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
        var counts = await CountAsync(db, [.. page.Select(j => j.Id)], cancel).ConfigureAwait(false);
        return new Page<JobInfo>([.. page.Select(j => ToInfo(j, counts.GetValueOrDefault(j.Id, None)))], rows.Count > size ? page[^1].Id.ToString() : null, total);
    }

    public async Task<JobInfo> GetInfoAsync(Guid jobId, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Jobs.AsNoTracking().FirstOrDefaultAsync(j => j.Id == jobId, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("job");
        var counts = await CountAsync(db, [jobId], cancel).ConfigureAwait(false);
        return ToInfo(row, counts.GetValueOrDefault(jobId, None));
    }

    public async Task<JobDetail> GetAsync(Guid jobId, CancellationToken cancel)
    {
        var info = await GetInfoAsync(jobId, cancel).ConfigureAwait(false);
        await using var db = database.Open();
        var runs = await db.Runs.AsNoTracking().Where(r => r.JobId == jobId).ToListAsync(cancel).ConfigureAwait(false);
        return new JobDetail(info, ToInfos(runs, info.CreatedAt));
    }

    public async Task<RunInfo> GetRunAsync(Guid runId, CancellationToken cancel)
    {
        await using var db = database.Open();
        var run = await db.Runs.AsNoTracking().FirstOrDefaultAsync(r => r.Id == runId, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("run");
        return ToInfo(run, (await GetInfoAsync(run.JobId, cancel).ConfigureAwait(false)).CreatedAt);
    }

    public async Task<List<RunInfo>> GetRunsAsync(IReadOnlyCollection<Guid> runIds, DateTimeOffset createdAt, CancellationToken cancel)
    {
        await using var db = database.Open();
        var found = new List<RunInfo>();
        foreach (var part in runIds.Chunk(500))
        {
            found.AddRange(ToInfos(await db.Runs.AsNoTracking().Where(r => part.Contains(r.Id)).ToListAsync(cancel).ConfigureAwait(false), createdAt));
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
            pieces.Add(new OutputPiece(row.RunId, row.Sequence, row.Stream, row.Data));
            bytes += row.Data.Length;
            if (bytes >= mostBytes)
            {
                break;
            }
        }
        return pieces;
    }

    private static readonly RunCounts None = new(0, 0, 0, 0, 0, 0, 0, 0, 0, 0);

    private static async Task<Dictionary<Guid, RunCounts>> CountAsync(UmbrekContext db, List<Guid> jobIds, CancellationToken cancel)
    {
        var rows = await db.Runs.Where(r => jobIds.Contains(r.JobId)).GroupBy(r => new { r.JobId, r.State })
            .Select(g => new { g.Key.JobId, g.Key.State, Count = g.Count() }).ToListAsync(cancel).ConfigureAwait(false);
        return rows.GroupBy(r => r.JobId).ToDictionary(g => g.Key, g =>
        {
            int Of(RunState state) => g.Where(r => r.State == state).Sum(r => r.Count);
            return new RunCounts(
                Of(RunState.Waiting), Of(RunState.Sent), Of(RunState.Running), Of(RunState.Succeeded), Of(RunState.Failed),
                Of(RunState.TimedOut), Of(RunState.Refused), Of(RunState.Cancelled), Of(RunState.Expired), Of(RunState.Interrupted));
        });
    }

    private List<RunInfo> ToInfos(List<RunRow> runs, DateTimeOffset createdAt) =>
        [.. runs.Select(r => ToInfo(r, createdAt)).OrderBy(r => r.HostLabel, StringComparer.OrdinalIgnoreCase).ThenBy(r => r.Id)];

    private RunInfo ToInfo(RunRow r, DateTimeOffset createdAt)
    {
        var host = estate.Find(r.HostId);
        return new RunInfo(
            r.Id, r.JobId, r.HostId, host?.Label ?? "removed host", host?.SystemName ?? "", host?.GroupPath ?? "", r.State, createdAt,
            r.StartedAt, r.EndedAt, r.ExitStatus, r.Reason, r.User, r.StdoutBytes, r.StderrBytes);
    }

    private static JobInfo ToInfo(JobRow j, RunCounts counts)
    {
        var command = JsonSerializer.Deserialize(j.Command, WireJson.Default.CommandSpec)!;
        return new JobInfo(j.Id, j.CreatedAt, j.CreatedBy, j.Selection, command, command.Display(), j.ExpiresAt, j.CancelledAt, j.CancelledBy, counts);
    }
}
