using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using Umbrek.Core.Health;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Health;

/// <summary>
/// Takes deliveries out, those of one notice one after another: a receiver that does not answer holds up nobody else. What does not arrive is tried again for a day,
/// then put aside.
/// </summary>
public sealed partial class NoticeSender(IDatabase database, IEnumerable<INoticePost> posts, TimeProvider time, ILogger<NoticeSender> log) : BackgroundService
{
    private const int AtOnce = 200;
    private static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(5);
    private static readonly TimeSpan Kept = TimeSpan.FromDays(30);
    private static readonly TimeSpan PruneEvery = TimeSpan.FromHours(1);

    private readonly Dictionary<NoticeWay, INoticePost> byWay = posts.ToDictionary(p => p.Way);
    private readonly SemaphoreSlim signal = new(0, 1);

    /// <summary>Notices whose receiver does not answer, and until when nothing of theirs is tried: what comes meanwhile does not overtake.</summary>
    private readonly ConcurrentDictionary<Guid, DateTimeOffset> silent = new();

    /// <summary>There is something to take out.</summary>
    /// <param name="again">Notices whose receivers are to be tried though they did not answer.</param>
    public void Wake(params IEnumerable<Guid> again)
    {
        foreach (var notice in again)
        {
            silent.TryRemove(notice, out _);
        }
        try
        {
            if (signal.CurrentCount == 0)
            {
                signal.Release();
            }
        }
        catch (SemaphoreFullException)
        {
            // Somebody else woke it in this moment.
        }
    }

    public override void Dispose()
    {
        base.Dispose();
        signal.Dispose();
    }

    /// <summary>Tries one delivery now, whatever was planned for it.</summary>
    public async Task<DeliveryRow?> TryNowAsync(Guid id, CancellationToken cancel)
    {
        await using var db = database.Open();
        var found = await db.Deliveries.AsNoTracking().Where(d => d.Id == id).Join(db.Notices, d => d.NoticeId, n => n.Id, (d, n) => new { Delivery = d, Notice = n }).FirstOrDefaultAsync(cancel).ConfigureAwait(false);
        if (found is null)
        {
            return null;
        }
        await SendAsync(found.Notice, found.Delivery, cancel).ConfigureAwait(false);
        return await db.Deliveries.AsNoTracking().FirstOrDefaultAsync(d => d.Id == id, cancel).ConfigureAwait(false);
    }

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        var pruneAt = DateTimeOffset.MinValue;
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                if (time.GetUtcNow() is var now && now >= pruneAt)
                {
                    pruneAt = now + PruneEvery;
                    await using var db = database.Open();
                    await db.Deliveries.Where(d => d.DoneAt < now - Kept).ExecuteDeleteAsync(stoppingToken).ConfigureAwait(false);
                }
                if (await TakeOutAsync(stoppingToken).ConfigureAwait(false) == AtOnce)
                {
                    continue;
                }
            }
            catch (Exception e) when (e is not OperationCanceledException)
            {
                Log.Failed(log, e);
            }
            using var patience = new CancellationTokenSource(LookEvery, time);
            using var either = CancellationTokenSource.CreateLinkedTokenSource(patience.Token, stoppingToken);
            await signal.WaitAsync(either.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    private async Task<int> TakeOutAsync(CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        await using var db = database.Open();
        var left = silent.Where(s => s.Value > now).Select(s => s.Key).ToList();
        var due = await db.Deliveries.AsNoTracking().Where(d => d.State == DeliveryState.Waiting && d.NextAt <= now && !left.Contains(d.NoticeId)).OrderBy(d => d.Id).Take(AtOnce)
            .Join(db.Notices, d => d.NoticeId, n => n.Id, (d, n) => new { Delivery = d, Notice = n }).ToListAsync(cancel).ConfigureAwait(false);
        await Task.WhenAll(due.GroupBy(d => d.Delivery.NoticeId).Select(async ofNotice =>
        {
            var queue = ofNotice.OrderBy(d => d.Delivery.Id).ToList();
            foreach (var next in queue)
            {
                var (result, nextAt) = await SendAsync(next.Notice, next.Delivery, cancel).ConfigureAwait(false);
                if (result.Unreachable)
                {
                    // The others would fare the same: they wait as long, and keep their order.
                    silent[ofNotice.Key] = nextAt;
                    break;
                }
                silent.TryRemove(ofNotice.Key, out _);
            }
        })).ConfigureAwait(false);
        return due.Count;
    }

    private async Task<(PostResult Result, DateTimeOffset NextAt)> SendAsync(NoticeRow notice, DeliveryRow delivery, CancellationToken cancel)
    {
        PostResult result;
        try
        {
            result = await byWay[delivery.Way].SendAsync(notice, delivery, cancel).ConfigureAwait(false);
        }
        catch (Exception e) when (!cancel.IsCancellationRequested)
        {
            result = new PostResult(e.Message);
        }
        var now = time.GetUtcNow();
        var attempts = delivery.Attempts + 1;
        var next = now + NoticeRetry.Wait(attempts, Random.Shared.NextDouble(), result.After);
        var state = result.Problem is null ? DeliveryState.Delivered : !result.Again || NoticeRetry.IsHopeless(delivery.CreatedAt, next) ? DeliveryState.Failed : DeliveryState.Waiting;
        await using var db = database.Open();
        await db.Deliveries.Where(d => d.Id == delivery.Id).ExecuteUpdateAsync(
            d => d.SetProperty(r => r.State, state).SetProperty(r => r.Attempts, attempts).SetProperty(r => r.NextAt, next).SetProperty(r => r.Problem, result.Problem)
                .SetProperty(r => r.DoneAt, state == DeliveryState.Waiting ? (DateTimeOffset?)null : now),
            cancel).ConfigureAwait(false);
        if (state == DeliveryState.Failed)
        {
            Log.GivenUp(log, delivery.Subject, notice.Name, result.Problem!);
        }
        return (result, next);
    }

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Error, Message = "Deliveries could not be read; they are looked at again")]
        public static partial void Failed(ILogger logger, Exception e);

        [LoggerMessage(Level = LogLevel.Warning, Message = "'{Subject}' of the notice '{Notice}' was given up: {Problem}")]
        public static partial void GivenUp(ILogger logger, string subject, string notice, string problem);
    }
}
