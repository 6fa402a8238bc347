using System.Text;

namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>Keyboards and mice of an X server, by the X Input Extension, version 2.</summary>
public sealed class XInput
{
    /// <summary>Events that a window may want.</summary>
    public const int KeyPress = 2;
    public const int ButtonPress = 4;
    public const int ButtonRelease = 5;
    public const int Motion = 6;

    private const ushort AllMasters = 1;
    private const ushort SlavePointer = 3;
    private const ushort SlaveKeyboard = 4;
    private const int DeviceHead = 12;
    private const byte Async = 1;

    private readonly XConnection connection;
    private readonly XExtension extension;
    private readonly HashSet<int> synthetic = [];
    private readonly List<int> real = [];

    private XInput(XConnection connection, XExtension extension) => (this.connection, this.extension) = (connection, extension);

    public byte Opcode => extension.Opcode;

    /// <summary>Keyboards and mice that people have their hands on.</summary>
    public IReadOnlyList<int> Real => real;

    /// <returns>Null where the server has no such extension.</returns>
    public static async Task<XInput?> OpenAsync(XConnection connection)
    {
        if (await connection.FindAsync("XInputExtension").ConfigureAwait(false) is not { } extension)
        {
            return null;
        }
        await connection.AskAsync(new XRequest(extension, 47).U16(2).U16(2)).ConfigureAwait(false);
        var input = new XInput(connection, extension);
        await input.LookAsync().ConfigureAwait(false);
        return input;
    }

    /// <summary>Whether a program sent it, and no hand: the server gives what XTEST sends a device of its own.</summary>
    public bool IsSynthetic(int device) => synthetic.Contains(device);

    public void Select(uint window, params ReadOnlySpan<int> events)
    {
        var mask = 0u;
        foreach (var one in events)
        {
            mask |= 1u << one;
        }
        connection.Send(new XRequest(extension, 46).U32(window).U16(1).U16(0).U16(AllMasters).U16(1).U32(mask));
    }

    /// <summary>Takes the keyboards and mice that people have their hands on; what programs send goes on. They are given back when the connection ends, however it does.</summary>
    /// <returns>How many were taken.</returns>
    public async Task<int> TakeAwayAsync(uint window)
    {
        var taken = 0;
        foreach (var device in real)
        {
            var reply = await connection.AskAsync(new XRequest(extension, 51).U32(window).U32(0).U32(0).U16(device).U8(Async).U8(Async).U8(0).U8(0).U16(1).U32(1u << KeyPress)).ConfigureAwait(false);
            taken += reply[8] == 0 ? 1 : 0;
        }
        return taken;
    }

    private async Task LookAsync()
    {
        var reply = await connection.AskAsync(new XRequest(extension, 48).U16(0).U16(0)).ConfigureAwait(false);
        var at = 32;
        for (var i = 0; i < XReply.U16(reply, 8); i++)
        {
            var (id, use, classes, nameLength) = (XReply.U16(reply, at), XReply.U16(reply, at + 2), XReply.U16(reply, at + 6), XReply.U16(reply, at + 8));
            var name = Encoding.UTF8.GetString(reply, at + DeviceHead, nameLength);
            at += DeviceHead + ((nameLength + 3) & ~3);
            for (var c = 0; c < classes; c++)
            {
                at += 4 * XReply.U16(reply, at + 2);
            }
            if (name.Contains("XTEST", StringComparison.Ordinal))
            {
                synthetic.Add(id);
            }
            else if (use is SlavePointer or SlaveKeyboard)
            {
                real.Add(id);
            }
        }
    }
}
