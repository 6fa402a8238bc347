namespace Umbrek.Core.Desktop;

/// <summary>
/// Makes a recording of a screen out of what its viewer and its host say to each other. Of the host's words the pictures stay; of the
/// viewer's, where his pointer is, and that something is typed, or what, as it is wished. Texts of clipboards never do.
/// </summary>
/// <param name="keys">What is typed is recorded as well.</param>
/// <param name="write">Gets what is to be written, good until it returns.</param>
public sealed class TapeScribe(bool keys, Action<ReadOnlyMemory<byte>> write)
{
    /// <summary>Where the pointer goes is written no more often, but always where it is pressed.</summary>
    private static readonly TimeSpan MouseEvery = TimeSpan.FromMilliseconds(40);

    /// <summary>Who pauses longer than this begins to type anew.</summary>
    private static readonly TimeSpan TypingPause = TimeSpan.FromSeconds(3);

    private static readonly byte[] Greeting = "RFB 003.008\n\u0001\u0001\0\0\0\0"u8.ToArray();

    private readonly TapeWriter writer = new();
    private readonly List<Range> pictures = [];
    private byte[] viewerHeld = new byte[256];
    private int viewerEnd;
    private int? minor;
    private int greetings;

    /// <summary>The host's version comes before the viewer's: so many bytes, which say nothing else.</summary>
    private int early;
    private RfbWalk? walk;
    private bool hasBegun;
    private bool isDeaf;
    private (TimeSpan At, int X, int Y, byte Buttons)? mouse;
    private TimeSpan? typedAt;

    public void Begin(TapeHeader header) => write(writer.Header(header));

    /// <summary>A screen is shown, and both sides begin anew.</summary>
    public void Opened(TimeSpan at, string screen, string? person, bool control)
    {
        (viewerEnd, minor, greetings, early, walk, hasBegun, isDeaf, mouse) = (0, null, 0, 0, null, false, false, null);
        write(writer.Entry(at, TapeKinds.Opened, json =>
        {
            json.WriteString("screen", screen);
            if (person is not null)
            {
                json.WriteString("person", person);
            }
            json.WriteBoolean("control", control);
        }));
    }

    public void Gone(TimeSpan at, string why) => write(writer.Entry(at, TapeKinds.Gone, json => json.WriteString("why", why)));

    public void InputTaken(TimeSpan at, bool taken) => write(writer.Entry(at, TapeKinds.Input, json => json.WriteBoolean("taken", taken)));

    public void SecretTyped(TimeSpan at, string name) => write(writer.Entry(at, TapeKinds.Secret, json => json.WriteString("name", name)));

    public void Mark(TimeSpan at, string text) => write(writer.Entry(at, TapeKinds.Mark, json => json.WriteString("text", text)));

    /// <exception cref="RfbException">It is no RFB, so that it can't be recorded.</exception>
    public void HostSays(TimeSpan at, ReadOnlySpan<byte> bytes)
    {
        // The first twelve bytes say the host's version, and the viewer's answer to them how it goes on.
        walk ??= minor is { } known ? new RfbWalk(known) : null;
        if (walk is null)
        {
            early += bytes.Length;
            return;
        }
        if (early > 0)
        {
            walk.Walk(new byte[early], pictures);
            early = 0;
        }
        var clipboard = walk.ClipboardBytes;
        pictures.Clear();
        walk.Walk(bytes, pictures);
        if (!hasBegun && walk.HasBegun)
        {
            hasBegun = true;
            var init = new RfbWriter();
            init.ServerInit(walk.Width, walk.Height, walk.Name);
            write(writer.Rfb(at, [.. Greeting, .. init.Written.Span]));
        }
        foreach (var part in pictures)
        {
            write(writer.Rfb(at, bytes[part]));
        }
        if (walk.ClipboardBytes > clipboard)
        {
            Clipboard(at, "host", walk.ClipboardBytes - clipboard);
        }
    }

    /// <exception cref="RfbException">The viewer asks for pixels that can't be recorded.</exception>
    public void ViewerSays(TimeSpan at, ReadOnlySpan<byte> bytes)
    {
        if (isDeaf)
        {
            return;
        }
        if (viewerHeld.Length < viewerEnd + bytes.Length)
        {
            Array.Resize(ref viewerHeld, Math.Max(2 * viewerHeld.Length, viewerEnd + bytes.Length));
        }
        bytes.CopyTo(viewerHeld.AsSpan(viewerEnd));
        viewerEnd += bytes.Length;
        var said = viewerHeld.AsSpan(0, viewerEnd);
        var used = Greet(said);
        if (minor is not null && greetings == 0)
        {
            while (Next(said[used..], out var length) is { } message)
            {
                used += length;
                Heed(at, message);
            }
        }
        said[used..].CopyTo(said);
        viewerEnd -= used;
    }

    private RfbClientMessage? Next(ReadOnlySpan<byte> said, out int length)
    {
        try
        {
            return RfbClientReader.Read(said, out length);
        }
        catch (RfbException)
        {
            // The host says so, and ends it.
            isDeaf = true;
            length = 0;
            return null;
        }
    }

    /// <summary>The viewer's version, the kind of security that it takes, and whether it shares the screen (RFC 6143, 7.1 to 7.3.1).</summary>
    private int Greet(ReadOnlySpan<byte> said)
    {
        var used = 0;
        if (minor is null)
        {
            if (said.Length < 12)
            {
                return 0;
            }
            minor = said[10] switch { (byte)'3' => 3, (byte)'7' => 7, _ => 8 };
            greetings = minor == 3 ? 1 : 2;
            used = 12;
        }
        var more = Math.Min(greetings, said.Length - used);
        greetings -= more;
        return used + more;
    }

    private void Heed(TimeSpan at, RfbClientMessage message)
    {
        switch (message)
        {
            case RfbClientMessage.Format { Wanted.IsUsual: false }:
                throw new RfbException("This screen is recorded, and the viewer asks for pixels of another kind. Set it to true colours of 32 bits.");
            case RfbClientMessage.Mouse moved:
                Mouse(at, moved);
                break;
            case RfbClientMessage.Key key when keys:
                write(writer.Entry(at, TapeKinds.Key, json =>
                {
                    json.WriteBoolean("down", key.Down);
                    json.WriteNumber("sym", key.KeySym);
                }));
                break;
            case RfbClientMessage.Key { Down: true }:
                if (typedAt is not { } before || at - before > TypingPause)
                {
                    write(writer.Entry(at, TapeKinds.Typing));
                }
                typedAt = at;
                break;
            case RfbClientMessage.CutText cut:
                Clipboard(at, "viewer", cut.Text.Length);
                break;
            case RfbClientMessage.Clipboard { Message: { Act: ClipboardAct.Provide, Text: { } text } }:
                Clipboard(at, "viewer", System.Text.Encoding.UTF8.GetByteCount(text));
                break;
        }
    }

    private void Mouse(TimeSpan at, RfbClientMessage.Mouse moved)
    {
        if (mouse is { } last && (last.Buttons == moved.Buttons && at - last.At < MouseEvery || (last.X, last.Y, last.Buttons) == (moved.X, moved.Y, moved.Buttons)))
        {
            return;
        }
        mouse = (at, moved.X, moved.Y, moved.Buttons);
        write(writer.Entry(at, TapeKinds.Mouse, json =>
        {
            json.WriteNumber("x", moved.X);
            json.WriteNumber("y", moved.Y);
            json.WriteNumber("buttons", moved.Buttons);
        }));
    }

    private void Clipboard(TimeSpan at, string from, long bytes) => write(writer.Entry(at, TapeKinds.Clipboard, json =>
    {
        json.WriteString("from", from);
        json.WriteNumber("bytes", bytes);
    }));
}
