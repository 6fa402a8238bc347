namespace Umbrek.Core.Enrolment;

/// <summary>
/// What tells one machine from another: the system's id (machine-id(5)), the board's id (SMBIOS system UUID), and the id of
/// the running boot. A copied disk carries the first along, never the other two.
/// </summary>
public sealed record MachineMark(string? MachineId, string? HardwareId, string? BootId = null)
{
    private const int MaxLength = 100;

    /// <summary>The same mark without what says nothing: empty, too long, or an id that makers leave at a placeholder.</summary>
    public MachineMark Normalise() => new(Usable(MachineId), Usable(HardwareId), Usable(BootId));

    /// <summary>
    /// The same machine, perhaps with a new system: boards that are both known decide; without them the system's id does.
    /// </summary>
    public bool IsSameMachineAs(MachineMark other) =>
        HardwareId is { } mine && other.HardwareId is { } theirs
            ? mine == theirs
            : MachineId is { } id && id == other.MachineId;

    /// <summary>True when the two can't be one machine at one time: another board, or another running boot.</summary>
    public bool CannotBe(MachineMark other) =>
        (HardwareId is { } mine && other.HardwareId is { } theirs && mine != theirs)
        || (BootId is { } boot && other.BootId is { } otherBoot && boot != otherBoot);

    /// <summary>
    /// Of two machines that are there at once with one identity: does the newcomer keep it? Who has the board that was enrolled
    /// does; in doubt, who is linked already.
    /// </summary>
    public static bool NewcomerKeeps(string? enrolledHardwareId, MachineMark linked, MachineMark newcomer) =>
        enrolledHardwareId is not null && newcomer.HardwareId == enrolledHardwareId && linked.HardwareId != enrolledHardwareId;

    private static string? Usable(string? id)
    {
        id = id?.Trim().ToLowerInvariant();
        return string.IsNullOrEmpty(id) || id.Length > MaxLength || id.Distinct().Count() < 5 || id.Any(char.IsControl) || id.StartsWith("03000200-0400-0500-0006-0007", StringComparison.Ordinal)
            ? null
            : id;
    }
}
