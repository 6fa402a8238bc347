using System.Buffers.Binary;
using System.IO.Compression;
using System.Text;

namespace Umbrek.Core.Desktop;

/// <summary>What a message of the extended clipboard is for: its bits 24 to 28.</summary>
public enum ClipboardAct : uint
{
    /// <summary>What the speaker can take.</summary>
    Caps = 1 << 24,
    Request = 1 << 25,
    Peek = 1 << 26,
    Notify = 1 << 27,
    Provide = 1 << 28,
}

/// <summary>A message of the extended clipboard, of which text is what is spoken about here.</summary>
/// <param name="HasText">Whether it is about text; other formats are left alone.</param>
/// <param name="Text">With <see cref="ClipboardAct.Provide"/>: the text, with lines that end as they do on Unix.</param>
public sealed record ClipboardMessage(ClipboardAct Act, bool HasText, string? Text = null)
{
    private const uint TextBit = 1;
    private const uint Formats = 0xFFFF;

    /// <summary>Bits of all acts.</summary>
    private const uint Acts = (uint)(ClipboardAct.Caps | ClipboardAct.Request | ClipboardAct.Peek | ClipboardAct.Notify | ClipboardAct.Provide);

    /// <summary>What this side can do.</summary>
    public static byte[] Caps()
    {
        var body = new byte[8];
        BinaryPrimitives.WriteUInt32BigEndian(body, Acts | TextBit);
        // Text that is provided without being asked for: none.
        return body;
    }

    /// <exception cref="RfbException">It is none.</exception>
    public static ClipboardMessage Read(ReadOnlySpan<byte> body)
    {
        if (body.Length < 4)
        {
            throw new RfbException("a message about the clipboard is cut off");
        }
        var flags = BinaryPrimitives.ReadUInt32BigEndian(body);
        var hasText = (flags & TextBit) != 0;
        // Caps name all acts that the speaker knows; the others are one each.
        if ((flags & (uint)ClipboardAct.Caps) != 0)
        {
            return new ClipboardMessage(ClipboardAct.Caps, hasText);
        }
        var act = (ClipboardAct)(flags & Acts);
        if (!Enum.IsDefined(act))
        {
            throw new RfbException($"a message about the clipboard is of no kind: {flags:x8}");
        }
        return act == ClipboardAct.Provide && hasText ? new ClipboardMessage(act, true, Unpack(body[4..])) : new ClipboardMessage(act, hasText);
    }

    /// <summary>As it goes over the wire, without the header of a cut text.</summary>
    public byte[] Write()
    {
        if (Act == ClipboardAct.Caps)
        {
            return Caps();
        }
        using var packed = new MemoryStream();
        Span<byte> word = stackalloc byte[4];
        BinaryPrimitives.WriteUInt32BigEndian(word, (uint)Act | (HasText ? TextBit : 0));
        packed.Write(word);
        if (Act == ClipboardAct.Provide && Text is not null)
        {
            var text = Encoding.UTF8.GetBytes(Text.ReplaceLineEndings("\r\n"));
            using var zlib = new ZLibStream(packed, CompressionLevel.Fastest, leaveOpen: true);
            BinaryPrimitives.WriteUInt32BigEndian(word, (uint)text.Length + 1);
            zlib.Write(word);
            zlib.Write(text);
            zlib.WriteByte(0);
        }
        return packed.ToArray();
    }

    private static string Unpack(ReadOnlySpan<byte> packed)
    {
        try
        {
            using var zlib = new ZLibStream(new MemoryStream(packed.ToArray()), CompressionMode.Decompress);
            Span<byte> size = stackalloc byte[4];
            zlib.ReadExactly(size);
            var length = BinaryPrimitives.ReadUInt32BigEndian(size);
            if (length > RfbClientReader.MostText)
            {
                throw new RfbException($"the other side sends a clipboard of {length} bytes; {RfbClientReader.MostText} are the most that is taken");
            }
            var text = new byte[length];
            zlib.ReadExactly(text);
            return Encoding.UTF8.GetString(text).TrimEnd('\0').ReplaceLineEndings("\n");
        }
        catch (Exception e) when (e is InvalidDataException or EndOfStreamException)
        {
            throw new RfbException("a clipboard that was sent can't be unpacked");
        }
    }
}
