namespace Umbrek.Wire.Health;

/// <summary>
/// A host's health over a time, as parallel lists: one entry a point, each the mean of the samples in its part of the
/// time. Parts without a sample are left out.
/// </summary>
/// <param name="At">Middle of each part, as Unix time in seconds.</param>
public sealed record SampleSeries(
    DateTimeOffset From,
    DateTimeOffset To,
    IReadOnlyList<long> At,
    IReadOnlyList<double> ProcessorPercent,
    IReadOnlyList<double> MemoryUsedPercent,
    IReadOnlyList<double> StorageUsedPercent,
    IReadOnlyList<double> Load1);
