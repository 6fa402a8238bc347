namespace Umbrek.Wire.Files;

/// <summary>A folder that the service keeps, of a group: twins put there what lies on hosts, and take it from there to others.</summary>
public sealed record NewShelf(string Name, Guid GroupId);

/// <param name="GroupPath">Who may read or write files of hosts there may do so on the shelf.</param>
/// <param name="Files">So many files lie on it.</param>
/// <param name="Bytes">So long are they together.</param>
public sealed record ShelfInfo(Guid Id, string Name, Guid GroupId, string GroupPath, DateTimeOffset CreatedAt, string CreatedBy, long Files, long Bytes);
