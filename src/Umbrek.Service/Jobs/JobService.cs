using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Estate;
using Umbrek.Service.Files;
using Umbrek.Service.Hosting;
using Umbrek.Service.Links;
using Umbrek.Service.Sessions;
using Umbrek.Service.Storage;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;

namespace Umbrek.Service.Jobs;

/// <summary>Makes, cancels and expires jobs.</summary>
public sealed class JobService(IDatabase database, SelectionService selections, RunBook book, JobReader reader, ScriptLibrary scripts, Dispatcher dispatcher, Pacer pacer, Intake intake, IAgentLinks links, EstateIndex estate, Gate gate, SessionService sessions, SealedOrders orders, ParcelService parcels, AuditLog audit, TimeProvider time)
{
    private static readonly TimeSpan DefaultExpiry = TimeSpan.FromDays(1);

    /// <summary>A computer that comes back in the middle of somebody's work is not restarted because it was to be yesterday.</summary>
    private static readonly TimeSpan PowerExpiry = TimeSpan.FromMinutes(5);
    private static readonly TimeSpan MostExpiry = TimeSpan.FromDays(60);

    /// <summary>Makes a job for the hosts that the selection names now.</summary>
    /// <param name="idempotencyKey">The same key by the same technician gives the job that was made the first time.</param>
    public async Task<JobInfo> CreateAsync(NewJob wish, Asker by, string? idempotencyKey, CancellationToken cancel)
    {
        var (command, script) = await CommandOfAsync(wish, by, cancel).ConfigureAwait(false);
        if (command.Check() is { } problem)
        {
            throw ProblemException.Invalid(problem);
        }
        if (string.IsNullOrWhiteSpace(wish.Selection))
        {
            throw ProblemException.Invalid("The job names no hosts; give a selection, for example quay-ticket-01 or: in \"Saltmarsh Ferry/Quay\". Every host is 'all'.");
        }
        if (wish.Pace?.Check() is { } paceProblem)
        {
            throw ProblemException.Invalid(paceProblem);
        }
        if (await BeforeAsync(by, idempotencyKey, cancel).ConfigureAwait(false) is { } before)
        {
            return before;
        }
        var chosen = await selections.SelectAsync(wish.Selection, by.Reach, cancel).ConfigureAwait(false);
        if (chosen.Count == 0)
        {
            throw new ProblemException(422, ProblemTypes.SelectionEmpty, $"No host matches '{wish.Selection}'; nothing was run. 'umbrek host list' shows the names.");
        }
        return await MakeAsync(wish, command, script, chosen, null, by, idempotencyKey, cancel).ConfigureAwait(false);
    }

    /// <summary>Makes a job for hosts that the service itself has chosen.</summary>
    internal async Task<JobInfo> CreateOnAsync(NewJob wish, List<HostSummary> chosen, Asker by, string? idempotencyKey, CancellationToken cancel)
    {
        // What was made before is given though the script may be another by now.
        if (await BeforeAsync(by, idempotencyKey, cancel).ConfigureAwait(false) is { } before)
        {
            return before;
        }
        var (command, script) = await CommandOfAsync(wish, by, cancel).ConfigureAwait(false);
        return command.Check() is { } problem ? throw ProblemException.Invalid(problem) : await MakeAsync(wish, command, script, chosen, null, by, idempotencyKey, cancel).ConfigureAwait(false);
    }

    /// <summary>Runs a job's command again on some of its hosts.</summary>
    public async Task<JobInfo> AgainAsync(Guid jobId, NewJobAgain wish, Asker by, string? idempotencyKey, CancellationToken cancel)
    {
        var detail = await reader.GetAsync(jobId, by.Reach, cancel).ConfigureAwait(false);
        if (await BeforeAsync(by, idempotencyKey, cancel).ConfigureAwait(false) is { } before)
        {
            return before;
        }
        var wanted = wish.Runs?.ToHashSet();
        if (wanted is not null && wanted.Except(detail.Runs.Select(r => r.Id)).Any())
        {
            throw ProblemException.Invalid("One of the runs is not of this job, or on a host that you may not see; nothing was run.");
        }
        var runs = detail.Runs.Where(r => wanted?.Contains(r.Id) ?? r.State.IsTrouble()).ToList();
        if (runs.Count == 0)
        {
            throw new ProblemException(422, ProblemTypes.SelectionEmpty, "No run of this job has ended in trouble; name the runs whose hosts are to do it again.");
        }
        if (runs.Find(r => !r.State.IsFinal()) is { } open)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, $"The run on {open.HostLabel} has not ended; end it first, or leave it out.");
        }
        var chosen = runs.Select(r => estate.Find(r.HostId)).OfType<HostSummary>().ToList();
        if (chosen.Count == 0)
        {
            throw new ProblemException(422, ProblemTypes.SelectionEmpty, "The hosts of these runs have been removed; nothing was run.");
        }
        var command = wish.CommandOf(detail.Job.Command) ?? throw ProblemException.Invalid("The job puts no files anywhere, so there are none in its way; leave 'existing' out.");
        return await MakeAsync(new NewJob(detail.Job.Selection, null, wish.ExpiresInSeconds, wish.Seals, wish.UsesVault, detail.Job.Pace), command, detail.Job.Script, chosen, jobId, by, idempotencyKey, cancel).ConfigureAwait(false);
    }

    /// <summary>What is to run, and the script of the library that it is. A command beside a script must be that script: what a job is called is what it does.</summary>
    private async Task<(CommandSpec Command, ScriptMark? Script)> CommandOfAsync(NewJob wish, Asker by, CancellationToken cancel)
    {
        if (wish.Script is not { } use)
        {
            return (wish.Command ?? throw ProblemException.Invalid("The job has no command; say what to run."), null);
        }
        var filled = await scripts.FillAsync(use, by, cancel).ConfigureAwait(false);
        return wish.Command is null || ScriptText.IsOf(wish.Command, filled.Command)
            ? (wish.Command ?? filled.Command, filled.Script)
            : throw new ProblemException(409, ProblemTypes.Conflict, $"The command is not what version {filled.Script.Number} of '{filled.Script.Name}' gives with these values. Leave the command out, or run it without naming the script. Nothing was run.");
    }

    /// <summary>What the same request made before; asks whether the key can be one.</summary>
    private async Task<JobInfo?> BeforeAsync(Asker by, string? idempotencyKey, CancellationToken cancel)
    {
        if (idempotencyKey is { Length: > 100 })
        {
            throw ProblemException.Invalid("The Idempotency-Key has more than 100 characters; use a UUID.");
        }
        return idempotencyKey is null ? null : await FindByKeyAsync(by, idempotencyKey, cancel).ConfigureAwait(false);
    }

    private async Task<JobInfo> MakeAsync(NewJob wish, CommandSpec spec, ScriptMark? script, List<HostSummary> chosen, Guid? againOf, Asker by, string? idempotencyKey, CancellationToken cancel)
    {
        if (wish.ExpiresInSeconds is { } seconds && (seconds < 1 || seconds > MostExpiry.TotalSeconds))
        {
            throw ProblemException.Invalid($"A run waits for its host from a second to {MostExpiry.TotalDays:0} days.");
        }
        gate.All(by, spec.Needs, chosen);
        if (spec.User is not null)
        {
            gate.All(by, Permission.ChooseUser, chosen);
        }
        if (wish.UsesVault)
        {
            gate.All(by, Permission.UseSecrets, [.. chosen.Where(h => estate.AsksKey(h.Id, spec.Act))]);
        }
        var command = JsonSerializer.Serialize(spec, WireJson.Default.CommandSpec);
        var seals = ReadSeals(wish.Seals ?? [], command, chosen, by);

        var now = time.GetUtcNow();
        var job = new JobRow
        {
            Id = Guid.CreateVersion7(now),
            CreatedAt = now,
            CreatedById = by.Id,
            CreatedBy = by.Name,
            IdempotencyKey = idempotencyKey,
            Selection = wish.Selection,
            Command = command,
            UsesVault = wish.UsesVault,
            Pace = wish.Pace is null ? null : JsonSerializer.Serialize(wish.Pace, WireJson.Default.RunPace),
            AgainOf = againOf,
            ScriptId = script?.Id,
            ScriptName = script?.Name,
            ScriptNumber = script?.Number,
            ExpiresAt = now + (wish.ExpiresInSeconds is { } s ? TimeSpan.FromSeconds(s) : spec.Needs == Permission.Power ? PowerExpiry : DefaultExpiry),
        };
        if (spec.Action?.Deliver is { } deliver)
        {
            await parcels.UseAsync(deliver, own: againOf is null, by, job.ExpiresAt, cancel).ConfigureAwait(false);
        }
        var runs = chosen.ConvertAll(h => new RunRow
        {
            Id = Guid.CreateVersion7(now),
            JobId = job.Id,
            HostId = h.Id,
            Held = wish.Pace is not null,
            State = wish.Pace is null && links.IsLinked(h.Id) ? RunState.Sent : RunState.Waiting,
        });
        // Before the job is known: a host that returns in this moment is sent its order with the seal.
        foreach (var run in runs.Where(r => seals.ContainsKey(r.HostId)))
        {
            orders.Keep(run.Id, seals[run.HostId]);
        }
        try
        {
            await intake.AddJobAsync(job, runs, Line(job, spec, runs.Count, by)).ConfigureAwait(false);
        }
        catch (IOException) when (idempotencyKey is not null)
        {
            // The same request twice at the same instant: the first made the job.
            return await FindByKeyAsync(by, idempotencyKey, cancel).ConfigureAwait(false) ?? throw ProblemException.Invalid("The job could not be stored; try again.");
        }
        if (wish.Pace is { } pace)
        {
            pacer.Add(job.Id, pace);
        }
        else
        {
            // Not bound to the request: a client that hangs up does not take orders back.
            await dispatcher.SendAsync(job, runs, CancellationToken.None).ConfigureAwait(false);
        }
        return await reader.GetInfoAsync(job.Id, by.Reach, cancel).ConfigureAwait(false);
    }

    /// <summary>What the audit log keeps of a new job; of a script the SHA-256 of its text, which the job has.</summary>
    private NewAuditLine Line(JobRow job, CommandSpec command, int hosts, Asker by)
    {
        List<(string, string)> detail = [("id", $"{job.Id}"), ("command", command.Display()), ("hosts", $"{hosts}")];
        if (command.Script is not null || command.Steps is not null)
        {
            detail.Add(("script-sha256", Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(ScriptText.Body(command))))));
        }
        if (command.Action?.Deliver is { } deliver)
        {
            detail.Add(("parcel-sha256", deliver.Digest));
        }
        if (command.User is { } user)
        {
            detail.Add(("as", user));
        }
        if (job.ScriptName is { } name)
        {
            detail.AddRange([("library", name), ("version", $"{job.ScriptNumber}")]);
        }
        if (job.AgainOf is { } again)
        {
            detail.Add(("again-of", $"{again}"));
        }
        return audit.Line(by, "job.create", job.Selection, [.. detail]);
    }

    /// <summary>
    /// Seals by host: each is of an open session of the caller's, and over the very command that is asked for, for that is what
    /// the host does. Whether it holds, the host decides.
    /// </summary>
    private Dictionary<Guid, SealedOrder> ReadSeals(IReadOnlyList<SealedOrder> seals, string command, List<HostSummary> chosen, Asker by)
    {
        var byHost = new Dictionary<Guid, SealedOrder>();
        foreach (var seal in seals)
        {
            if (seal is not { Text: not null, Act: not null, Mac: not null } || sessions.Use(seal.SessionId, by) is not { } hostId)
            {
                throw new ProblemException(409, ProblemTypes.Conflict, "A session in which an access key was proven has ended. Prove it again; nothing was run.");
            }
            if (!IsOf(seal, command))
            {
                throw ProblemException.Invalid("What was sealed is not what is asked for; seal the same command. Nothing was run.");
            }
            if (chosen.Exists(h => h.Id == hostId))
            {
                byHost[hostId] = seal;
            }
        }
        return byHost;
    }

    private static bool IsOf(SealedOrder seal, string command)
    {
        try
        {
            return JsonSerializer.Deserialize(seal.Text, WireJson.Default.CommandSpec) is { } inside && JsonSerializer.Serialize(inside, WireJson.Default.CommandSpec) == command;
        }
        catch (JsonException)
        {
            return false;
        }
    }

    /// <summary>Cancels every run that has not ended, if one may order such work on all their hosts.</summary>
    public async Task<JobInfo> CancelJobAsync(Guid jobId, Asker by, CancellationToken cancel)
    {
        var job = await reader.GetInfoAsync(jobId, by.Reach, cancel).ConfigureAwait(false);
        gate.All(by, job.Command.Needs, [.. book.OfJob(jobId).Select(r => estate.Find(r.Mark.HostId)).OfType<HostSummary>()]);
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            var now = time.GetUtcNow();
            var row = await db.Jobs.FirstOrDefaultAsync(j => j.Id == jobId, cancel).ConfigureAwait(false) ?? throw ProblemException.NotFound("job");
            if (row.CancelledAt is null)
            {
                row.CancelledAt = now;
                row.CancelledBy = by.Name;
                await audit.AddAsync(db, by, "job.cancel", row.Selection, cancel, ("id", $"{row.Id}")).ConfigureAwait(false);
                await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
            }
        }
        await CancelRunsAsync([.. book.OfJob(jobId).Select(r => r.RunId)], by.Name, null, CancellationToken.None).ConfigureAwait(false);
        return await reader.GetInfoAsync(jobId, by.Reach, cancel).ConfigureAwait(false);
    }

    public async Task<RunInfo> CancelRunAsync(Guid runId, Asker by, CancellationToken cancel)
    {
        var run = await reader.GetRunAsync(runId, by.Reach, cancel).ConfigureAwait(false);
        gate.Host(by, run.HostId, await reader.NeedsAsync(run.JobId, cancel).ConfigureAwait(false));
        await CancelRunsAsync([runId], by.Name, audit.Line(by, "run.cancel", run.HostLabel, ("id", $"{runId}"), ("job", $"{run.JobId}")), cancel).ConfigureAwait(false);
        return await reader.GetRunAsync(runId, by.Reach, cancel).ConfigureAwait(false);
    }

    /// <summary>Ends the runs that wait for a host.</summary>
    public Task CancelWaitingAsync(Guid hostId, string why, CancellationToken cancel) =>
        CancelRunsAsync([.. book.OfHost(hostId).Where(r => r.Mark.Status.State == RunState.Waiting).Select(r => r.RunId)], why, null, cancel);

    /// <summary>Ends waiting runs whose job has expired.</summary>
    public async Task ExpireAsync(CancellationToken cancel)
    {
        var waiting = book.Waiting();
        if (waiting.Count == 0)
        {
            return;
        }
        var now = time.GetUtcNow();
        var jobIds = waiting.Select(r => r.Mark.JobId).Distinct().ToList();
        await using var db = database.Open();
        var expired = (await db.Jobs.AsNoTracking().Where(j => jobIds.Contains(j.Id) && j.ExpiresAt <= now).Select(j => j.Id).ToListAsync(cancel).ConfigureAwait(false)).ToHashSet();
        var runs = waiting.Where(r => expired.Contains(r.Mark.JobId)).Select(r => r.RunId).ToList();
        if (runs.Count > 0)
        {
            await intake.MarkAsync(runs, m => m.Status.State == RunState.Waiting ? RunDecisions.Expire(m, now) : m).ConfigureAwait(false);
        }
    }

    /// <summary>
    /// The wish is stored first. A run that was never sent ends at once; a host that has the order is told now, or when it
    /// returns.
    /// </summary>
    private async Task CancelRunsAsync(List<Guid> runIds, string by, NewAuditLine? line, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        await intake.MarkAsync(runIds, m =>
            m.Status.State.IsFinal() ? m
            : m.Status.State == RunState.Waiting ? RunDecisions.CancelUnsent(m with { CancelRequestedAt = now }, now, by)
            : m with { CancelRequestedAt = m.CancelRequestedAt ?? now }, line).ConfigureAwait(false);
        foreach (var runId in runIds)
        {
            if (book.Find(runId) is { } mark && !mark.Status.State.IsFinal())
            {
                await links.SendAsync(mark.HostId, ToAgent.CancelRun, new RunCancel(runId, by), cancel).ConfigureAwait(false);
            }
        }
    }

    private async Task<JobInfo?> FindByKeyAsync(Asker by, string key, CancellationToken cancel)
    {
        await using var db = database.Open();
        var id = await db.Jobs.Where(j => j.CreatedById == by.Id && j.IdempotencyKey == key).Select(j => (Guid?)j.Id).FirstOrDefaultAsync(cancel).ConfigureAwait(false);
        return id is { } found ? await reader.GetInfoAsync(found, by.Reach, cancel).ConfigureAwait(false) : null;
    }
}

/// <summary>Looks for runs that have waited too long.</summary>
public sealed class JobClock(JobService jobs, ContentServer content, TimeProvider time) : BackgroundService
{
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(TimeSpan.FromSeconds(2), time);
        while (await timer.WaitForNextTickAsync(stoppingToken).ConfigureAwait(false))
        {
            await jobs.ExpireAsync(stoppingToken).ConfigureAwait(false);
            content.Forget();
        }
    }
}
