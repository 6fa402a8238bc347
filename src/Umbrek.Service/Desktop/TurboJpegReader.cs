using System.Runtime.InteropServices;
using Umbrek.Core.Desktop;

namespace Umbrek.Service.Desktop;

/// <summary>Unpacks JPEG by the system's libjpeg-turbo (Debian's package libturbojpeg0).</summary>
internal sealed unsafe partial class TurboJpegReader : IJpegDecoder, IDisposable
{
    private const string Library = "libturbojpeg.so.0";

    /// <summary>TJPF_BGRX: as 0x00RRGGBB lies in memory.</summary>
    private const int Bgrx = 3;

    private readonly void* handle;

    private TurboJpegReader(void* handle) => this.handle = handle;

    /// <returns>Null where the library is missing.</returns>
    public static TurboJpegReader? TryCreate()
    {
        try
        {
            var handle = Init();
            return handle is null ? null : new TurboJpegReader(handle);
        }
        catch (DllNotFoundException)
        {
            return null;
        }
    }

    public void Decode(ReadOnlySpan<byte> packed, ScreenImage into, ScreenRect part)
    {
        fixed (byte* from = packed)
        fixed (uint* to = &into.Pixels[part.Y * into.Width + part.X])
        {
            if (Header(handle, from, (nuint)packed.Length, out var width, out var height, out _, out _) != 0 || width != part.Width || height != part.Height
                || Decompress(handle, from, (nuint)packed.Length, to, part.Width, into.Width * sizeof(uint), part.Height, Bgrx, 0) != 0)
            {
                throw new RfbException($"a picture of {part.Width} x {part.Height} can't be unpacked");
            }
        }
        // The fourth byte of a pixel is left as it was, or filled, as the library likes.
        for (var y = part.Y; y < part.Bottom; y++)
        {
            foreach (ref var pixel in into.Row(part, y))
            {
                pixel &= 0xFFFFFF;
            }
        }
    }

    public void Dispose() => _ = Destroy(handle);

    [LibraryImport(Library, EntryPoint = "tjInitDecompress")]
    private static partial void* Init();

    [LibraryImport(Library, EntryPoint = "tjDecompressHeader3")]
    private static partial int Header(void* handle, byte* from, nuint size, out int width, out int height, out int colours, out int space);

    [LibraryImport(Library, EntryPoint = "tjDecompress2")]
    private static partial int Decompress(void* handle, byte* from, nuint size, uint* to, int width, int pitch, int height, int format, int flags);

    [LibraryImport(Library, EntryPoint = "tjDestroy")]
    private static partial int Destroy(void* handle);
}
