using System.Text.RegularExpressions;
using Umbrek.Core.Text;

namespace Umbrek.Core.Jobs;

/// <summary>How a service of a host stands.</summary>
public enum ServiceState
{
    Runs,
    Starting,
    Stopping,

    /// <summary>It has done what it was for and ended well; it counts as active.</summary>
    Done,
    Stopped,
    Failed,

    /// <summary>The system does not tell.</summary>
    Unknown,
}

/// <summary>Whether a service is started with its system.</summary>
public enum ServiceStart
{
    WithSystem,
    ByHand,

    /// <summary>Others that need it start it; it can be neither enabled nor disabled.</summary>
    ByOthers,

    /// <summary>It was shut off for good (masked).</summary>
    Never,
    Unknown,
}

/// <summary>A service of a host.</summary>
/// <param name="Name">As the system's own tools take it.</param>
/// <param name="Detail">The system's own word for its state.</param>
/// <param name="Since">Since when it stands so.</param>
/// <param name="Pid">Of its first process.</param>
public sealed record HostService(string Name, string? Description, ServiceState State, ServiceStart Start, string? Detail = null, DateTimeOffset? Since = null, int? Pid = null, long? MemoryBytes = null);

/// <summary>What is done with a service.</summary>
public enum ServiceAct
{
    Start,
    Stop,
    Restart,
    Reload,
    Enable,
    Disable,

    /// <summary>Says how it stands, what it needs, what needs it, and its last log lines.</summary>
    Show,
}

/// <summary>One act on one service.</summary>
/// <param name="Name">Without a type where it is a service of systemd: "cups".</param>
public sealed partial record ServiceWish(string Name, ServiceAct Act)
{
    public string? Check() =>
        IsName().IsMatch(Name ?? "") ? Enum.IsDefined(Act) ? null : "There is no such act on a service."
            : $"'{TerminalText.Line(Name ?? "")}' is no name of a service; it has letters, digits and : - _ . @ and begins with none of - and .";

    /// <summary>In words: "restart service cups".</summary>
    public string Display() => $"{Act.ToString().ToLowerInvariant()} service {TerminalText.Line(Name ?? "")}";

    /// <summary>systemd.unit(5); names of init scripts are fewer (LSB Core 5.0, 22.6).</summary>
    [GeneratedRegex(@"^[A-Za-z0-9:_][A-Za-z0-9:_.@\\-]{0,249}\z")]
    private static partial Regex IsName();
}
