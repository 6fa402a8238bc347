using Umbrek.Core.Access;

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

public sealed record TechnicianInfo(Guid Id, string Name, IReadOnlyList<string> Teams);

/// <summary>Adds a technician, who may do nothing until a grant says so.</summary>
public sealed record NewTechnician(string Name, string Password);

/// <summary>Who asks, and what he may do.</summary>
/// <param name="Anywhere">What he may do at one place at least: whatever else a page offers, it offers in vain.</param>
/// <param name="Everywhere">What he may do at every place.</param>
/// <param name="CanChange">Who administers everything, and could give him more.</param>
public sealed record Me(Guid Id, string Name, IReadOnlyList<GrantInfo> Grants, IReadOnlyList<Permission> Anywhere, IReadOnlyList<Permission> Everywhere, IReadOnlyList<string> CanChange);

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
