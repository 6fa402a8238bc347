namespace Umbrek.Core.Access;

/// <summary>What one place says of the host policy.</summary>
/// <param name="Place">The group's path or the host's label; null is everything.</param>
public sealed record PolicyLayer(string? Place, HostPolicyPart Part);

/// <summary>Where each part of a policy comes from: a place, or null where nobody has said anything.</summary>
public sealed record PolicyOrigins(PolicyLayer? Allowed, PolicyLayer? Consent, PolicyLayer? Notice, PolicyLayer? KeyFor, PolicyLayer? PutOff, PolicyLayer? Record, PolicyLayer? FileRoots, PolicyLayer? GiveScreen);

/// <summary>Layers of a host policy: the nearest place that says something counts.</summary>
public static class PolicyLayers
{
    /// <param name="layers">From everything down to the host.</param>
    /// <returns>What is wanted where the last layer lies.</returns>
    public static HostPolicy Fold(IEnumerable<PolicyLayer> layers) => layers.Aggregate(HostPolicy.Everything, (policy, layer) => policy.With(layer.Part));

    /// <inheritdoc cref="Fold"/>
    public static PolicyOrigins Origins(IReadOnlyList<PolicyLayer> layers) => new(
        layers.LastOrDefault(l => l.Part.Allowed is not null),
        layers.LastOrDefault(l => l.Part.Consent is not null),
        layers.LastOrDefault(l => l.Part.Notice is not null),
        layers.LastOrDefault(l => l.Part.KeyFor is not null),
        layers.LastOrDefault(l => l.Part.PutOffMinutes is not null),
        layers.LastOrDefault(l => l.Part.Record is not null),
        layers.LastOrDefault(l => l.Part.FileRoots is not null),
        layers.LastOrDefault(l => l.Part.GiveScreen is not null));
}
