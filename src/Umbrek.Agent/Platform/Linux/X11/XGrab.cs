using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>
/// Takes pictures out of an X server: through memory that both have (MIT-SHM), or over the socket where the server can't have that.
/// </summary>
internal sealed class XGrab : IDisposable
{
    private const byte PixmapZ = 2;

    /// <summary>Bytes that both have; larger pictures come in bands, which stay in the processor's own memory while they are copied.</summary>
    private const int MostShared = 1024 * 1024;

    private readonly XConnection connection;
    private readonly XExtension? memory;
    private SharedPixels? shared;
    private uint segment;

    private XGrab(XConnection connection, XExtension? memory) => (this.connection, this.memory) = (connection, memory);

    /// <summary>Whether pictures come through shared memory.</summary>
    public bool IsShared => shared is not null;

    public static async Task<XGrab> OpenAsync(XConnection connection) => new(connection, await connection.FindAsync("MIT-SHM").ConfigureAwait(false));

    /// <summary>Makes room for pictures of that size.</summary>
    public async Task MakeRoomAsync(int width, int height)
    {
        if (shared is not null)
        {
            connection.Send(new XRequest(memory!, 2).U32(segment));
            shared.Dispose();
            shared = null;
        }
        if (memory is null || SharedPixels.TryCreate(Math.Max(Math.Min(XPixels.Stride(connection.Setup.Visual, width) * height, MostShared), XPixels.Stride(connection.Setup.Visual, width))) is not { } room)
        {
            return;
        }
        segment = connection.NewId();
        try
        {
            await connection.CheckAsync(new XRequest(memory, 1).U32(segment).U32((uint)room.Id).U8(0).Skip(3)).ConfigureAwait(false);
            shared = room;
        }
        catch (XErrorException)
        {
            // The server runs as somebody else, or elsewhere.
            room.Dispose();
        }
        room.Forget();
    }

    /// <param name="drawable">A window or a pixmap.</param>
    /// <param name="x">Where <paramref name="part"/> begins in it.</param>
    /// <param name="part">Where it goes in the picture.</param>
    /// <param name="blend">What it has shows more or less (32 bits, multiplied by how much): it is laid over what is there.</param>
    public async Task TakeAsync(uint drawable, int x, int y, ScreenImage into, ScreenRect part, bool blend = false)
    {
        var visual = connection.Setup.Visual;
        if (shared is not null)
        {
            var stride = XPixels.Stride(visual, part.Width);
            for (var (row, rows) = (0, shared.Length / stride); row < part.Height; row += rows)
            {
                var band = new ScreenRect(part.X, part.Y + row, part.Width, Math.Min(rows, part.Height - row));
                await connection.AskAsync(new XRequest(memory!, 4).U32(drawable).U16(x).U16(y + row).U16(band.Width).U16(band.Height).U32(uint.MaxValue).U8(PixmapZ).Skip(3).U32(segment).U32(0)).ConfigureAwait(false);
                Put(shared.Bytes(stride * band.Height), band);
            }
            return;
        }
        Put((await connection.AskAsync(new XRequest(73, PixmapZ).U32(drawable).U16(x).U16(y).U16(part.Width).U16(part.Height).U32(uint.MaxValue)).ConfigureAwait(false)).AsSpan(32), part);

        void Put(ReadOnlySpan<byte> pixels, ScreenRect at)
        {
            if (blend)
            {
                XPixels.Blend(pixels, into, at);
            }
            else
            {
                XPixels.Copy(pixels, visual, into, at);
            }
        }
    }

    public void Dispose() => shared?.Dispose();
}
