using System.Runtime.InteropServices;
using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Desktop;

/// <summary>JPEG by libjpeg-turbo, which is part of the published program; where the program is run otherwise, the system's own is taken.</summary>
public sealed unsafe partial class TurboJpeg : IJpegEncoder, IDisposable
{
    private const string Library = "libturbojpeg.so.0";

    /// <summary>TJPF_BGRX: as 0x00RRGGBB lies in memory.</summary>
    private const int Bgrx = 3;
    private const int Full = 0;
    private const int Half = 2;

    /// <summary>TJFLAG_NOREALLOC and TJFLAG_FASTDCT.</summary>
    private const int Flags = 1024 | 2048;

    private readonly void* handle;
    private byte[] packed = [];

    private TurboJpeg(void* handle) => this.handle = handle;

    /// <returns>Null where the library is missing: then nothing is packed as JPEG.</returns>
    public static TurboJpeg? TryCreate()
    {
        try
        {
            var handle = Init();
            return handle is null ? null : new TurboJpeg(handle);
        }
        catch (DllNotFoundException)
        {
            return null;
        }
    }

    public ReadOnlySpan<byte> Encode(ScreenImage image, ScreenRect part, int quality, bool halfColour)
    {
        var colours = halfColour ? Half : Full;
        var most = (int)BufferSize(part.Width, part.Height, colours);
        if (packed.Length < most)
        {
            packed = new byte[most];
        }
        fixed (uint* from = &image.Pixels[part.Y * image.Width + part.X])
        fixed (byte* to = packed)
        {
            var into = to;
            var size = (nuint)packed.Length;
            return Compress(handle, from, part.Width, image.Width * sizeof(uint), part.Height, Bgrx, &into, &size, colours, quality, Flags) == 0
                ? packed.AsSpan(0, (int)size)
                : throw new IOException($"A picture of {part.Width} x {part.Height} can't be packed: {Marshal.PtrToStringUTF8(ErrorOf(handle))}");
        }
    }

    public void Dispose() => _ = Destroy(handle);

    [LibraryImport(Library, EntryPoint = "tjInitCompress")]
    private static partial void* Init();

    [LibraryImport(Library, EntryPoint = "tjBufSize")]
    private static partial nuint BufferSize(int width, int height, int colours);

    [LibraryImport(Library, EntryPoint = "tjCompress2")]
    private static partial int Compress(void* handle, uint* from, int width, int pitch, int height, int format, byte** to, nuint* size, int colours, int quality, int flags);

    [LibraryImport(Library, EntryPoint = "tjGetErrorStr2")]
    private static partial nint ErrorOf(void* handle);

    [LibraryImport(Library, EntryPoint = "tjDestroy")]
    private static partial int Destroy(void* handle);
}
