using CsCheck;
using Umbrek.Core.Desktop;

namespace Umbrek.Core.Tests.Desktop;

public sealed class PixelFormatTests
{
    public static TheoryData<PixelFormat> Formats => new(
        PixelFormat.Usual,
        PixelFormat.Usual with { BigEndian = true },
        new PixelFormat(32, 24, false, 255, 255, 255, 0, 8, 16),
        new PixelFormat(32, 24, true, 255, 255, 255, 24, 16, 8),
        new PixelFormat(16, 16, false, 31, 63, 31, 11, 5, 0),
        new PixelFormat(16, 15, true, 31, 31, 31, 10, 5, 0),
        new PixelFormat(8, 8, false, 7, 7, 3, 0, 3, 6),
        new PixelFormat(32, 30, false, 1023, 1023, 1023, 20, 10, 0));

    [Theory]
    [MemberData(nameof(Formats))]
    public void A_pixel_comes_back_as_near_as_the_format_can_have_it(PixelFormat format) =>
        Gen.UInt[0, 0xFFFFFF].Sample(pixel =>
        {
            var bytes = new byte[4];
            format.Put(pixel, bytes);
            Near(format.Get(bytes), pixel, format);
            format.PutCompact(pixel, bytes);
            Near(format.GetCompact(bytes), pixel, format);
        });

    [Theory]
    [MemberData(nameof(Formats))]
    public void A_format_says_itself_as_it_is_read(PixelFormat format)
    {
        var bytes = new byte[PixelFormat.Length];
        format.Write(bytes);
        PixelFormat.Read(bytes).ShouldBe(format);
    }

    [Theory]
    [InlineData(0, 24)]
    [InlineData(0, 7)]
    [InlineData(3, 0)]
    [InlineData(5, 2)]
    [InlineData(10, 30)]
    public void Formats_that_cannot_be_are_told_so(int at, byte value)
    {
        var bytes = new byte[PixelFormat.Length];
        PixelFormat.Usual.Write(bytes);
        bytes[at] = value;
        Should.Throw<RfbException>(() => PixelFormat.Read(bytes));
    }

    [Fact]
    public void Three_bytes_do_where_a_fourth_would_say_nothing()
    {
        PixelFormat.Usual.CompactLength.ShouldBe(3);
        new PixelFormat(32, 24, false, 255, 255, 255, 24, 16, 8).CompactLength.ShouldBe(3);
        new PixelFormat(32, 30, false, 1023, 1023, 1023, 20, 10, 0).CompactLength.ShouldBe(4);
        new PixelFormat(16, 16, false, 31, 63, 31, 11, 5, 0).CompactLength.ShouldBe(2);
    }

    private static void Near(uint got, uint pixel, PixelFormat format)
    {
        foreach (var (shift, max) in new[] { (16, format.RedMax), (8, format.GreenMax), (0, format.BlueMax) })
        {
            Math.Abs((int)(got >> shift & 255) - (int)(pixel >> shift & 255)).ShouldBeLessThanOrEqualTo(max >= 255 ? 0 : 128 / max + 1);
        }
    }
}
