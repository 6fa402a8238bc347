namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>Gives a screen another size by RANDR 1.2: one that its monitor has, or any where there is no monitor.</summary>
internal static class XSizes
{
    /// <summary>As ExtendedDesktopSize says it.</summary>
    public const int Done = 0;
    public const int NotPossible = 2;
    public const int NoSuchSize = 3;

    private const int ModeLength = 32;

    private readonly record struct Crtc(uint Id, uint Mode, int X, int Y, int Rotation, IReadOnlyList<uint> Outputs);

    /// <exception cref="XErrorException">The server says no.</exception>
    public static async Task<int> SetAsync(XConnection connection, XExtension randr, int width, int height)
    {
        // What the server speaks to one is what one has said to speak.
        await connection.AskAsync(new XRequest(randr, 0).U32(1).U32(5)).ConfigureAwait(false);
        var root = connection.Setup.Root;
        var range = await connection.AskAsync(new XRequest(randr, 6).U32(root)).ConfigureAwait(false);
        if (width < XReply.U16(range, 8) || height < XReply.U16(range, 10) || width > XReply.U16(range, 12) || height > XReply.U16(range, 14))
        {
            return NoSuchSize;
        }
        var resources = await connection.AskAsync(new XRequest(randr, 25).U32(root)).ConfigureAwait(false);
        var (at, crtcs, outputs, modes) = (XReply.U32(resources, 12), XReply.U16(resources, 16), XReply.U16(resources, 18), XReply.U16(resources, 20));
        var active = new List<Crtc>();
        for (var i = 0; i < crtcs; i++)
        {
            if (await FindAsync(connection, randr, XReply.U32(resources, 32 + 4 * i), at).ConfigureAwait(false) is { Mode: not 0 } crtc)
            {
                active.Add(crtc);
            }
        }
        if (active is not [{ Outputs: [var output, ..] } only])
        {
            // Where monitors lie beside each other, one size does not say which of them is meant.
            return NotPossible;
        }
        var mode = 0u;
        for (var i = 0; i < modes && mode == 0; i++)
        {
            var entry = 32 + 4 * (crtcs + outputs) + ModeLength * i;
            mode = XReply.U16(resources, entry + 4) == width && XReply.U16(resources, entry + 6) == height ? XReply.U32(resources, entry) : 0;
        }
        var (has, isVirtual) = await LookAsync(connection, randr, output, at).ConfigureAwait(false);
        if (!has.Contains(mode))
        {
            if (!isVirtual)
            {
                return NoSuchSize;
            }
            mode = mode != 0 ? mode : await MakeAsync(connection, randr, width, height).ConfigureAwait(false);
            await connection.CheckAsync(new XRequest(randr, 18).U32(output).U32(mode)).ConfigureAwait(false);
        }
        return await SwitchAsync(connection, randr, only, mode, width, height, at).ConfigureAwait(false);
    }

    private static async Task<Crtc> FindAsync(XConnection connection, XExtension randr, uint id, uint at)
    {
        var reply = await connection.AskAsync(new XRequest(randr, 20).U32(id).U32(at)).ConfigureAwait(false);
        return new Crtc(id, XReply.U32(reply, 20), XReply.S16(reply, 12), XReply.S16(reply, 14), XReply.U16(reply, 24), [.. Enumerable.Range(0, XReply.U16(reply, 28)).Select(i => XReply.U32(reply, 32 + 4 * i))]);
    }

    /// <summary>Sizes that an output has, and whether there is no monitor at it: one says how many millimetres it is wide.</summary>
    private static async Task<(HashSet<uint> Modes, bool IsVirtual)> LookAsync(XConnection connection, XExtension randr, uint output, uint at)
    {
        var reply = await connection.AskAsync(new XRequest(randr, 9).U32(output).U32(at)).ConfigureAwait(false);
        var (crtcs, modes) = (XReply.U16(reply, 26), XReply.U16(reply, 28));
        return ([.. Enumerable.Range(0, modes).Select(i => XReply.U32(reply, 36 + 4 * (crtcs + i)))], XReply.U32(reply, 16) == 0);
    }

    /// <summary>A size for no monitor: its times mean nothing, but have to be there.</summary>
    private static async Task<uint> MakeAsync(XConnection connection, XExtension randr, int width, int height)
    {
        var name = $"{width}x{height}-umbrek";
        var (across, down) = (width + 100, height + 20);
        var reply = await connection.AskAsync(
            new XRequest(randr, 16).U32(connection.Setup.Root)
                .U32(0).U16(width).U16(height).U32((uint)(across * down * 60)).U16(width + 10).U16(width + 20).U16(across).U16(0).U16(height + 2).U16(height + 4).U16(down).U16(name.Length).U32(0).Text(name)).ConfigureAwait(false);
        return XReply.U32(reply, 8);
    }

    private static async Task<int> SwitchAsync(XConnection connection, XExtension randr, Crtc crtc, uint mode, int width, int height, uint at)
    {
        var geometry = await connection.AskAsync(new XRequest(14).U32(connection.Setup.Root)).ConfigureAwait(false);
        var (oldWidth, oldHeight) = (XReply.U16(geometry, 16), XReply.U16(geometry, 18));
        // A screen may not be smaller than what lies in it, so that is taken out meanwhile; nobody sees a state between.
        connection.Send(new XRequest(36));
        try
        {
            await ConfigureAsync(connection, randr, crtc with { Outputs = [] }, 0, at).ConfigureAwait(false);
            try
            {
                await connection.CheckAsync(Size(width, height)).ConfigureAwait(false);
                if (await ConfigureAsync(connection, randr, crtc with { X = 0, Y = 0 }, mode, at).ConfigureAwait(false))
                {
                    return Done;
                }
            }
            catch (XErrorException)
            {
                // Back to how it was.
            }
            connection.Send(Size(oldWidth, oldHeight));
            await ConfigureAsync(connection, randr, crtc, crtc.Mode, at).ConfigureAwait(false);
            return NotPossible;
        }
        finally
        {
            connection.Send(new XRequest(37));
        }

        // At 96 points an inch.
        XRequest Size(int w, int h) => new XRequest(randr, 7).U32(connection.Setup.Root).U16(w).U16(h).U32((uint)(w * 254 / 960)).U32((uint)(h * 254 / 960));
    }

    private static async Task<bool> ConfigureAsync(XConnection connection, XExtension randr, Crtc crtc, uint mode, uint at)
    {
        var request = new XRequest(randr, 21).U32(crtc.Id).U32(0).U32(at).U16(crtc.X).U16(crtc.Y).U32(mode).U16(crtc.Rotation).U16(0);
        foreach (var output in crtc.Outputs)
        {
            request.U32(output);
        }
        return (await connection.AskAsync(request).ConfigureAwait(false))[1] == 0;
    }
}
