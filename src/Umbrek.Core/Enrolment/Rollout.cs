using System.Globalization;

namespace Umbrek.Core.Enrolment;

/// <summary>Where one host stands in an agent update.</summary>
public enum UpdateState
{
    /// <summary>Its wave has not begun, or it is away: it is told when it returns.</summary>
    Waiting,

    /// <summary>It was told, and has yet to return with the new version.</summary>
    Told,
    Updated,

    /// <summary>The new version did not prove itself, and the host runs the old one again.</summary>
    WentBack,

    /// <summary>It could not take the update, or did not return in time.</summary>
    Failed,
    Cancelled,
}

public enum RolloutState
{
    Running,
    Done,

    /// <summary>It stopped by itself: more hosts failed than may.</summary>
    Stopped,
    Cancelled,
}

/// <param name="Linked">Whether it can be told now.</param>
public sealed record RolloutHost(Guid HostId, int Wave, UpdateState State, bool Linked);

/// <summary>What a roll-out does next: tells hosts, stops, is done, or waits.</summary>
public sealed record RolloutStep(IReadOnlyList<Guid> Tell, RolloutState State, int Wave);

/// <summary>Agent updates go in waves; a wave begins when every host of the one before that could be told has returned well.</summary>
public static class Rollout
{
    public const string DefaultWaves = "1, 10%, rest";

    /// <summary>The next step. Hosts that are away hold up no wave; they are told whenever they return.</summary>
    public static RolloutStep Next(IReadOnlyCollection<RolloutHost> hosts, int failuresAllowed)
    {
        if (hosts.Count(h => h.State is UpdateState.Failed or UpdateState.WentBack) > failuresAllowed)
        {
            return new RolloutStep([], RolloutState.Stopped, CurrentWave(hosts));
        }
        if (hosts.All(h => h.State is not (UpdateState.Waiting or UpdateState.Told)))
        {
            return new RolloutStep([], RolloutState.Done, CurrentWave(hosts));
        }
        var wave = CurrentWave(hosts);
        return new RolloutStep([.. hosts.Where(h => h.Wave <= wave && h is { State: UpdateState.Waiting, Linked: true }).Select(h => h.HostId)], RolloutState.Running, wave);
    }

    /// <summary>Sizes of the waves for so many hosts, from text like "1, 10%, rest": counts and shares of all, the last one takes what is left.</summary>
    /// <returns>Sizes that add up to <paramref name="hosts"/>, none of them 0; or null with what is wrong.</returns>
    public static IReadOnlyList<int>? Sizes(string text, int hosts, out string problem)
    {
        problem = "";
        var sizes = new List<int>();
        var left = hosts;
        foreach (var word in text.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries))
        {
            int size;
            if (word == "rest")
            {
                size = left;
            }
            else if (int.TryParse(word.TrimEnd('%'), NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number > 0 && (!word.EndsWith('%') || number <= 100))
            {
                size = word.EndsWith('%') ? (int)Math.Ceiling(hosts * number / 100.0) : number;
            }
            else
            {
                problem = $"'{word}' is no wave; write waves like \"{DefaultWaves}\": a number of hosts, a share of them, or the rest.";
                return null;
            }
            size = Math.Min(size, left);
            if (size > 0)
            {
                sizes.Add(size);
                left -= size;
            }
        }
        if (left > 0)
        {
            sizes.Add(left);
        }
        return sizes;
    }

    // The first wave with somebody who was told and has not ended, or who waits and can be told.
    private static int CurrentWave(IReadOnlyCollection<RolloutHost> hosts) => hosts
        .Where(h => h.State == UpdateState.Told || h is { State: UpdateState.Waiting, Linked: true })
        .Select(h => h.Wave).DefaultIfEmpty(hosts.Count == 0 ? 0 : hosts.Max(h => h.Wave)).Min();
}
