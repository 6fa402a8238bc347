using System.Buffers.Binary;
using System.Text;

namespace Umbrek.Agent.Platform.Linux;

/// <param name="Terminal">The device's name below /dev; for a desktop its display, like ":0".</param>
internal sealed record Login(string Name, string Terminal);

/// <summary>Who is logged in: utmp(5) on 64-bit glibc, records of 384 bytes; type at 0 (7 is a person), terminal at 8 and name at 44, 32 bytes each.</summary>
internal static class Logins
{
    public const string File = "/run/utmp";
    private const int RecordLength = 384;
    private const short UserProcess = 7;
    private const int Most = 256;

    public static IReadOnlyList<Login> Read(string file = File)
    {
        try
        {
            var utmp = System.IO.File.ReadAllBytes(file);
            return [.. Enumerable.Range(0, utmp.Length / RecordLength)
                .Select(i => utmp.AsMemory(i * RecordLength, RecordLength))
                .Where(r => BinaryPrimitives.ReadInt16LittleEndian(r.Span) == UserProcess)
                .Select(r => new Login(Text(r.Span.Slice(44, 32)), Text(r.Span.Slice(8, 32))))
                .Where(l => l.Name.Length > 0)
                .Take(Most)];
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return [];
        }
    }

    private static string Text(ReadOnlySpan<byte> field) => Encoding.UTF8.GetString(field[..(field.IndexOf((byte)0) is var end and >= 0 ? end : field.Length)]);
}
