namespace Umbrek.Wire.Access;

/// <summary>A client asks to be let in by its technician's browser (after RFC 8628, the device authorization grant).</summary>
/// <param name="Device">What it runs on; shown to whoever lets it in.</param>
/// <param name="DeviceKey">Random text that the client keeps, so that its device is known again.</param>
public sealed record NewPairing(string? Device = null, string? DeviceKey = null);

/// <param name="Code">Shown at the client, and typed or compared in the browser.</param>
/// <param name="Secret">With this the client asks what became of it; nobody else gets it.</param>
/// <param name="Page">The page of the console at which it is let in.</param>
/// <param name="PollSeconds">How often the client may ask.</param>
public sealed record PairingBegun(string Code, string Secret, string Page, DateTimeOffset ExpiresAt, int PollSeconds);

/// <summary>What a technician sees of a client that asks.</summary>
public sealed record PairingInfo(string Code, string Device, string? Address, DateTimeOffset AskedAt, DateTimeOffset ExpiresAt);

/// <param name="Secret">As the client got it.</param>
public sealed record PairingClaim(string Secret);

public enum PairingState
{
    /// <summary>Nobody has said anything yet.</summary>
    Waiting,
    Allowed,
    Refused,
}

/// <param name="SignIn">Once, when it was allowed.</param>
public sealed record PairingAnswer(PairingState State, SignInAnswer? SignIn = null);
