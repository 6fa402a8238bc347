using Umbrek.Core.Audit;

namespace Umbrek.Wire.Audit;

/// <param name="Hash">SHA-256 in hex; see <see cref="AuditChain"/>.</param>
public sealed record AuditInfo(long Number, DateTimeOffset At, string Actor, string? Address, string Action, string Target, string Detail, string Hash);
