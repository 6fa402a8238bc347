using System.Buffers.Binary;
using System.Text;

namespace Umbrek.Core.Desktop;

/// <summary>What a viewer says (RFC 6143, 7.5, and the extensions beside it).</summary>
public abstract record RfbClientMessage
{
    public sealed record Format(PixelFormat Wanted) : RfbClientMessage;

    /// <param name="Wanted">In the order in which the viewer likes them.</param>
    public sealed record Encodings(IReadOnlyList<int> Wanted) : RfbClientMessage;

    /// <param name="Incremental">Only what changed; otherwise all of it.</param>
    public sealed record Request(bool Incremental, ScreenRect Part) : RfbClientMessage;

    /// <param name="KeySym">As X names it (RFC 6143, 7.5.4).</param>
    /// <param name="KeyCode">Of the physical key, in the numbers of an XT keyboard with 0x80 for the extended ones; 0 where the viewer does not know it.</param>
    public sealed record Key(bool Down, uint KeySym, uint KeyCode = 0) : RfbClientMessage;

    /// <param name="Buttons">One bit for each; the lowest is the left one, 3 to 6 are turns of the wheels.</param>
    public sealed record Mouse(int X, int Y, byte Buttons) : RfbClientMessage;

    /// <summary>The viewer's clipboard in Latin-1, as the plain protocol has it.</summary>
    public sealed record CutText(string Text) : RfbClientMessage;

    public sealed record Clipboard(ClipboardMessage Message) : RfbClientMessage;

    public sealed record Continuous(bool Enable, ScreenRect Part) : RfbClientMessage;

    public sealed record Fence(FenceFlags Flags, ReadOnlyMemory<byte> Payload) : RfbClientMessage;

    public sealed record Resize(int Width, int Height, IReadOnlyList<RfbScreen> Screens) : RfbClientMessage;
}

/// <summary>One monitor of a screen, in ExtendedDesktopSize and SetDesktopSize.</summary>
public readonly record struct RfbScreen(uint Id, ScreenRect Part, uint Flags)
{
    public const int Length = 16;

    public static RfbScreen Read(ReadOnlySpan<byte> data) => new(
        BinaryPrimitives.ReadUInt32BigEndian(data),
        new ScreenRect(BinaryPrimitives.ReadUInt16BigEndian(data[4..]), BinaryPrimitives.ReadUInt16BigEndian(data[6..]), BinaryPrimitives.ReadUInt16BigEndian(data[8..]), BinaryPrimitives.ReadUInt16BigEndian(data[10..])),
        BinaryPrimitives.ReadUInt32BigEndian(data[12..]));
}

/// <summary>Reads what a viewer says out of bytes that come in pieces.</summary>
public static class RfbClientReader
{
    /// <summary>Longer texts are not taken.</summary>
    public const int MostText = 4 * 1024 * 1024;

    private const int MostEncodings = 256;
    private const int MostScreens = 64;
    private const int MostFence = 64;

    /// <summary>Reads the first message of what has come.</summary>
    /// <param name="used">How many bytes it took.</param>
    /// <returns>Null as long as it is not whole.</returns>
    /// <exception cref="RfbException">It is none.</exception>
    public static RfbClientMessage? Read(ReadOnlySpan<byte> data, out int used)
    {
        used = 0;
        if (data.IsEmpty)
        {
            return null;
        }
        switch (data[0])
        {
            case RfbMessage.SetPixelFormat:
                return Whole(data, 4 + PixelFormat.Length, ref used) ? new RfbClientMessage.Format(PixelFormat.Read(data[4..])) : null;
            case RfbMessage.SetEncodings:
                return ReadEncodings(data, ref used);
            case RfbMessage.UpdateRequest:
                return Whole(data, 10, ref used) ? new RfbClientMessage.Request(data[1] != 0, Rect(data[2..])) : null;
            case RfbMessage.Key:
                return Whole(data, 8, ref used) ? new RfbClientMessage.Key(data[1] != 0, U32(data[4..])) : null;
            case RfbMessage.Mouse:
                return Whole(data, 6, ref used) ? new RfbClientMessage.Mouse(U16(data[2..]), U16(data[4..]), data[1]) : null;
            case RfbMessage.ClientCutText:
                return ReadCutText(data, ref used);
            case RfbMessage.EnableContinuousUpdates:
                return Whole(data, 10, ref used) ? new RfbClientMessage.Continuous(data[1] != 0, Rect(data[2..])) : null;
            case RfbMessage.Fence:
                return ReadFence(data, ref used);
            case RfbMessage.SetDesktopSize:
                return ReadResize(data, ref used);
            case RfbMessage.Qemu:
                return ReadQemu(data, ref used);
            default:
                throw new RfbException($"the viewer says something of kind {data[0]}, which there is none of");
        }
    }

    private static RfbClientMessage.Encodings? ReadEncodings(ReadOnlySpan<byte> data, ref int used)
    {
        if (data.Length < 4)
        {
            return null;
        }
        var count = U16(data[2..]);
        if (count > MostEncodings)
        {
            throw new RfbException($"the viewer names {count} encodings");
        }
        if (!Whole(data, 4 + 4 * count, ref used))
        {
            return null;
        }
        var wanted = new int[count];
        for (var i = 0; i < count; i++)
        {
            wanted[i] = BinaryPrimitives.ReadInt32BigEndian(data[(4 + 4 * i)..]);
        }
        return new RfbClientMessage.Encodings(wanted);
    }

    private static RfbClientMessage? ReadCutText(ReadOnlySpan<byte> data, ref int used)
    {
        if (data.Length < 8)
        {
            return null;
        }
        // A length below zero says that the extended clipboard follows.
        var length = BinaryPrimitives.ReadInt32BigEndian(data[4..]);
        var size = length < 0 ? -(long)length : length;
        if (size > MostText)
        {
            throw new RfbException($"the viewer sends a clipboard of {size} bytes; {MostText} are the most that is taken");
        }
        if (!Whole(data, 8 + (int)size, ref used))
        {
            return null;
        }
        var body = data.Slice(8, (int)size);
        return length < 0 ? new RfbClientMessage.Clipboard(ClipboardMessage.Read(body)) : new RfbClientMessage.CutText(Encoding.Latin1.GetString(body));
    }

    private static RfbClientMessage.Fence? ReadFence(ReadOnlySpan<byte> data, ref int used)
    {
        if (data.Length < 9)
        {
            return null;
        }
        if (data[8] > MostFence)
        {
            throw new RfbException($"the viewer sends a fence of {data[8]} bytes; {MostFence} are the most");
        }
        return Whole(data, 9 + data[8], ref used) ? new RfbClientMessage.Fence((FenceFlags)U32(data[4..]), data.Slice(9, data[8]).ToArray()) : null;
    }

    private static RfbClientMessage.Resize? ReadResize(ReadOnlySpan<byte> data, ref int used)
    {
        if (data.Length < 8)
        {
            return null;
        }
        if (data[6] > MostScreens)
        {
            throw new RfbException($"the viewer asks for {data[6]} monitors");
        }
        if (!Whole(data, 8 + RfbScreen.Length * data[6], ref used))
        {
            return null;
        }
        var screens = new RfbScreen[data[6]];
        for (var i = 0; i < screens.Length; i++)
        {
            screens[i] = RfbScreen.Read(data[(8 + RfbScreen.Length * i)..]);
        }
        return new RfbClientMessage.Resize(U16(data[2..]), U16(data[4..]), screens);
    }

    private static RfbClientMessage.Key? ReadQemu(ReadOnlySpan<byte> data, ref int used)
    {
        if (data.Length < 2)
        {
            return null;
        }
        if (data[1] != 0)
        {
            throw new RfbException($"the viewer says something of kind 255/{data[1]}, which there is none of");
        }
        return Whole(data, 12, ref used) ? new RfbClientMessage.Key(U16(data[2..]) != 0, U32(data[4..]), U32(data[8..])) : null;
    }

    private static bool Whole(ReadOnlySpan<byte> data, int length, ref int used)
    {
        if (data.Length < length)
        {
            return false;
        }
        used = length;
        return true;
    }

    private static ScreenRect Rect(ReadOnlySpan<byte> data) => new(U16(data), U16(data[2..]), U16(data[4..]), U16(data[6..]));

    private static int U16(ReadOnlySpan<byte> data) => BinaryPrimitives.ReadUInt16BigEndian(data);

    private static uint U32(ReadOnlySpan<byte> data) => BinaryPrimitives.ReadUInt32BigEndian(data);
}
