using Umbrek.Core.Files;

namespace Umbrek.Agent.Files;

/// <summary>Where a named place lies on this host.</summary>
/// <param name="Person">Whose it is; null for the system's.</param>
/// <param name="Within">What is put there stays in this folder, wherever links of that person lead; null for anywhere.</param>
public sealed record PlaceHere(FileName Folder, string? Person = null, string? Within = null);
