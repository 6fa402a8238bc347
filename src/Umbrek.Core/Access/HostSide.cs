namespace Umbrek.Core.Access;

/// <summary>What a host says of its own side.</summary>
/// <param name="InForce">What its agent keeps to right now.</param>
/// <param name="Limit">What the host's own file narrows it to; null when there is no such file.</param>
/// <param name="Problem">Null, or why the file can't be relied on, so that nothing is allowed.</param>
/// <param name="HasAccessKey">True when an access key is set on it.</param>
/// <param name="SessionsEndedAt">When somebody last had all sessions ended with a change of the key, by the host's clock.</param>
/// <param name="KeyMark">Eight hexadecimal digits that two hosts with the same access key share (<see cref="AccessKeyMark"/>).</param>
public sealed record HostSide(HostPolicy InForce, HostPolicyPart? Limit = null, string? Problem = null, bool HasAccessKey = false, string? KeyMark = null, DateTimeOffset? SessionsEndedAt = null);
