namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>
/// Types on a screen by XTEST. Characters are found on the keyboard that the server has, with Shift or the third level where they lie
/// there; one that is on no key gets a key of its own for the time.
/// </summary>
public sealed class XKeyboard(XConnection connection, XExtension test)
{
    private const uint ShiftSym = 0xFFE1;
    private const uint ShiftRightSym = 0xFFE2;
    private const uint ThirdLevelSym = 0xFE03;
    private const byte Press = 2;
    private const byte Release = 3;

    private readonly Lock gate = new();
    private Dictionary<uint, (byte Code, int Level)> keys = [];
    private List<byte> spare = [];
    private readonly Dictionary<uint, byte> pressed = [];
    private readonly Dictionary<uint, byte> lent = [];
    private int lentNext;
    private int width;

    /// <summary>Learns what lies on which key.</summary>
    public async Task LoadAsync()
    {
        var (first, last) = (connection.Setup.MinKeyCode, connection.Setup.MaxKeyCode);
        var reply = await connection.AskAsync(new XRequest(101).U8(first).U8((byte)(last - first + 1)).U16(0)).ConfigureAwait(false);
        lock (gate)
        {
            Learn(reply, first, last);
        }
    }

    public void Key(bool down, uint sym, uint physical)
    {
        lock (gate)
        {
            Act(down, sym, physical);
        }
    }

    /// <summary>Lets go of all that is held.</summary>
    public void LetGo()
    {
        lock (gate)
        {
            foreach (var code in pressed.Values)
            {
                Fake(Release, code);
            }
            pressed.Clear();
        }
    }

    /// <summary>Keys that were lent a character are empty again.</summary>
    public void GiveBack()
    {
        lock (gate)
        {
            foreach (var code in lent.Values)
            {
                Bind(code, 0);
            }
            lent.Clear();
        }
    }

    private void Learn(byte[] reply, byte first, byte last)
    {
        width = reply[1];
        (keys, spare) = ([], []);
        for (var code = (int)first; code <= last; code++)
        {
            var isEmpty = true;
            // What we have put on a key is not the keyboard's own.
            for (var column = 0; column < width && !lent.ContainsValue((byte)code); column++)
            {
                var sym = XReply.U32(reply, 32 + 4 * ((code - first) * width + column));
                isEmpty &= sym == 0;
                // Columns 0 and 1 are the first group, 4 and 5 its third and fourth level; 2 and 3 are another group, which may not be on.
                if (sym != 0 && Level(column) is { } level && (!keys.TryGetValue(sym, out var known) || known.Level > level))
                {
                    keys[sym] = ((byte)code, level);
                }
            }
            if (isEmpty)
            {
                spare.Add((byte)code);
            }
        }
        // The last ones are the least likely to mean something to a program that knows keys by their numbers.
        spare.Reverse();
    }

    private void Act(bool down, uint sym, uint physical)
    {
        if (!down)
        {
            Up(sym, physical);
            return;
        }
        if (physical != 0 && XtKeys.ToX(physical) is { } code)
        {
            Fake(Press, code);
            pressed[Id(sym, physical)] = code;
            return;
        }
        if (Find(sym) is not { } found)
        {
            return;
        }
        var shifted = IsDown(ShiftSym) || IsDown(ShiftRightSym);
        var wantsShift = (found.Level & 1) == 1;
        var wantsThird = found.Level >= 2 && !IsDown(ThirdLevelSym);
        // What the viewer holds is what makes the character on his keyboard; here it may take something else.
        var turn = shifted != wantsShift && !IsModifier(sym) ? Shifts(shifted) : [];
        turn.ForEach(s => Fake(shifted ? Release : Press, s));
        var third = wantsThird && keys.TryGetValue(ThirdLevelSym, out var key) ? key.Code : (byte?)null;
        if (third is { } level)
        {
            Fake(Press, level);
        }
        Fake(Press, found.Code);
        pressed[Id(sym, 0)] = found.Code;
        if (third is { } lift)
        {
            Fake(Release, lift);
        }
        turn.ForEach(s => Fake(shifted ? Press : Release, s));
    }

    private void Up(uint sym, uint physical)
    {
        if (pressed.Remove(Id(sym, physical), out var code) || (physical != 0 && pressed.Remove(Id(sym, 0), out code)))
        {
            Fake(Release, code);
        }
        else if (keys.TryGetValue(sym, out var key) && pressed.ContainsValue(key.Code))
        {
            // Shift was let go of first, so the viewer has another name for the same key.
            foreach (var held in pressed.Where(p => p.Value == key.Code).ToList())
            {
                pressed.Remove(held.Key);
            }
            Fake(Release, key.Code);
        }
    }

    /// <summary>A key that is held is known by its place where that is known: with another modifier the character may have changed meanwhile.</summary>
    private static uint Id(uint sym, uint physical) => physical != 0 ? 0x80000000 | physical : sym;

    private bool IsDown(uint sym) => pressed.ContainsKey(sym);

    private List<byte> Shifts(bool held) =>
        held ? [.. new[] { ShiftSym, ShiftRightSym }.Where(IsDown).Select(s => pressed[s])]
        : keys.TryGetValue(ShiftSym, out var shift) ? [shift.Code] : [];

    private static bool IsModifier(uint sym) => sym is >= 0xFFE1 and <= 0xFFEE or 0xFE03 or 0xFF7E or 0xFF7F;

    private (byte Code, int Level)? Find(uint sym)
    {
        if (keys.TryGetValue(sym, out var found) || (XtKeys.OlderName(sym) is { } older && keys.TryGetValue(older, out found)))
        {
            return found;
        }
        if (lent.TryGetValue(sym, out var code))
        {
            return (code, 0);
        }
        if (spare.Count == 0)
        {
            return null;
        }
        code = spare[lentNext++ % spare.Count];
        foreach (var (was, _) in lent.Where(l => l.Value == code).ToList())
        {
            lent.Remove(was);
        }
        Bind(code, sym);
        lent[sym] = code;
        return (code, 0);
    }

    private void Bind(byte code, uint sym)
    {
        // The same on both levels, so that Shift changes nothing.
        var request = new XRequest(100, 1).U8(code).U8((byte)Math.Max(2, width)).U16(0);
        for (var i = 0; i < Math.Max(2, width); i++)
        {
            request.U32(sym);
        }
        connection.Send(request);
    }

    private void Fake(byte kind, byte code) => connection.Send(XTest.Fake(test, kind, code));

    private static int? Level(int column) => column switch { 0 => 0, 1 => 1, 4 => 2, 5 => 3, _ => null };
}

/// <summary>XTEST 2.2: what a person would have done.</summary>
internal static class XTest
{
    public const byte ButtonPress = 4;
    public const byte ButtonRelease = 5;
    public const byte Motion = 6;

    public static XRequest Fake(XExtension test, byte kind, byte detail, int x = 0, int y = 0) =>
        new XRequest(test, 2).U8(kind).U8(detail).U16(0).U32(0).U32(0).Skip(8).U16(x).U16(y).Skip(8);
}

/// <summary>Numbers and names of keys.</summary>
internal static class XtKeys
{
    /// <summary>X counts the keys of a Linux keyboard from 8 on.</summary>
    private const int First = 8;

    /// <summary>Keys that an XT keyboard has with the prefix E0, by their number there, and as Linux numbers them (input-event-codes.h).</summary>
    private static readonly Dictionary<uint, byte> Extended = new()
    {
        [0x1C] = 96,
        [0x1D] = 97,
        [0x35] = 98,
        [0x37] = 99,
        [0x38] = 100,
        [0x47] = 102,
        [0x48] = 103,
        [0x49] = 104,
        [0x4B] = 105,
        [0x4D] = 106,
        [0x4F] = 107,
        [0x50] = 108,
        [0x51] = 109,
        [0x52] = 110,
        [0x53] = 111,
        [0x5B] = 125,
        [0x5C] = 126,
        [0x5D] = 127,
        [0x20] = 113,
        [0x2E] = 114,
        [0x30] = 115,
        [0x10] = 165,
        [0x19] = 163,
        [0x22] = 164,
        [0x24] = 166,
        [0x32] = 172,
        [0x21] = 140,
        [0x6C] = 155,
        [0x5E] = 116,
        [0x5F] = 142,
        [0x63] = 143,
        [0x46] = 119,
    };

    /// <param name="physical">Number of the key on an XT keyboard, 0x80 or 0xE000 more for those with a prefix.</param>
    /// <returns>Null for one that is not known.</returns>
    public static byte? ToX(uint physical)
    {
        if (physical > 0xFF)
        {
            return physical >> 8 == 0xE0 ? ToX(0x80 | physical & 0x7F) : null;
        }
        if (physical >= 0x80)
        {
            return Extended.TryGetValue(physical & 0x7F, out var code) ? (byte)(code + First) : null;
        }
        return physical is > 0 and <= 0x58 or 0x70 or 0x73 or 0x79 or 0x7B or 0x7D
            ? (byte)(First + physical switch { 0x70 => 93u, 0x73 => 89u, 0x79 => 92u, 0x7B => 94u, 0x7D => 124u, var same => same })
            : null;
    }

    /// <summary>What keyboards of old call a character that viewers name by its Unicode number.</summary>
    public static uint? OlderName(uint sym) => sym switch
    {
        0x010020AC => 0x20AC,
        >= 0x01000020 and <= 0x010000FF => sym & 0xFF,
        _ => null,
    };
}
