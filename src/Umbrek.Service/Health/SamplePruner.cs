namespace Umbrek.Service.Health;

/// <summary>Forgets samples and roll-ups past their retention, once in a while.</summary>
public sealed partial class SamplePruner(SampleService samples, TimeProvider time, ILogger<SamplePruner> log) : BackgroundService
{
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(TimeSpan.FromMinutes(10), time);
        while (await timer.WaitForNextTickAsync(stoppingToken).ConfigureAwait(false))
        {
            try
            {
                await samples.PruneAsync(stoppingToken).ConfigureAwait(false);
            }
            catch (Exception e) when (e is not OperationCanceledException)
            {
                Log.Failed(log, e);
            }
        }
    }

    private static partial class Log
    {
        [LoggerMessage(Level = LogLevel.Warning, Message = "Old samples could not be removed; tried again in ten minutes")]
        public static partial void Failed(ILogger logger, Exception e);
    }
}
