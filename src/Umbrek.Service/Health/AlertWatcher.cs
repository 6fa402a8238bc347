namespace Umbrek.Service.Health;

/// <summary>
/// Looks at the alerts again when one of them, a maintenance window or a rule of its own has changed, when it was told to, and now and then for what only time
/// changes.
/// </summary>
public abstract class AlertWatcher(AlertBook alerts, MaintenanceBook maintenance, TimeProvider time) : BackgroundService
{
    private static readonly TimeSpan Tick = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan EverythingEvery = TimeSpan.FromSeconds(30);

    private long looked;
    private DateTimeOffset nextAt = DateTimeOffset.MinValue;
    private (long Alerts, long Rules, long Windows) seen = (-1, -1, -1);

    protected AlertBook Alerts { get; } = alerts;

    protected MaintenanceBook Windows { get; } = maintenance;

    protected TimeProvider Time { get; } = time;

    /// <summary>How often it has looked.</summary>
    public long Looked => Interlocked.Read(ref looked);

    /// <summary>Counts up with every change of the rules by which it looks.</summary>
    protected abstract long Rules { get; }

    protected abstract Task LookAsync(DateTimeOffset now, CancellationToken cancel);

    /// <summary>It could not be looked at, and is looked at again.</summary>
    protected abstract void Failed(Exception e);

    protected void LookAgain(DateTimeOffset at) => nextAt = at < nextAt ? at : nextAt;

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                var now = Time.GetUtcNow();
                var counts = (Alerts.Turns, Rules, Windows.Turns);
                if (counts != seen || now >= nextAt || nextAt > now + EverythingEvery)
                {
                    seen = counts;
                    nextAt = now + EverythingEvery;
                    await LookAsync(now, stoppingToken).ConfigureAwait(false);
                }
                Interlocked.Increment(ref looked);
            }
            catch (Exception e) when (e is not OperationCanceledException)
            {
                Failed(e);
                seen = (-1, -1, -1);
            }
            await Task.Delay(Tick, Time, stoppingToken).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }
}
