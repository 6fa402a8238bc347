namespace Umbrek.Core.Access;

/// <summary>What the vault keeps.</summary>
public enum SecretKind
{
    /// <summary>The permanent secret of a host's agent.</summary>
    AccessKey,

    /// <summary>A name and a password of an operating system.</summary>
    Logon,
}

/// <summary>How far a host is with another access key.</summary>
public enum KeyRotationState
{
    /// <summary>It is away, or its turn has not come.</summary>
    Waiting,
    Changed,
    Failed,
    Cancelled,
}
