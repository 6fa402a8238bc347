using System.Collections.Concurrent;
using System.Text.Json;
using Umbrek.Core.Health;
using Umbrek.Core.Inventory;
using Umbrek.Service.Estate;

namespace Umbrek.Service.Links;

/// <summary>How far each host's clock is off, measured whenever it sends samples; kept as facts when it changes.</summary>
public sealed class HostClocks(EstateIndex estate)
{
    private readonly ConcurrentDictionary<Guid, ClockOffset> known = new();

    /// <param name="facts">What is to be kept of the clock; empty when nothing has changed.</param>
    public ClockOffset Measure(Guid hostId, DateTimeOffset sentAt, DateTimeOffset now, out IReadOnlyList<Fact> facts)
    {
        var before = known.TryGetValue(hostId, out var kept) ? kept : Told(hostId);
        var after = before.Measure(sentAt, now);
        known[hostId] = after;
        facts = after == before ? [] :
        [
            new Fact(FactNames.ClockOff, JsonSerializer.SerializeToElement(Math.Abs(after.Seconds)), now),
            new Fact(FactNames.ClockSide, JsonSerializer.SerializeToElement(after.Seconds switch { 0 => "right", > 0 => "ahead", _ => "behind" }), now),
        ];
        return after;
    }

    private ClockOffset Told(Guid hostId) =>
        estate.FindSelectable(hostId) is { } host && host.Fact(FactNames.ClockOff) is [{ Number: { } seconds }, ..]
            ? new ClockOffset(host.Fact(FactNames.ClockSide) is [{ Text: "behind" }, ..] ? -(long)seconds : (long)seconds) : default;
}
