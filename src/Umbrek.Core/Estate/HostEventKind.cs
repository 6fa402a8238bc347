namespace Umbrek.Core.Estate;

/// <summary>What a line of a host's time line tells.</summary>
public enum HostEventKind
{
    Joined,
    Moved,
    Labelled,
    Noted,
    Tagged,
    Retired,
    Restored,

    /// <summary>Another entry of the same machine was put together with it.</summary>
    Merged,

    /// <summary>A job ran on it.</summary>
    Ran,
    Updated,

    /// <summary>An alert was raised.</summary>
    Alerted,

    /// <summary>What a check of its agent's own found, or did about it.</summary>
    Checked,
}
