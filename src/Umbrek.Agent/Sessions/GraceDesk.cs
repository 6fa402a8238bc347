using Umbrek.Agent.Platform;
using Umbrek.Core.Access;
using Umbrek.Core.Text;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Sessions;

/// <summary>Tells people here that their computer, or their session on it, is about to end, leaves them the time that was given, and lets them put it off as far as the host policy goes.</summary>
public sealed class GraceDesk(IPeopleHere people, TimeProvider time)
{
    /// <summary>They are told once more when so much is left.</summary>
    public static readonly TimeSpan LastWord = TimeSpan.FromMinutes(1);

    public static bool Concerns(RunOrder order) => order.Command.Action?.Power is { GraceSeconds: > 0 };

    /// <summary>Returns when the time has come: at once where nobody is logged in.</summary>
    /// <param name="hold">Told why it waits, and null when it does no longer.</param>
    /// <param name="putOff">Told who has put it off, and by how much.</param>
    public async Task WaitAsync(HostPolicy policy, RunOrder order, Action<string?> hold, Action<string, TimeSpan> putOff, CancellationToken cancel)
    {
        if (order.Command.Action?.Power is not { GraceSeconds: > 0 } wish || people.LoggedIn() is not { Count: > 0 } there)
        {
            return;
        }
        var at = time.GetUtcNow() + TimeSpan.FromSeconds(wish.GraceSeconds);
        var left = TimeSpan.FromMinutes(policy.PutOffMinutes ?? 0);
        var before = "";
        try
        {
            while (true)
            {
                hold($"{before}{string.Join(", ", there)} {(there.Count == 1 ? "is" : "are")} logged in there and {(there.Count == 1 ? "has" : "have")} been told; it is done at {at:HH:mm:ss} UTC.");
                if (await WarnAsync(new PowerWarning(order.OrderedBy, wish, at, left), cancel).ConfigureAwait(false) is not { } asked)
                {
                    hold(null);
                    return;
                }
                var by = asked.By < left ? asked.By : left;
                left -= by;
                at += by;
                before = $"{asked.Person} has put it off by {Units.Span(by)}. ";
                putOff(asked.Person, by);
            }
        }
        catch (OperationCanceledException) when (cancel.IsCancellationRequested)
        {
            people.Tell($"{order.OrderedBy} does not do it after all: {wish.Display()}");
            throw;
        }
    }

    /// <returns>Who puts it off, and by how much; null when the time has come.</returns>
    private async Task<PutOff?> WarnAsync(PowerWarning warning, CancellationToken cancel)
    {
        var now = time.GetUtcNow();
        using var over = new CancellationTokenSource(warning.At > now ? warning.At - now : TimeSpan.Zero, time);
        using var lastWord = warning.At - now > 2 * LastWord ? time.CreateTimer(_ => people.Tell($"In a minute {warning.Technician} {warning.Wish.Announce()}. Save what you work on."), null, warning.At - now - LastWord, Timeout.InfiniteTimeSpan) : null;
        using var either = CancellationTokenSource.CreateLinkedTokenSource(cancel, over.Token);
        try
        {
            return await people.WarnAsync(warning, either.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            return null;
        }
    }
}
