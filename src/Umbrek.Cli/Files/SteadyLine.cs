using System.Security.Cryptography;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Links;

namespace Umbrek.Cli.Files;

/// <summary>Does something with a host's files, over as many lines as it takes.</summary>
/// <param name="changes">It changes them.</param>
/// <param name="patience">So long it is tried to find a line that broke; whatever moves begins it anew.</param>
internal sealed class SteadyLine(HostFilesDoor door, bool changes, TimeSpan patience, TimeProvider time)
{
    private bool somethingMoved;

    /// <summary>Something has come or gone over the line.</summary>
    public void Moved() => somethingMoved = true;

    /// <param name="act">Done on each line, until it ends; what was done on the line before it is not done again.</param>
    /// <param name="quiet">Makes room for something to be said.</param>
    public async Task RunAsync(Func<HostFiles, Task> act, Action quiet, CancellationToken cancel)
    {
        var since = time.GetTimestamp();
        for (var attempt = 0; ; attempt++)
        {
            var opened = false;
            try
            {
                using var files = await door.OpenAsync(changes, cancel).ConfigureAwait(false);
                opened = true;
                await act(files).ConfigureAwait(false);
                quiet();
                return;
            }
            // A socket that broke at the wrong moment says "cancelled", though nobody has cancelled.
            catch (Exception e) when (e is LineBrokenException || (e is OperationCanceledException && !cancel.IsCancellationRequested))
            {
                var lost = e is LineBrokenException ? e.Message : "The connection was lost.";
                quiet();
                if (somethingMoved)
                {
                    // At once: most lines are there again as soon as they have gone.
                    (somethingMoved, attempt, since) = (false, -1, time.GetTimestamp());
                    continue;
                }
                if (time.GetElapsedTime(since) > patience)
                {
                    throw new ClientException($"{lost} What has come is kept; the same command goes on from there.");
                }
                // Who can be reached is not waited for longer and longer.
                attempt = opened ? 0 : attempt;
                if (attempt == 0)
                {
                    await Console.Error.WriteLineAsync($"{lost} Going on as soon as {door.Host.Label} can be reached again.").ConfigureAwait(false);
                }
                await Task.Delay(Backoff.Delay(attempt, RandomNumberGenerator.GetInt32(1 << 20) / (double)(1 << 20)), time, cancel).ConfigureAwait(false);
            }
        }
    }
}
