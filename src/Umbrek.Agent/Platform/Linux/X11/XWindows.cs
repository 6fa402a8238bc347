using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>
/// What the windows of a screen show though something else is painted over them: each has its pixels to itself (COMPOSITE 0.4), and they are
/// laid over one another as they lie. Windows of a depth that is neither the screen's nor 32 are left out.
/// </summary>
internal sealed class XWindows
{
    private const uint EventMask = 0x800;
    private const uint SubstructureNotify = 0x80000;
    private const int Create = 16;
    private const int Map = 19;
    private const int Circulate = 26;
    private const byte InputOutput = 1;
    private const byte Viewable = 2;
    private const byte NonEmpty = 3;
    private const byte BlendedDepth = 32;

    private readonly XConnection connection;
    private readonly XExtension composite;
    private readonly XExtension damage;
    private readonly XExtension fixes;
    private readonly uint ground;
    private readonly uint cover;
    private readonly uint region;
    private readonly Lock gate = new();
    private readonly HashSet<uint> touched = [];
    private readonly HashSet<uint> mapped = [];
    private bool moved = true;

    /// <summary>From the lowest to the highest.</summary>
    private List<Top> tops = [];

    /// <param name="Outer">With its border, on the screen.</param>
    /// <param name="Shape">Parts of it that there are, on the screen; null is all of it.</param>
    private sealed record Top(uint Id, ScreenRect Outer, int Border, byte Depth, uint Pixmap, uint Damage, IReadOnlyList<ScreenRect>? Shape)
    {
        public bool IsBlended => Depth == BlendedDepth;

        public bool Covers(ScreenRect part) => !IsBlended && Shape is null && Outer.Intersect(part) == part;
    }

    private XWindows(XConnection connection, XExtension composite, XExtension damage, XExtension fixes, uint ground, uint cover)
    {
        (this.connection, this.composite, this.damage, this.fixes, this.ground, this.cover) = (connection, composite, damage, fixes, ground, cover);
        region = connection.NewId();
    }

    /// <param name="ground">The window that shows what is behind all others.</param>
    /// <param name="cover">The one that is painted over them.</param>
    /// <exception cref="XErrorException">The server says no.</exception>
    public static async Task<XWindows> OpenAsync(XConnection connection, XExtension composite, XExtension damage, XExtension fixes, uint ground, uint cover)
    {
        await connection.AskAsync(new XRequest(composite, 0).U32(0).U32(4)).ConfigureAwait(false);
        var windows = new XWindows(connection, composite, damage, fixes, ground, cover);
        await connection.CheckAsync(new XRequest(fixes, 5).U32(windows.region)).ConfigureAwait(false);
        await connection.CheckAsync(new XRequest(2).U32(connection.Setup.Root).U32(EventMask).U32(SubstructureNotify)).ConfigureAwait(false);
        return windows;
    }

    /// <returns>Whether it is news of a window.</returns>
    public bool Heard(byte[] message)
    {
        var code = message[0] & 0x7F;
        lock (gate)
        {
            if (code == damage.FirstEvent)
            {
                touched.Add(XReply.U32(message, 4));
                return true;
            }
            if (code is >= Create and <= Circulate && XReply.U32(message, 4) == connection.Setup.Root)
            {
                moved = true;
                if (code == Map)
                {
                    // Its pixels are other ones than those that it had before.
                    mapped.Add(XReply.U32(message, 8));
                }
                return true;
            }
            return false;
        }
    }

    /// <summary>Parts of the screen where something has changed since the last time.</summary>
    public async Task<List<ScreenRect>> ChangedAsync()
    {
        bool again;
        HashSet<uint> hit, anew;
        lock (gate)
        {
            (again, hit, anew) = (moved, [.. touched], [.. mapped]);
            moved = false;
            touched.Clear();
            mapped.Clear();
        }
        var parts = again ? await FindAsync(anew).ConfigureAwait(false) : [];
        foreach (var top in tops.Where(t => hit.Contains(t.Id)))
        {
            try
            {
                connection.Send(new XRequest(damage, 3).U32(top.Damage).U32(0).U32(region));
                parts.AddRange((await RegionAsync(region).ConfigureAwait(false)).Select(r => Moved(r, top.Outer, top.Border).Intersect(top.Outer)));
            }
            catch (XErrorException)
            {
                // It goes just now; its end is told.
            }
        }
        return parts;
    }

    /// <summary>Paints a part of the screen as the windows would show it.</summary>
    public async Task PaintAsync(XGrab grab, ScreenImage into, ScreenRect part)
    {
        var lowest = tops.FindLastIndex(t => t.Covers(part));
        if (lowest < 0)
        {
            into.Fill(part, 0);
        }
        foreach (var top in tops.Skip(Math.Max(0, lowest)))
        {
            foreach (var seen in top.Shape ?? [top.Outer])
            {
                var at = seen.Intersect(top.Outer).Intersect(part);
                if (!at.IsEmpty)
                {
                    await grab.TakeAsync(top.Pixmap, at.X - top.Outer.X, at.Y - top.Outer.Y, into, at, top.IsBlended).ConfigureAwait(false);
                }
            }
        }
    }

    /// <summary>Lets go of all that it holds at the server.</summary>
    public void Close()
    {
        tops.ForEach(Forget);
        connection.Send(new XRequest(fixes, 10).U32(region));
        connection.Send(new XRequest(2).U32(connection.Setup.Root).U32(EventMask).U32(0));
    }

    /// <summary>Learns which windows there are.</summary>
    /// <returns>Where that makes a difference.</returns>
    private async Task<List<ScreenRect>> FindAsync(HashSet<uint> anew)
    {
        var tree = await connection.AskAsync(new XRequest(15).U32(connection.Setup.Root)).ConfigureAwait(false);
        var ids = Enumerable.Range(0, XReply.U16(tree, 16)).Select(i => XReply.U32(tree, 32 + 4 * i)).Where(id => id != cover).OrderBy(id => id != ground).ToList();
        // All are asked before the first answer is waited for.
        var asked = ids.Select(id => (Id: id, How: connection.AskAsync(new XRequest(3).U32(id)), Where: connection.AskAsync(new XRequest(14).U32(id)))).ToList();
        var before = tops.ToDictionary(t => t.Id);
        var (now, parts) = (new List<Top>(), new List<ScreenRect>());
        foreach (var (id, how, where) in asked)
        {
            if (await SeenAsync(how, where).ConfigureAwait(false) is not { } seen)
            {
                continue;
            }
            if (before.TryGetValue(id, out var old) && !anew.Contains(id) && old.Depth == seen.Depth && old.Border == seen.Border && (old.Outer.Width, old.Outer.Height) == (seen.Outer.Width, seen.Outer.Height))
            {
                before.Remove(id);
                if (old.Outer != seen.Outer)
                {
                    parts.AddRange([old.Outer, seen.Outer]);
                    old = old with { Outer = seen.Outer, Shape = await ShapeAsync(id, seen.Outer, seen.Border).ConfigureAwait(false) };
                }
                now.Add(old);
            }
            else if (await HoldAsync(id, seen.Outer, seen.Border, seen.Depth).ConfigureAwait(false) is { } top)
            {
                now.Add(top);
                parts.Add(top.Outer);
            }
        }
        foreach (var gone in before.Values)
        {
            parts.Add(gone.Outer);
            Forget(gone);
        }
        parts.AddRange(Reordered(tops, now));
        tops = now;
        return parts;
    }

    /// <summary>Windows that lie over or under others than before.</summary>
    private static IEnumerable<ScreenRect> Reordered(List<Top> before, List<Top> now)
    {
        var both = now.Select(t => t.Id).Intersect(before.Select(t => t.Id)).ToHashSet();
        var (old, same) = (before.Where(t => both.Contains(t.Id)).ToList(), now.Where(t => both.Contains(t.Id)).ToList());
        for (var i = 0; i < same.Count; i++)
        {
            if (old[i].Id != same[i].Id)
            {
                yield return old[i].Outer;
                yield return same[i].Outer;
            }
        }
    }

    private static async Task<(ScreenRect Outer, int Border, byte Depth)?> SeenAsync(Task<byte[]> how, Task<byte[]> where)
    {
        try
        {
            await Task.WhenAll(how, where).ConfigureAwait(false);
        }
        catch (XErrorException)
        {
            // It has gone since.
            return null;
        }
        var (attributes, geometry) = (await how.ConfigureAwait(false), await where.ConfigureAwait(false));
        var border = XReply.U16(geometry, 20);
        return XReply.U16(attributes, 12) == InputOutput && attributes[26] == Viewable
            ? (new ScreenRect(XReply.S16(geometry, 12), XReply.S16(geometry, 14), XReply.U16(geometry, 16) + 2 * border, XReply.U16(geometry, 18) + 2 * border), border, geometry[1])
            : null;
    }

    /// <returns>Null where it can't be shown, or has gone.</returns>
    private async Task<Top?> HoldAsync(uint id, ScreenRect outer, int border, byte depth)
    {
        var visual = connection.Setup.Visual;
        if (depth != visual.Depth && !(depth == BlendedDepth && visual.BitsPerPixel == BlendedDepth))
        {
            return null;
        }
        var top = new Top(id, outer, border, depth, connection.NewId(), connection.NewId(), null);
        try
        {
            await connection.CheckAsync(new XRequest(composite, 6).U32(id).U32(top.Pixmap)).ConfigureAwait(false);
            await connection.CheckAsync(new XRequest(damage, 1).U32(top.Damage).U32(id).U8(NonEmpty).Skip(3)).ConfigureAwait(false);
            return top with { Shape = await ShapeAsync(id, outer, border).ConfigureAwait(false) };
        }
        catch (XErrorException)
        {
            Forget(top);
            return null;
        }
    }

    private void Forget(Top top)
    {
        connection.Send(new XRequest(54).U32(top.Pixmap));
        connection.Send(new XRequest(damage, 2).U32(top.Damage));
    }

    /// <summary>Its bounding region (SHAPE), by way of XFIXES.</summary>
    private async Task<IReadOnlyList<ScreenRect>?> ShapeAsync(uint id, ScreenRect outer, int border)
    {
        var shape = connection.NewId();
        try
        {
            connection.Send(new XRequest(fixes, 7).U32(shape).U32(id).U8(0).Skip(3));
            var parts = (await RegionAsync(shape).ConfigureAwait(false)).Select(r => Moved(r, outer, border)).ToList();
            return parts is [var only] && only.Intersect(outer) == outer ? null : parts;
        }
        catch (XErrorException)
        {
            return null;
        }
        finally
        {
            connection.Send(new XRequest(fixes, 10).U32(shape));
        }
    }

    private async Task<List<ScreenRect>> RegionAsync(uint of)
    {
        var reply = await connection.AskAsync(new XRequest(fixes, 19).U32(of)).ConfigureAwait(false);
        return [.. Enumerable.Range(0, (reply.Length - 32) / 8).Select(i => 32 + 8 * i).Select(at => new ScreenRect(XReply.S16(reply, at), XReply.S16(reply, at + 2), XReply.U16(reply, at + 4), XReply.U16(reply, at + 6)))];
    }

    /// <summary>From a window's own coordinates, which begin inside its border, to the screen's.</summary>
    private static ScreenRect Moved(ScreenRect part, ScreenRect outer, int border) => part with { X = part.X + outer.X + border, Y = part.Y + outer.Y + border };
}
