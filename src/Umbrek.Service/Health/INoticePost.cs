using Umbrek.Core.Health;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Health;

/// <summary>How a delivery went.</summary>
/// <param name="Problem">Null when it has arrived.</param>
/// <param name="Again">Whether trying again may help.</param>
/// <param name="Unreachable">Nothing for this receiver gets through now: the rest need not be tried.</param>
/// <param name="After">How long the receiver wants to be left alone.</param>
public sealed record PostResult(string? Problem, bool Again = true, bool Unreachable = false, TimeSpan? After = null)
{
    public static PostResult Arrived { get; } = new((string?)null);
}

/// <summary>A way to tell somebody. Another one is another file, and a line where services are registered.</summary>
public interface INoticePost
{
    NoticeWay Way { get; }

    /// <summary>Tries once. What goes wrong is an answer, not an exception.</summary>
    Task<PostResult> SendAsync(NoticeRow notice, DeliveryRow delivery, CancellationToken cancel);
}
