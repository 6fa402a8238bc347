using Umbrek.Core.Files;
using Umbrek.Core.Files.Twins;

namespace Umbrek.Wire.Files;

/// <summary>A folder on a host, or on a shelf of the service: one of the two.</summary>
/// <param name="Path">Whole; of a shelf it is counted from there, and "/" is all of it.</param>
public sealed record TwinPlace(Guid? HostId, FileName Path, Guid? ShelfId = null);

/// <summary>Two folders that are to be kept in step.</summary>
/// <param name="Rate">Most bytes a second; null for as many as there are.</param>
public sealed record NewTwin(string Name, TwinPlace First, TwinPlace Second, TwinRules Rules, long? Rate = null);

/// <param name="Label">The host's, or the shelf's name; null where the caller may not see it any more.</param>
public sealed record TwinFolder(Guid? HostId, string? Label, string? GroupPath, FileName Path, Guid? ShelfId = null);

/// <summary>Two folders that are kept in step. It is its maker's.</summary>
/// <param name="Turn">The one that goes on, or the last.</param>
public sealed record TwinInfo(Guid Id, string Name, TwinFolder First, TwinFolder Second, TwinRules Rules, long? Rate, DateTimeOffset CreatedAt, TurnInfo? Turn);

/// <summary>Both folders are looked at, and what is not in step is brought there.</summary>
/// <param name="DryRun">It is only said what would be done.</param>
/// <param name="Settling">Who wins where both sides have changed.</param>
/// <param name="ThoughEmpty">It goes on though a folder that held something holds nothing now.</param>
/// <param name="UsesVault">Whether the service proves the hosts' access keys from the vault, where they ask for them.</param>
public sealed record NewTurn(bool DryRun = false, TwinSettling? Settling = null, bool ThoughEmpty = false, bool UsesVault = false);

public enum TurnState
{
    /// <summary>Both folders are being looked at.</summary>
    Looking,
    Moving,

    /// <summary>A line broke; it goes on when the host is back.</summary>
    Waiting,
    Done,
    Failed,
    Cancelled,

    /// <summary>The service went down meanwhile. What was done stays done; another turn goes on.</summary>
    Interrupted,
}

/// <param name="Acts">So many things there are to do.</param>
/// <param name="ActsDone">So many of them are done.</param>
/// <param name="Bytes">So long are the files that are put anywhere.</param>
/// <param name="BytesDone">So much of them is there.</param>
/// <param name="BytesMoved">So much of that went over the lines, with what was said to find what differs.</param>
/// <param name="Same">So many things were in step.</param>
/// <param name="Conflicts">So many things both sides have changed: nothing was done about them.</param>
/// <param name="Problems">So many could not be done.</param>
/// <param name="Reason">Why it failed, or what it waits for.</param>
public sealed record TurnInfo(
    TurnState State, string By, DateTimeOffset BeganAt, DateTimeOffset? EndedAt, bool DryRun, long Acts, long ActsDone, long Bytes, long BytesDone, long BytesMoved, long Same, long Conflicts, long Problems, string? Reason = null);

/// <summary>One thing that a turn did, or would do.</summary>
/// <param name="To">On which side.</param>
/// <param name="Bytes">Of a file: how long it is.</param>
/// <param name="Replaces">Something was there.</param>
/// <param name="IsDone">It was done.</param>
/// <param name="Why">Why not, or what is in the way.</param>
/// <param name="First">Of a conflict: when it was changed on the first side; null where it is gone.</param>
/// <param name="Second">The same on the second.</param>
public sealed record TurnAct(FileName Path, TwinDeed Deed, TwinSide To, FileKind? Kind, long Bytes, bool Replaces, bool IsDone, string? Why = null, DateTimeOffset? First = null, DateTimeOffset? Second = null);
