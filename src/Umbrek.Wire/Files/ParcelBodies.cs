using Umbrek.Core.Files;

namespace Umbrek.Wire.Files;

/// <param name="Entries">What is in it, each folder before what it holds; hashes are left out, the service finds them.</param>
public sealed record NewParcel(IReadOnlyList<ParcelEntry> Entries);

/// <summary>Files and folders that are kept for hosts to fetch.</summary>
/// <param name="Bytes">So long the contents of its files are together.</param>
/// <param name="Received">So much of them is safely on the service's disk; the next part begins there.</param>
/// <param name="Digest">SHA-256 of its list, once all of it is there.</param>
/// <param name="KeptUntil">Then it is removed, but for runs that have not ended.</param>
public sealed record ParcelInfo(Guid Id, string Name, DateTimeOffset CreatedAt, string CreatedBy, int Files, int Folders, int Links, long Bytes, long Received, string? Digest, DateTimeOffset KeptUntil);

/// <summary>
/// The first line of a parcel's list; the entries follow, a line of JSON each. Its SHA-256 names the parcel.
/// </summary>
/// <param name="Body">SHA-256 of all contents, one behind the other.</param>
public sealed record ParcelHead(int Parcel, string Body, long Bytes, int Entries)
{
    public const int Version = 1;
    public const string MediaType = "application/x-ndjson";
}

/// <summary>Where hosts fetch what they were ordered to.</summary>
public static class ContentPath
{
    /// <param name="sha256">Of a parcel's list, or of its body.</param>
    public static string Of(string sha256) => $"content/{sha256}";
}
