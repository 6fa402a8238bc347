using System.Buffers.Binary;

namespace Umbrek.Core.Desktop;

/// <summary>
/// Lets a viewer's words (RFC 6143, 7.5) through, and what he does only as long as he may act: keys, the mouse, texts for the clipboard
/// and other sizes are left out otherwise. What he holds pressed when he may no longer is let go.
/// </summary>
public sealed class ViewerFilter
{
    private readonly List<(uint Sym, uint Code)> pressed = [];
    private byte[] held = new byte[256];
    private int end;
    private int greeting = 12;
    private bool knowsVersion;
    private (int X, int Y, byte Buttons) mouse;

    public bool MayAct { get; set; } = true;

    /// <summary>Both sides have agreed how to speak, and no word of the viewer is cut in the middle: another word can come in between.</summary>
    public bool IsAsking => greeting == 0 && end == 0;

    /// <summary>When something was done that went through.</summary>
    public event Action? Acted;

    /// <summary>Another screen is shown, and both sides begin anew.</summary>
    public void Begin()
    {
        (end, greeting, knowsVersion, mouse) = (0, 12, false, default);
        pressed.Clear();
    }

    /// <param name="through">Gets what goes on, good until it returns.</param>
    /// <exception cref="RfbException">It is no word of a viewer.</exception>
    public async Task PassAsync(ReadOnlyMemory<byte> bytes, Func<ReadOnlyMemory<byte>, Task> through)
    {
        if (held.Length < end + bytes.Length)
        {
            Array.Resize(ref held, Math.Max(2 * held.Length, end + bytes.Length));
        }
        bytes.CopyTo(held.AsMemory(end));
        end += bytes.Length;
        var (used, from) = (Greet(), 0);
        while (greeting == 0 && RfbClientReader.Read(held.AsSpan(used, end - used), out var length) is { } message)
        {
            if (Goes(message))
            {
                used += length;
                continue;
            }
            await GoAsync(from, used, through).ConfigureAwait(false);
            used += length;
            from = used;
        }
        await GoAsync(from, used, through).ConfigureAwait(false);
        held.AsSpan(used, end - used).CopyTo(held);
        end -= used;
    }

    /// <summary>What lets go of all that is pressed.</summary>
    public byte[] LetGo()
    {
        var words = new List<byte>();
        foreach (var (sym, code) in pressed)
        {
            var word = new byte[code == 0 ? 8 : 12];
            if (code == 0)
            {
                word[0] = RfbMessage.Key;
                BinaryPrimitives.WriteUInt32BigEndian(word.AsSpan(4), sym);
            }
            else
            {
                word[0] = RfbMessage.Qemu;
                BinaryPrimitives.WriteUInt32BigEndian(word.AsSpan(4), sym);
                BinaryPrimitives.WriteUInt32BigEndian(word.AsSpan(8), code);
            }
            words.AddRange(word);
        }
        pressed.Clear();
        if (mouse.Buttons != 0)
        {
            var word = new byte[6];
            word[0] = RfbMessage.Mouse;
            BinaryPrimitives.WriteUInt16BigEndian(word.AsSpan(2), (ushort)mouse.X);
            BinaryPrimitives.WriteUInt16BigEndian(word.AsSpan(4), (ushort)mouse.Y);
            words.AddRange(word);
            mouse.Buttons = 0;
        }
        return [.. words];
    }

    private Task GoAsync(int from, int to, Func<ReadOnlyMemory<byte>, Task> through) => to > from ? through(held.AsMemory(from, to - from)) : Task.CompletedTask;

    /// <summary>The version, the kind of security, and whether the screen is shared (7.1.1, 7.1.2 and 7.3.1); version 3.3 chooses no kind.</summary>
    private int Greet()
    {
        var used = 0;
        while (greeting > 0 && end > used)
        {
            if (!knowsVersion)
            {
                if (end < 12)
                {
                    return 0;
                }
                (knowsVersion, greeting, used) = (true, held[10] == (byte)'3' ? 1 : 2, 12);
                continue;
            }
            used++;
            greeting--;
        }
        return used;
    }

    private bool Goes(RfbClientMessage message)
    {
        switch (message)
        {
            case RfbClientMessage.Key key:
                pressed.Remove((key.KeySym, key.KeyCode));
                if (MayAct && key.Down)
                {
                    pressed.Add((key.KeySym, key.KeyCode));
                }
                break;
            case RfbClientMessage.Mouse moved when MayAct:
                mouse = (moved.X, moved.Y, moved.Buttons);
                break;
            case RfbClientMessage.Mouse or RfbClientMessage.CutText or RfbClientMessage.Resize or RfbClientMessage.Clipboard { Message.Act: ClipboardAct.Provide }:
                break;
            default:
                return true;
        }
        if (MayAct)
        {
            Acted?.Invoke();
        }
        return MayAct;
    }
}
