using Umbrek.Core.Access;

namespace Umbrek.Wire.Access;

public sealed record SetUpState(bool Needed);

/// <summary>Makes the first technician; the code stands on the service's terminal.</summary>
public sealed record SetUpRequest(string Code, string Name, string Password);

/// <param name="Use">Whether the answer sets a cookie (console) or holds a bearer token (client).</param>
/// <param name="Code">With a second factor: six digits from the authenticator, or a recovery code.</param>
/// <param name="DeviceKey">Random text that a client keeps, so that its device is known again; a browser has a cookie for that.</param>
/// <param name="Remember">Ask for the code on this device no more for 30 days.</param>
public sealed record SignInRequest(string Name, string Password, SignInUse Use, string? Device = null, string? Code = null, string? DeviceKey = null, bool Remember = false);

public enum SignInUse
{
    Cookie,
    Token,
}

/// <param name="Token">The bearer token, with <see cref="SignInUse.Token"/>; shown this once.</param>
public sealed record SignInAnswer(TechnicianInfo Technician, string? Token, DateTimeOffset? ExpiresAt);

/// <param name="SecondFactor">Whether a password alone does not open.</param>
/// <param name="Mail">Where notices reach him; shown to himself and to whoever administers.</param>
public sealed record TechnicianInfo(Guid Id, string Name, IReadOnlyList<string> Teams, bool SecondFactor, string? Mail = null);

/// <param name="Address">Null or empty takes it away.</param>
public sealed record MailWish(string? Address);

public enum SignInKind
{
    Console,
    Client,
    Script,
}

/// <summary>Something that is signed in for a technician.</summary>
/// <param name="Here">It is what the caller asks with.</param>
/// <param name="Permissions">What it is good for at most; null is all that its technician has.</param>
public sealed record SignInInfo(
    Guid Id, SignInKind Kind, string Device, string? Address, DateTimeOffset CreatedAt, DateTimeOffset LastSeenAt, DateTimeOffset ExpiresAt, IReadOnlyList<Permission>? Permissions, bool Here);

/// <summary>A token for a script: good for some permissions, until a time.</summary>
/// <param name="Password">The maker's own, once more: a token outlives the sign-in that makes it.</param>
public sealed record NewToken(string Name, IReadOnlyList<Permission> Permissions, DateTimeOffset EndsAt, string Password);

/// <param name="Token">Shown this once.</param>
public sealed record TokenAnswer(SignInInfo Info, string Token);

/// <summary>Who is there proves it again, before something that a stranger at an open screen must not do.</summary>
public sealed record PasswordProof(string Password);

/// <param name="NewPassword">Every other sign-in ends with the old one.</param>
public sealed record PasswordChange(string Password, string NewPassword);

/// <summary>A second factor that is being set up; it counts once a code of it was typed.</summary>
/// <param name="Secret">For typing, in base 32.</param>
/// <param name="Uri">For an app on the same device.</param>
/// <param name="Picture">The same as a QR code (ISO/IEC 18004): an SVG path whose unit is a module.</param>
/// <param name="PictureSize">Modules along a side, with the quiet zone.</param>
public sealed record SecondFactorOffer(string Secret, string Uri, string Picture, int PictureSize);

public sealed record SecondFactorProof(string Code);

/// <summary>Each opens once, in place of a code; shown this once.</summary>
public sealed record RecoveryCodes(IReadOnlyList<string> Codes);

/// <param name="SecondFactorRequired">Whoever has none may only set one up.</param>
public sealed record SignInSettings(bool SecondFactorRequired);

/// <summary>Adds a technician, who may do nothing until a grant says so.</summary>
public sealed record NewTechnician(string Name, string Password);

/// <summary>Who asks, and what he may do.</summary>
/// <param name="Anywhere">What he may do at one place at least: whatever else a page offers, it offers in vain.</param>
/// <param name="Everywhere">What he may do at every place.</param>
/// <param name="CanChange">Who administers everything, and could give him more.</param>
/// <param name="SecondFactorMissing">He must set one up before he may do anything else.</param>
/// <param name="RecoveryCodes">How many are left.</param>
/// <param name="NewDevices">Devices that signed in as him, and that he has not said are his.</param>
public sealed record Me(
    Guid Id, string Name, IReadOnlyList<GrantInfo> Grants, IReadOnlyList<Permission> Anywhere, IReadOnlyList<Permission> Everywhere, IReadOnlyList<string> CanChange,
    bool SecondFactor, bool SecondFactorMissing, int RecoveryCodes, IReadOnlyList<DeviceInfo> NewDevices);

/// <param name="BuiltIn">It can't be changed.</param>
/// <param name="Grants">How many grants give it.</param>
public sealed record RoleInfo(Guid Id, string Name, IReadOnlyList<Permission> Permissions, bool BuiltIn, string? Note, int Grants, long Version);

/// <summary>A role of one's own; whoever holds it also sees what it is about.</summary>
public sealed record NewRole(string Name, IReadOnlyList<Permission> Permissions, string? Note = null);

public sealed record TeamInfo(Guid Id, string Name, IReadOnlyList<TeamMember> Members, int Grants);

public sealed record TeamMember(Guid Id, string Name);

public sealed record NewTeam(string Name);

/// <summary>A role for a technician or a team, on a group and everything below.</summary>
/// <param name="Holder">Name of the technician or team.</param>
/// <param name="GroupPath">Null is everything.</param>
/// <param name="Ended">Its time is over; it gives nothing any more.</param>
/// <param name="MayChange">Whether the caller may end or change it.</param>
public sealed record GrantInfo(
    Guid Id, Guid? TechnicianId, Guid? TeamId, string Holder, string Role, string? GroupPath, DateTimeOffset? EndsAt, bool Ended, string? Note, DateTimeOffset CreatedAt, string CreatedBy, bool MayChange);

/// <param name="Technician">A technician's name; or else a team is named.</param>
/// <param name="GroupPath">A customer or group.</param>
/// <param name="Everything">Every customer, also those still to come; then no group is named.</param>
public sealed record NewGrant(string? Technician, string? Team, string Role, string? GroupPath, bool Everything = false, DateTimeOffset? EndsAt = null, string? Note = null);

/// <param name="EndsAt">Null: it does not end by itself.</param>
public sealed record GrantChange(DateTimeOffset? EndsAt);

/// <summary>What somebody may do at one place, and why or why not.</summary>
/// <param name="Place">A host's label or a group's path.</param>
/// <param name="CanChange">Who says who gets in there.</param>
public sealed record AccessExplanation(string Technician, string Place, string GroupPath, Guid? HostId, IReadOnlyList<AccessAnswer> Answers, IReadOnlyList<string> CanChange);

public sealed record AccessAnswer(Permission Permission, bool Allowed, AccessReason Reason, string Why, string Sentence, string? Remedy);

/// <summary>Technicians and customers: who reaches what.</summary>
public sealed record AccessMatrix(IReadOnlyList<string> Customers, IReadOnlyList<AccessMatrixRow> Rows);

/// <param name="Cells">One for each customer, in their order.</param>
public sealed record AccessMatrixRow(Guid TechnicianId, string Technician, IReadOnlyList<AccessMatrixCell> Cells);

/// <summary>The grants that reach a customer, or a part of it.</summary>
public sealed record AccessMatrixCell(IReadOnlyList<MatrixGrant> Grants);

/// <param name="GroupPath">Null is everything; a path below the customer is a part of it only.</param>
public sealed record MatrixGrant(Guid Id, string Role, string? GroupPath, string? Team, DateTimeOffset? EndsAt, bool Ended);

/// <summary>A device that its owner has signed in from.</summary>
/// <param name="IsNew">Its owner has not said yet that it is his.</param>
/// <param name="RememberedUntil">Until then it is not asked for the second factor.</param>
/// <param name="Here">The caller's own.</param>
public sealed record DeviceInfo(Guid Id, string Device, string? Address, DateTimeOffset FirstSeenAt, DateTimeOffset LastSeenAt, bool IsNew, DateTimeOffset? RememberedUntil, bool Here);

/// <summary>Which ways of signing in there are here besides the password.</summary>
/// <param name="SingleSignOn">The provider's name; null where there is none.</param>
public sealed record SignInWays(string? SingleSignOn);

/// <summary>A ceremony of WebAuthn that has begun.</summary>
/// <param name="Ceremony">Comes back with its answer.</param>
/// <param name="Options">For the browser's <c>navigator.credentials</c>.</param>
public sealed record PasskeyCeremony(string Ceremony, System.Text.Json.JsonElement Options);

public sealed record NewPasskey(string Name, string Ceremony, System.Text.Json.JsonElement Credential);

public sealed record PasskeyProof(string Ceremony, System.Text.Json.JsonElement Credential);

/// <param name="IsBackedUp">It is kept by its owner's other devices too.</param>
public sealed record PasskeyInfo(string Id, string Name, DateTimeOffset CreatedAt, bool IsBackedUp);

/// <summary>Who the caller is at the provider of single sign-on.</summary>
public sealed record LinkedLogin(string Name, string Issuer);

/// <param name="Path">Where the browser goes on, within five minutes and once.</param>
public sealed record LinkBeginning(string Path);
