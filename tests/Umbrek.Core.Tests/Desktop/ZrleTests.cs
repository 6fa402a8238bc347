using System.Buffers;
using System.Buffers.Binary;
using Umbrek.Core.Desktop;

namespace Umbrek.Core.Tests.Desktop;

public sealed class ZrleTests
{
    [Fact]
    public void Whatever_is_packed_comes_out_again_over_one_stream()
    {
        using var encoder = new ZrleEncoder();
        using var decoder = new ZrleDecoder();
        var got = new ScreenImage(333, 217);
        for (var seed = 0; seed < 30; seed++)
        {
            var random = new Random(seed);
            var image = Pictures.Desktop(333, 217, seed);
            foreach (var part in Pictures.Change(image, random).Append(image.Bounds))
            {
                Send(encoder, decoder, image, part, got);
                got.IsSame(image, part).ShouldBeTrue($"seed {seed}, {part}");
            }
        }
    }

    [Theory]
    [InlineData(1)]
    [InlineData(2)]
    [InlineData(3)]
    [InlineData(5)]
    [InlineData(16)]
    [InlineData(17)]
    [InlineData(127)]
    [InlineData(128)]
    [InlineData(4096)]
    public void Tiles_of_any_number_of_colours(int colours)
    {
        using var encoder = new ZrleEncoder();
        using var decoder = new ZrleDecoder();
        var (scattered, runs, got) = (new ScreenImage(64, 64), new ScreenImage(64, 64), new ScreenImage(64, 64));
        for (var i = 0; i < 4096; i++)
        {
            scattered.Pixels[i] = (uint)(i * 7919 % colours) * 4001 & 0xFFFFFF;
            runs.Pixels[i] = (uint)((long)i * colours / 4096) * 4001 & 0xFFFFFF;
        }
        foreach (var image in new[] { scattered, runs })
        {
            Send(encoder, decoder, image, image.Bounds, got);
            got.Pixels.ShouldBe(image.Pixels);
        }
    }

    [Fact]
    public void What_is_written_is_small()
    {
        using var encoder = new ZrleEncoder();
        var image = new ScreenImage(1280, 800);
        image.Fill(image.Bounds, 0x123456);
        var to = new ArrayBufferWriter<byte>();
        encoder.Write(image, image.Bounds, PixelFormat.Usual, to);
        to.WrittenCount.ShouldBeLessThan(100);
    }

    [Fact]
    public void Other_formats_are_written_as_they_are_read()
    {
        var format = new PixelFormat(16, 16, false, 31, 63, 31, 11, 5, 0);
        using var encoder = new ZrleEncoder();
        using var decoder = new ZrleDecoder();
        var image = Pictures.Desktop(100, 90, 4);
        var (once, twice) = (new ScreenImage(100, 90), new ScreenImage(100, 90));
        decoder.Read(Packed(encoder, image, image.Bounds, format), once, once.Bounds, format);
        // What the format can't have is lost the first time alone.
        decoder.Read(Packed(encoder, once, once.Bounds, format), twice, twice.Bounds, format);
        twice.Pixels.ShouldBe(once.Pixels);
    }

    [Fact]
    public void What_is_spoilt_is_told_and_never_drawn_outside()
    {
        for (var seed = 0; seed < 400; seed++)
        {
            var random = new Random(seed);
            using var encoder = new ZrleEncoder();
            using var decoder = new ZrleDecoder();
            var image = Pictures.Desktop(130, 70, seed);
            var packed = Packed(encoder, image, image.Bounds, PixelFormat.Usual);
            for (var i = random.Next(1, 6); i > 0; i--)
            {
                packed[random.Next(packed.Length)] = (byte)random.Next(256);
            }
            var got = new ScreenImage(130, 70);
            try
            {
                decoder.Read(packed.AsMemory(0, random.Next(2) == 0 ? packed.Length : random.Next(packed.Length)), got, got.Bounds, PixelFormat.Usual);
            }
            catch (RfbException)
            {
            }
        }
    }

    [Theory]
    [InlineData(new byte[] { 17 })]
    [InlineData(new byte[] { 127 })]
    [InlineData(new byte[] { 129 })]
    [InlineData(new byte[] { 128, 1, 2, 3, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255 })]
    [InlineData(new byte[] { 130, 1, 2, 3, 4, 5, 6, 7 })]
    [InlineData(new byte[] { 1, 1, 2 })]
    [InlineData(new byte[] { 1, 1, 2, 3, 4 })]
    public void Tiles_that_cannot_be(byte[] tile)
    {
        using var packed = new MemoryStream();
        using (var zlib = new System.IO.Compression.ZLibStream(packed, System.IO.Compression.CompressionLevel.Fastest, leaveOpen: true))
        {
            zlib.Write(tile);
        }
        using var decoder = new ZrleDecoder();
        var image = new ScreenImage(64, 64);
        Should.Throw<RfbException>(() => decoder.Read(packed.ToArray(), image, image.Bounds, PixelFormat.Usual));
    }

    private static void Send(ZrleEncoder encoder, ZrleDecoder decoder, ScreenImage image, ScreenRect part, ScreenImage got) =>
        decoder.Read(Packed(encoder, image, part, PixelFormat.Usual), got, part, PixelFormat.Usual);

    private static byte[] Packed(ZrleEncoder encoder, ScreenImage image, ScreenRect part, PixelFormat format)
    {
        var to = new ArrayBufferWriter<byte>();
        encoder.Write(image, part, format, to);
        BinaryPrimitives.ReadInt32BigEndian(to.WrittenSpan).ShouldBe(to.WrittenCount - 4);
        return to.WrittenSpan[4..].ToArray();
    }
}
