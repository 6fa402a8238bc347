using System.Security.Cryptography;
using System.Text;
using System.Text.Json;

namespace Umbrek.Core.Audit;

/// <summary>One line of the audit log, before it is chained.</summary>
/// <param name="Number">1, 2, 3 … without gaps.</param>
/// <param name="Actor">Who: a technician's name, "host NAME", or "service".</param>
/// <param name="Address">From where, or null for the service itself.</param>
/// <param name="Action">What, as area.verb: <c>installer.create</c>, <c>enrolment.refuse</c> …</param>
/// <param name="Target">To what, by name.</param>
/// <param name="Detail">More, as a JSON object; never a secret.</param>
public sealed record AuditEntry(long Number, DateTimeOffset At, string Actor, string? Address, string Action, string Target, string Detail);

/// <summary>
/// Each line's hash covers the line and the hash of the line before: SHA-256 over that hash and the line as canonical JSON
/// (members in one fixed order, no white space). A line that is changed, removed or moved breaks the chain there.
/// </summary>
public static class AuditChain
{
    public static byte[] Start { get; } = new byte[SHA256.HashSizeInBytes];

    public static byte[] Next(ReadOnlySpan<byte> before, AuditEntry entry)
    {
        using var buffer = new MemoryStream();
        buffer.Write(before);
        using (var json = new Utf8JsonWriter(buffer))
        {
            json.WriteStartArray();
            json.WriteNumberValue(entry.Number);
            json.WriteNumberValue(entry.At.ToUnixTimeMilliseconds());
            json.WriteStringValue(entry.Actor);
            json.WriteStringValue(entry.Address);
            json.WriteStringValue(entry.Action);
            json.WriteStringValue(entry.Target);
            json.WriteStringValue(Encoding.UTF8.GetBytes(entry.Detail));
            json.WriteEndArray();
        }
        return SHA256.HashData(buffer.GetBuffer().AsSpan(0, (int)buffer.Length));
    }
}
