using Umbrek.Core.Health;

namespace Umbrek.Agent.Health;

/// <summary>How a host looks at what checks name, and how it helps.</summary>
public interface IProber
{
    /// <summary>Looks once, within the probe's time-out. Whatever goes wrong is a reading, not an exception.</summary>
    /// <param name="check">Whose look it is: a log is read on from where the same check read last. Null for a trial, which looks at what is there.</param>
    Task<ProbeReading> LookAsync(string? check, Probe probe, CancellationToken cancel);

    /// <summary>Does what the probe says helps.</summary>
    /// <returns>Well when it was done, failed when it could not be, with what to tell.</returns>
    Task<ProbeReading> HelpAsync(Probe probe, CancellationToken cancel);
}

/// <summary>One kind of look. A new kind is a file beside the others and its line in the platform's list.</summary>
public interface IProbe
{
    ProbeKind Kind { get; }

    /// <exception cref="OperationCanceledException">It took too long, or is not wanted any more.</exception>
    Task<ProbeReading> LookAsync(string? check, Probe probe, CancellationToken cancel);
}
