using System.Buffers.Binary;
using System.Text;

namespace Umbrek.Core.Enrolment;

/// <summary>The little of multicast DNS (RFC 6762) that asks for the name of an address: a PTR question and its answer (RFC 1035 §4).</summary>
public static class MdnsMessage
{
    private const ushort TypePtr = 12;

    /// <summary>Class IN with the bit that asks for an answer to the asker alone (RFC 6762 §5.4).</summary>
    private const ushort ClassInUnicast = 0x8001;
    private const int MostJumps = 16;

    /// <summary>The question for the name of an IPv4 address (RFC 1035 §3.5).</summary>
    public static byte[] Question(string address)
    {
        var labels = address.Split('.').Reverse().Append("in-addr").Append("arpa");
        using var message = new MemoryStream();
        message.Write([0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0]);
        foreach (var label in labels)
        {
            message.WriteByte((byte)label.Length);
            message.Write(Encoding.ASCII.GetBytes(label));
        }
        message.WriteByte(0);
        Span<byte> tail = stackalloc byte[4];
        BinaryPrimitives.WriteUInt16BigEndian(tail, TypePtr);
        BinaryPrimitives.WriteUInt16BigEndian(tail[2..], ClassInUnicast);
        message.Write(tail);
        return message.ToArray();
    }

    /// <returns>The address that an answer is for and its name without the last full stop, or null when the message is no such answer.</returns>
    public static (string Address, string Name)? ReadAnswer(ReadOnlySpan<byte> message)
    {
        if (message.Length < 12 || (message[2] & 0x80) == 0)
        {
            return null;
        }
        var questions = BinaryPrimitives.ReadUInt16BigEndian(message[4..]);
        var answers = BinaryPrimitives.ReadUInt16BigEndian(message[6..]);
        var at = 12;
        for (var i = 0; i < questions; i++)
        {
            if (ReadName(message, ref at) is null || (at += 4) > message.Length)
            {
                return null;
            }
        }
        for (var i = 0; i < answers; i++)
        {
            var asked = ReadName(message, ref at);
            if (asked is null || at + 10 > message.Length)
            {
                return null;
            }
            var type = BinaryPrimitives.ReadUInt16BigEndian(message[at..]);
            var length = BinaryPrimitives.ReadUInt16BigEndian(message[(at + 8)..]);
            at += 10;
            if (at + length > message.Length)
            {
                return null;
            }
            var data = at;
            at += length;
            const string reverse = ".in-addr.arpa";
            if (type == TypePtr && asked.EndsWith(reverse, StringComparison.OrdinalIgnoreCase) && ReadName(message, ref data) is { Length: > 0 } name)
            {
                return (string.Join('.', asked[..^reverse.Length].Split('.').Reverse()), name);
            }
        }
        return null;
    }

    /// <summary>A name with its pointers followed (RFC 1035 §4.1.4), but not in circles.</summary>
    private static string? ReadName(ReadOnlySpan<byte> message, ref int at)
    {
        var name = new StringBuilder();
        var position = at;
        var jumps = 0;
        while (position < message.Length)
        {
            var length = message[position];
            if (length == 0)
            {
                at = jumps == 0 ? position + 1 : at;
                return name.ToString();
            }
            if ((length & 0xC0) == 0xC0)
            {
                if (position + 1 >= message.Length || ++jumps > MostJumps)
                {
                    return null;
                }
                at = jumps == 1 ? position + 2 : at;
                position = ((length & 0x3F) << 8) | message[position + 1];
                continue;
            }
            if (length > 63 || position + 1 + length > message.Length || name.Length > 255)
            {
                return null;
            }
            name.Append(name.Length > 0 ? "." : "").Append(Encoding.UTF8.GetString(message.Slice(position + 1, length)));
            position += 1 + length;
        }
        return null;
    }
}
