namespace Umbrek.Core.Files;

/// <summary>Something that was deleted on a host and can be put back.</summary>
/// <param name="Id">What it is called in the trash.</param>
/// <param name="Path">Where it lay.</param>
/// <param name="Entry">What it is.</param>
public sealed record TrashItem(string Id, FileName Path, DateTimeOffset DeletedAt, FileEntry Entry);
