namespace Umbrek.Wire.Access;

public sealed record SetUpState(bool Needed);

/// <summary>Makes the first technician; the code stands on the service's terminal.</summary>
public sealed record SetUpRequest(string Code, string Name, string Password);

/// <param name="Use">Whether the answer sets a cookie (console) or holds a bearer token (client).</param>
public sealed record SignInRequest(string Name, string Password, SignInUse Use, string? Device = null);

public enum SignInUse
{
    Cookie,
    Token,
}

/// <param name="Token">The bearer token, with <see cref="SignInUse.Token"/>; shown this once.</param>
public sealed record SignInAnswer(TechnicianInfo Technician, string? Token, DateTimeOffset? ExpiresAt);

public sealed record TechnicianInfo(Guid Id, string Name, string Role);

/// <summary>Adds a technician; in this version every technician may do everything.</summary>
public sealed record NewTechnician(string Name, string Password);
