using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Access;
using Umbrek.Core.Desktop;
using Umbrek.Core.Shell;
using Umbrek.Service.Access;
using Umbrek.Service.Audit;
using Umbrek.Service.Desktop;
using Umbrek.Service.Estate;
using Umbrek.Service.Hosting;
using Umbrek.Service.Relay;
using Umbrek.Service.Shell;
using Umbrek.Service.Storage;
using Umbrek.Wire.Api;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Sessions;

namespace Umbrek.Service.Sessions;

/// <summary>
/// Records shells and desktops where the host policy says so, and hands recordings to whoever may see them: his own to a technician, all of a
/// place to who administers it.
/// </summary>
public sealed partial class RecordingService(IDatabase database, RecordingFiles files, EstateIndex estate, PolicyIndex policies, AccessIndex access, Gate gate, AuditLog audit, ServiceOptions options, TimeProvider time, ILogger<RecordingService> log) : BackgroundService
{
    private static readonly TimeSpan Tidying = TimeSpan.FromHours(1);

    /// <summary>Recordings that are being written, or packed.</summary>
    private readonly ConcurrentDictionary<Guid, Task> open = new();

    /// <summary>What is kept of shells and desktops: what is wanted of the host, and what its own side asks for.</summary>
    public RecordRule RuleAt(HostSummary host)
    {
        var (wanted, own) = (policies.Wanted(host.Id, host.GroupPath).Record ?? RecordRule.None, estate.FindSide(host.Id)?.InForce.Record ?? RecordRule.None);
        return wanted > own ? wanted : own;
    }

    /// <summary>Begins the recording of a shell where one is asked for.</summary>
    /// <returns>Null where none is.</returns>
    /// <exception cref="ProblemException">It can't be written, so there is no shell.</exception>
    public Task<(ChannelRecording Told, IChannelTap Tap)?> BeginAsync(HostSummary host, Guid sessionId, ShellWish wish, Asker by, CancellationToken cancel)
    {
        var row = new RecordingRow
        {
            Kind = RecordingKind.Shell,
            CommandText = wish.Display(),
            IsTerminal = wish.Terminal is not null,
            Continues = wish.ShellId is not null,
        };
        return BeginAsync(host, sessionId, row, "shell", by, (file, over) =>
        {
            var header = new CastHeader(wish.Terminal ?? TerminalSize.Usual, row.BeganAt, row.CommandText, TitleOf(by, host), wish.Terminal is null ? null : wish.TerminalType ?? ShellWish.DefaultTerminalType);
            return new ShellRecorder(file, header, row.HasKeys, options.RecordingBytes, time, over);
        }, cancel);
    }

    /// <summary>Begins the recording of a desktop where one is asked for. A small picture of many is not recorded.</summary>
    /// <returns>Null where none is.</returns>
    /// <exception cref="ProblemException">It can't be written, so the desktop is not shown.</exception>
    public async Task<(ChannelRecording Told, IChannelTap Tap)?> BeginAsync(HostSummary host, Guid sessionId, DesktopWish wish, Asker by, CancellationToken cancel)
    {
        if (wish.Small is not null)
        {
            return null;
        }
        var row = new RecordingRow { Kind = RecordingKind.Desktop, CommandText = wish.Control ? "desktop, controlled" : "desktop, watched" };
        return await BeginAsync(host, sessionId, row, "desktop", by, (file, over) =>
            new DesktopRecorder(file, new TapeHeader(row.BeganAt, TitleOf(by, host), wish.Control), row.HasKeys, options.ScreenRecordingBytes, time, over), cancel).ConfigureAwait(false);
    }

    private static string TitleOf(Asker by, HostSummary host) => $"{by.Name} at {host.Label} in {host.GroupPath}";

    /// <param name="what">What is recorded, in a word.</param>
    /// <param name="recorder">Makes what sees the channel; it tells at its end what it learnt.</param>
    private async Task<(ChannelRecording Told, IChannelTap Tap)?> BeginAsync(HostSummary host, Guid sessionId, RecordingRow row, string what, Asker by, Func<FileStream, Action<RecordedChannel?>, IChannelTap> recorder, CancellationToken cancel)
    {
        var rule = RuleAt(host);
        if (rule == RecordRule.None)
        {
            return null;
        }
        (row.Id, row.SessionId, row.HostId, row.TechnicianId, row.Technician) = (Guid.CreateVersion7(), sessionId, host.Id, by.Id, by.Name);
        (row.HasKeys, row.BeganAt) = (rule == RecordRule.ScreenAndKeys, time.GetUtcNow());
        // Known before there is a file: what nobody knows is removed.
        var done = new TaskCompletionSource();
        open[row.Id] = done.Task;
        FileStream file;
        try
        {
            file = files.Create(row.Id, row.Kind);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            open.TryRemove(row.Id, out _);
            Log.NotWritten(log, e);
            throw new ProblemException(409, ProblemTypes.Conflict, $"What is done at {host.Label} is recorded, and no recording can be written ({e.Message.TrimEnd('.')}); so there is no {what}. Make room in the service's data directory.");
        }
        try
        {
            await using var db = database.Open();
            db.Recordings.Add(row);
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
        }
        catch
        {
            open.TryRemove(row.Id, out _);
            await file.DisposeAsync().ConfigureAwait(false);
            files.Delete(row.Id);
            throw;
        }
        return (new ChannelRecording(row.Id, row.HasKeys), recorder(file, learnt => _ = EndAsync(row.Id, learnt, done)));
    }

    /// <summary>Newest first: one's own, and all of places that one administers.</summary>
    /// <param name="technician">A part of the technician's name.</param>
    public async Task<Page<RecordingInfo>> ListAsync(Guid? hostId, string? technician, Guid? shellId, string? cursor, int? limit, Asker by, CancellationToken cancel)
    {
        var size = Paging.Size(limit);
        var (seen, all) = (access.GroupsWith(by.Reach, Permission.See), access.GroupsWith(by.Reach, Permission.Administer));
        await using var db = database.Open();
        var rows = db.Recordings.AsNoTracking().Where(r => (hostId == null || r.HostId == hostId) && (shellId == null || r.ShellId == shellId))
            .Where(r => seen == null || db.Hosts.Any(h => h.Id == r.HostId && seen.Contains(h.GroupId)))
            .Where(r => r.TechnicianId == by.Id || all == null || db.Hosts.Any(h => h.Id == r.HostId && all.Contains(h.GroupId)));
        if (!string.IsNullOrWhiteSpace(technician))
        {
            var part = technician.Trim().ToLowerInvariant();
#pragma warning disable CA1304, CA1311, CA1862 // The database compares.
            rows = rows.Where(r => r.Technician.ToLower().Contains(part));
#pragma warning restore CA1304, CA1311, CA1862
        }
        var total = await rows.CountAsync(cancel).ConfigureAwait(false);
        if (!string.IsNullOrEmpty(cursor))
        {
            var last = Paging.ReadCursor(cursor);
            var at = await db.Recordings.Where(r => r.Id == last).Select(r => r.BeganAt).FirstOrDefaultAsync(cancel).ConfigureAwait(false);
            rows = rows.Where(r => r.BeganAt < at || (r.BeganAt == at && r.Id.CompareTo(last) < 0));
        }
        var page = await rows.OrderByDescending(r => r.BeganAt).ThenByDescending(r => r.Id).Take(size + 1).ToListAsync(cancel).ConfigureAwait(false);
        return new Page<RecordingInfo>([.. page.Take(size).Select(r => estate.Find(r.HostId) is { } host ? ToInfo(r, host) : null).OfType<RecordingInfo>()], page.Count > size ? page[size - 1].Id.ToString() : null, total);
    }

    public async Task<RecordingInfo> GetAsync(Guid id, Asker by, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Recordings.AsNoTracking().FirstOrDefaultAsync(r => r.Id == id, cancel).ConfigureAwait(false);
        var host = row is null ? null : estate.Find(row.HostId, by.Reach);
        return host is not null && (row!.TechnicianId == by.Id || by.Reach.May(Permission.Administer, host.GroupPath)) ? ToInfo(row, host) : throw ProblemException.NotFound("recording");
    }

    /// <summary>What was recorded, as far as it is written; whoever reads it is in the audit log.</summary>
    public async Task<(RecordingInfo Info, Stream Text)> OpenAsync(Guid id, Asker by, CancellationToken cancel)
    {
        var info = await GetAsync(id, by, cancel).ConfigureAwait(false);
        var text = files.Open(id) ?? throw new ProblemException(404, ProblemTypes.NotFound, "The file of this recording is gone from the service's data directory.");
        await audit.AddAsync(by, "recording.watch", $"{info.HostLabel} in {info.GroupPath}", cancel, ("recording", $"{id}"), ("of", info.Technician)).ConfigureAwait(false);
        return (info, text);
    }

    /// <summary>Removes a recording that has ended; takes <c>administer</c> at the host.</summary>
    public async Task DeleteAsync(Guid id, Asker by, CancellationToken cancel)
    {
        var info = await GetAsync(id, by, cancel).ConfigureAwait(false);
        var host = gate.Host(by, info.HostId, Permission.Administer);
        if (info.EndedAt is null)
        {
            throw new ProblemException(409, ProblemTypes.Conflict, "It is still being written. End the session first, or wait for its end.");
        }
        await using (var db = database.Open())
        {
            await using var transaction = await db.Database.BeginTransactionAsync(cancel).ConfigureAwait(false);
            await db.Recordings.Where(r => r.Id == id).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
            await audit.AddAsync(db, by, "recording.delete", $"{host.Label} in {host.GroupPath}", cancel, ("recording", $"{id}"), ("of", info.Technician), ("sha256", info.Sha256)).ConfigureAwait(false);
            await transaction.CommitAsync(CancellationToken.None).ConfigureAwait(false);
        }
        files.Delete(id);
    }

    /// <summary>Ends what an earlier life of the service left open, and forgets what is past its time, now and every hour.</summary>
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(Tidying, time);
        do
        {
            try
            {
                await TidyAsync(stoppingToken).ConfigureAwait(false);
            }
            catch (Exception e) when (e is not OperationCanceledException)
            {
                Log.NotTidied(log, e);
            }
        }
        while (await timer.WaitForNextTickAsync(stoppingToken).ConfigureAwait(false));
    }

    public override async Task StopAsync(CancellationToken cancellationToken)
    {
        await base.StopAsync(cancellationToken).ConfigureAwait(false);
        // Channels are over by now; what they recorded is being packed.
        await Task.WhenAll(open.Values).WaitAsync(cancellationToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    private async Task TidyAsync(CancellationToken cancel)
    {
        await using var db = database.Open();
        foreach (var id in await db.Recordings.Where(r => r.EndedAt == null).Select(r => r.Id).ToListAsync(cancel).ConfigureAwait(false))
        {
            if (!open.ContainsKey(id))
            {
                await StoreEndAsync(id, learnt: null, cancel).ConfigureAwait(false);
            }
        }
        var before = time.GetUtcNow() - TimeSpan.FromDays(options.RecordingDays);
        var old = await db.Recordings.Where(r => r.EndedAt != null && r.EndedAt < before).Select(r => r.Id).ToListAsync(cancel).ConfigureAwait(false);
        if (old.Count > 0)
        {
            await db.Recordings.Where(r => r.EndedAt != null && r.EndedAt < before).ExecuteDeleteAsync(cancel).ConfigureAwait(false);
            await audit.AddAsync(Caller.Service, "recording.expire", "everything", cancel, ("recordings", $"{old.Count}"), ("older than", $"{options.RecordingDays} days")).ConfigureAwait(false);
        }
        var present = files.List();
        var known = (await db.Recordings.Select(r => r.Id).ToListAsync(cancel).ConfigureAwait(false)).ToHashSet();
        foreach (var id in present.Where(id => !known.Contains(id) && !open.ContainsKey(id)))
        {
            files.Delete(id);
        }
    }

    private async Task EndAsync(Guid id, RecordedChannel? learnt, TaskCompletionSource done)
    {
        try
        {
            await Task.Yield();
            await StoreEndAsync(id, learnt, CancellationToken.None).ConfigureAwait(false);
        }
        catch (Exception e)
        {
            // It is ended with the next tidying.
            Log.NotTidied(log, e);
        }
        finally
        {
            open.TryRemove(id, out _);
            done.SetResult();
        }
    }

    /// <summary>A channel to which nothing came leaves no recording; one that broke off with the service has what was written of it.</summary>
    private async Task StoreEndAsync(Guid id, RecordedChannel? learnt, CancellationToken cancel)
    {
        await using var db = database.Open();
        var row = await db.Recordings.FirstOrDefaultAsync(r => r.Id == id, cancel).ConfigureAwait(false);
        if (row is null)
        {
            files.Delete(id);
            return;
        }
        if (row.EndedAt is not null)
        {
            return;
        }
        var packed = await files.PackAsync(id, cancel).ConfigureAwait(false);
        if (packed is not { Bytes: > 0 } text)
        {
            db.Recordings.Remove(row);
            await db.SaveChangesAsync(cancel).ConfigureAwait(false);
            files.Delete(id);
            return;
        }
        row.ShellId = learnt?.ShellId ?? row.ShellId;
        row.User = learnt?.User ?? row.User;
        row.EndedAt = learnt is null ? text.WrittenAt : time.GetUtcNow();
        row.Bytes = text.Bytes;
        row.Sha256 = text.Sha256;
        await db.SaveChangesAsync(cancel).ConfigureAwait(false);
    }

    private static RecordingInfo ToInfo(RecordingRow row, HostSummary host) => new(
        row.Id, row.SessionId, row.Kind, row.ShellId, row.HostId, host.Label, host.GroupPath, row.TechnicianId, row.Technician, row.CommandText, row.User, row.IsTerminal, row.HasKeys, row.Continues,
        row.BeganAt, row.EndedAt, row.Bytes, row.Sha256);

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Error, Message = "A recording could not be begun, so there was no channel")]
        public static partial void NotWritten(ILogger logger, Exception e);

        [LoggerMessage(Level = LogLevel.Warning, Message = "Recordings could not be tidied; tried again in an hour")]
        public static partial void NotTidied(ILogger logger, Exception e);
    }
}
