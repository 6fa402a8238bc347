using System.Threading.Channels;
using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>
/// Hides a screen from whoever sits before it. The server is told to paint no window by itself (COMPOSITE, manual redirection), and what it
/// shows instead lies in the overlay window, above all; pointer and keys go through to the windows as before. Who looks on from afar reads
/// the windows' own pixels (<see cref="XWindows"/>), knowing by a selection that there is a cover. All of it ends with the connection, so
/// nothing stays hidden when its process dies. It is privacy, not security: another program at the host can do the same reading.
/// </summary>
public sealed class ScreenCover : IAsyncDisposable
{
    /// <summary>The selection that whoever covers the screen owns, and the property of its owner that names the overlay window.</summary>
    public const string Name = "_UMBREK_COVER";

    private const uint BackPixmap = 0x1;
    private const uint BackPixel = 0x2;
    private const uint OverrideRedirect = 0x200;
    private const uint EventMask = 0x800;
    private const uint Exposure = 0x8000;
    private const uint Structure = 0x20000;
    private const uint WindowType = 33;
    private const byte Manual = 1;
    private const byte InputShape = 2;
    private const byte Access = 10;
    private const int Expose = 12;
    private const int Configure = 22;

    private readonly XConnection connection;
    private readonly PlacardFace face;
    private readonly Channel<byte[]> events = Channel.CreateBounded<byte[]>(new BoundedChannelOptions(256) { FullMode = BoundedChannelFullMode.DropOldest });
    private readonly uint cover;
    private readonly uint context;
    private uint ground;
    private uint name;
    private uint overlay;

    private ScreenCover(XConnection connection, Placard placard)
    {
        this.connection = connection;
        face = new PlacardFace(placard, connection.Setup.Width);
        (cover, context) = (connection.NewId(), connection.NewId());
        connection.Event = e => events.Writer.TryWrite(e);
    }

    /// <exception cref="IOException">The server does not let one in, or can't hide its screen.</exception>
    public static async Task<ScreenCover> OpenAsync(string socket, byte[]? cookie, Placard placard, CancellationToken cancel)
    {
        var connection = await XConnection.OpenAsync(socket, cookie, cancel).ConfigureAwait(false);
        try
        {
            XPixels.Check(connection.Setup.Visual);
            var shown = new ScreenCover(connection, placard);
            await shown.BeginAsync().ConfigureAwait(false);
            return shown;
        }
        catch (Exception e)
        {
            await connection.DisposeAsync().ConfigureAwait(false);
            throw e is NotSupportedException or XErrorException ? new IOException(e.Message, e) : e;
        }
    }

    /// <summary>Keeps it over the screen, until it is cancelled.</summary>
    /// <exception cref="IOException">The screen has gone, or can't be hidden any more.</exception>
    public async Task HoldAsync(CancellationToken cancel)
    {
        try
        {
            await HeedAsync(cancel).ConfigureAwait(false);
        }
        catch (XErrorException e)
        {
            throw new IOException(e.Message, e);
        }
    }

    public ValueTask DisposeAsync() => connection.DisposeAsync();

    private async Task HeedAsync(CancellationToken cancel)
    {
        while (true)
        {
            await Task.WhenAny(events.Reader.WaitToReadAsync(cancel).AsTask(), connection.Gone).ConfigureAwait(false);
            if (connection.Gone.IsCompleted)
            {
                throw new IOException("The screen has gone.");
            }
            cancel.ThrowIfCancellationRequested();
            while (events.Reader.TryRead(out var message))
            {
                switch (message[0] & 0x7F)
                {
                    case Configure when XReply.U32(message, 8) == connection.Setup.Root:
                        await FitAsync(XReply.U16(message, 20), XReply.U16(message, 22)).ConfigureAwait(false);
                        break;
                    case Expose when XReply.U32(message, 4) == cover:
                        await DrawAsync().ConfigureAwait(false);
                        break;
                    default:
                        break;
                }
            }
        }
    }

    private async Task BeginAsync()
    {
        const string needs = "The X server of this host lacks {0}, without which its screen can't be hidden.";
        var composite = await connection.FindAsync("Composite").ConfigureAwait(false) ?? throw new NotSupportedException(string.Format(null, needs, "COMPOSITE"));
        var fixes = await connection.FindAsync("XFIXES").ConfigureAwait(false) ?? throw new NotSupportedException(string.Format(null, needs, "XFIXES"));
        await connection.AskAsync(new XRequest(composite, 0).U32(0).U32(4)).ConfigureAwait(false);
        await connection.AskAsync(new XRequest(fixes, 0).U32(5).U32(0)).ConfigureAwait(false);
        var setup = connection.Setup;
        name = await connection.AtomAsync(Name).ConfigureAwait(false);
        if (XReply.U32(await connection.AskAsync(new XRequest(23).U32(name)).ConfigureAwait(false), 8) != 0)
        {
            throw new NotSupportedException("The screen is hidden already.");
        }
        connection.Send(new XRequest(2).U32(setup.Root).U32(EventMask).U32(Structure));
        // Until all of it stands nobody sees anything of it.
        connection.Send(new XRequest(36));
        try
        {
            var isOurs = await RedirectAsync(composite).ConfigureAwait(false);
            var nothing = connection.NewId();
            connection.Send(new XRequest(fixes, 5).U32(nothing));
            connection.Send(new XRequest(61).U32(setup.Root).U16(0).U16(0).U16(0).U16(0));
            await connection.CheckAsync(new XRequest(55).U32(context).U32(setup.Root).U32(0)).ConfigureAwait(false);
            await LayGroundAsync(setup.Width, setup.Height).ConfigureAwait(false);
            if (!isOurs)
            {
                Blacken(setup.Width, setup.Height);
            }
            overlay = XReply.U32(await connection.AskAsync(new XRequest(composite, 7).U32(setup.Root)).ConfigureAwait(false), 8);
            Tell();
            if (isOurs)
            {
                connection.Send(Through(overlay));
            }
            await MakeAsync(cover, overlay, setup.Width, setup.Height, BackPixel, 0).ConfigureAwait(false);
            connection.Send(Through(cover));
            connection.Send(new XRequest(fixes, 29).U32(setup.Root));
            await connection.CheckAsync(new XRequest(8).U32(cover)).ConfigureAwait(false);

            XRequest Through(uint window) => new XRequest(fixes, 21).U32(window).U8(InputShape).Skip(3).U16(0).U16(0).U32(nothing);
        }
        finally
        {
            connection.Send(new XRequest(37));
        }
    }

    /// <returns>False where another program lays the windows over one another already, as desktops with shadows do; then it has redirected them.</returns>
    private async Task<bool> RedirectAsync(XExtension composite)
    {
        try
        {
            await connection.CheckAsync(new XRequest(composite, 2).U32(connection.Setup.Root).U8(Manual).Skip(3)).ConfigureAwait(false);
            return true;
        }
        catch (XErrorException e) when (e.Code == Access)
        {
            return false;
        }
    }

    /// <summary>
    /// A window below all others that shows what is behind them. A redirected window begins with what its parent shows there, and that is
    /// just it before the overlay comes. It has no background: the server would paint that anew with the next size of the screen.
    /// </summary>
    private async Task LayGroundAsync(int width, int height)
    {
        ground = connection.NewId();
        await MakeAsync(ground, connection.Setup.Root, width, height, BackPixmap, 0).ConfigureAwait(false);
        connection.Send(new XRequest(12).U32(ground).U16(0x40).U16(0).U32(1));
        connection.Send(new XRequest(8).U32(ground));
    }

    private void Blacken(int width, int height) => connection.Send(new XRequest(70).U32(ground).U32(context).U16(0).U16(0).U16(width).U16(height));

    /// <summary>Tells whoever looks on that there is a cover.</summary>
    private void Tell()
    {
        connection.Send(new XRequest(18).U32(ground).U32(name).U32(WindowType).U8(32).Skip(3).U32(1).U32(overlay));
        connection.Send(new XRequest(22).U32(ground).U32(name).U32(0));
    }

    private async Task MakeAsync(uint window, uint parent, int width, int height, uint background, uint value) =>
        await connection.CheckAsync(new XRequest(1).U32(window).U32(parent).U16(0).U16(0).U16(width).U16(height).U16(0).U16(1).U32(0)
            .U32(background | OverrideRedirect | EventMask).U32(value).U32(1).U32(Exposure)).ConfigureAwait(false);

    /// <summary>The screen has another size. What is behind the windows can't be asked for under the cover: it is as it was, and black where the screen was not before.</summary>
    private async Task FitAsync(int width, int height)
    {
        var before = ground;
        connection.Send(new XRequest(12).U32(cover).U16(0xC).U16(0).U32((uint)width).U32((uint)height));
        connection.Send(new XRequest(61, 1).U32(cover).U16(0).U16(0).U16(0).U16(0));
        await LayGroundAsync(width, height).ConfigureAwait(false);
        Blacken(width, height);
        connection.Send(new XRequest(62).U32(before).U32(ground).U32(context).U16(0).U16(0).U16(0).U16(0).U16(width).U16(height));
        Tell();
        connection.Send(new XRequest(4).U32(before));
    }

    /// <summary>On each monitor, as nobody knows which one is looked at.</summary>
    private async Task DrawAsync()
    {
        var image = face.Draw(-1, -1, default);
        foreach (var monitor in await XMonitors.FindAsync(connection).ConfigureAwait(false))
        {
            var at = monitor.Part;
            XPixels.Draw(connection, cover, context, image, at.X + Math.Max(0, (at.Width - image.Width) / 2), at.Y + Math.Max(0, (at.Height - image.Height) / 3));
        }
    }
}
