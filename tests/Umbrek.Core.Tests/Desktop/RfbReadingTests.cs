using System.Buffers.Binary;
using System.IO.Compression;
using Umbrek.Core.Desktop;

namespace Umbrek.Core.Tests.Desktop;

public sealed class RfbReadingTests
{
    [Fact]
    public void What_a_viewer_says_is_read_whatever_pieces_it_comes_in()
    {
        byte[] all =
        [
            0, 0, 0, 0, 32, 24, 0, 1, 0, 255, 0, 255, 0, 255, 16, 8, 0, 0, 0, 0,
            2, 0, 0, 3, 0, 0, 0, 16, 0xFF, 0xFF, 0xFE, 0xC8, 0xFF, 0xFF, 0xFF, 0x11,
            3, 1, 0, 1, 0, 2, 0, 3, 0, 4,
            4, 1, 0, 0, 0, 0, 0xFF, 0x0D,
            5, 5, 1, 0, 0, 200,
            6, 0, 0, 0, 0, 0, 0, 2, (byte)'h', 0xE9,
            150, 1, 0, 0, 0, 0, 5, 0, 3, 32,
            248, 0, 0, 0, 0, 0, 0, 1, 3, 7, 8, 9,
            251, 0, 4, 0, 3, 0, 1, 0, 0, 0, 0, 9, 0, 0, 0, 0, 4, 0, 3, 0, 0, 0, 0, 0,
            255, 0, 0, 1, 0, 0, 0, 97, 0, 0, 0, 30,
        ];
        for (var piece = 1; piece < 40; piece++)
        {
            var got = new List<RfbClientMessage>();
            var held = new List<byte>();
            foreach (var part in all.Chunk(piece))
            {
                held.AddRange(part);
                while (RfbClientReader.Read(held.ToArray(), out var used) is { } message)
                {
                    got.Add(message);
                    held.RemoveRange(0, used);
                }
            }
            held.ShouldBeEmpty();
            got.Count.ShouldBe(10);
            got[0].ShouldBe(new RfbClientMessage.Format(PixelFormat.Usual));
            ((RfbClientMessage.Encodings)got[1]).Wanted.ShouldBe([RfbEncoding.Zrle, RfbEncoding.Fence, RfbEncoding.Cursor]);
            got[2].ShouldBe(new RfbClientMessage.Request(true, new ScreenRect(1, 2, 3, 4)));
            got[3].ShouldBe(new RfbClientMessage.Key(true, 0xFF0D));
            got[4].ShouldBe(new RfbClientMessage.Mouse(256, 200, 5));
            got[5].ShouldBe(new RfbClientMessage.CutText("hé"));
            got[6].ShouldBe(new RfbClientMessage.Continuous(true, new ScreenRect(0, 0, 1280, 800)));
            ((RfbClientMessage.Fence)got[7]).Payload.ToArray().ShouldBe([7, 8, 9]);
            ((RfbClientMessage.Resize)got[8]).Screens.ShouldBe([new RfbScreen(9, new ScreenRect(0, 0, 1024, 768), 0)]);
            got[9].ShouldBe(new RfbClientMessage.Key(true, 97, 30));
        }
    }

    public static TheoryData<string, byte[]> Impossible => new()
    {
        { "an unknown kind", [99, 0, 0, 0] },
        { "a clipboard of 2^31 bytes", [6, 0, 0, 0, 0x80, 0, 0, 0] },
        { "a clipboard of nearly as many", [6, 0, 0, 0, 0x7F, 255, 255, 255] },
        { "a cut-off clipboard", [6, 0, 0, 0, 255, 255, 255, 254, 1, 2] },
        { "a clipboard that is no message", [6, 0, 0, 0, 255, 255, 255, 252, 0, 0, 0, 1] },
        { "a table of colours", [0, 0, 0, 0, 8, 8, 0, 0, 0, 7, 0, 7, 0, 3, 0, 3, 6, 0, 0, 0] },
        { "sixty thousand encodings", [2, 0, 0xEA, 0x60] },
        { "a long fence", [248, 0, 0, 0, 0, 0, 0, 1, 65] },
        { "two hundred monitors", [251, 0, 4, 0, 3, 0, 200, 0] },
        { "an unknown word of a kind", [255, 7] },
    };

    [Theory]
    [MemberData(nameof(Impossible))]
    public void Rubbish_is_told_as_soon_as_it_shows(string what, byte[] said) => Should.Throw<RfbException>(() => RfbClientReader.Read(said, out _), what);

    [Fact]
    public void Nothing_that_a_viewer_can_send_does_anything_else()
    {
        var random = new Random(17);
        for (var round = 0; round < 200_000; round++)
        {
            var said = new byte[random.Next(1, 80)];
            random.NextBytes(said);
            byte[] kinds = [0, 2, 3, 4, 5, 6, 150, 248, 251, 255];
            said[0] = kinds[random.Next(kinds.Length)];
            try
            {
                if (RfbClientReader.Read(said, out var used) is not null)
                {
                    used.ShouldBeInRange(1, said.Length);
                }
            }
            catch (RfbException)
            {
            }
        }
    }

    [Theory]
    [InlineData("")]
    [InlineData("Saltmarsh Ferry")]
    [InlineData("zwei\nZeilen, ein € und 🐦")]
    public void A_clipboard_comes_back(string text)
    {
        var written = new ClipboardMessage(ClipboardAct.Provide, true, text).Write();
        ClipboardMessage.Read(written).ShouldBe(new ClipboardMessage(ClipboardAct.Provide, true, text));
    }

    [Fact]
    public void A_clipboard_that_would_fill_memory_is_not_unpacked()
    {
        using var bomb = new MemoryStream();
        bomb.Write([0x10, 0, 0, 1]);
        using (var zlib = new ZLibStream(bomb, CompressionLevel.SmallestSize, leaveOpen: true))
        {
            var size = new byte[4];
            BinaryPrimitives.WriteUInt32BigEndian(size, 1u << 31);
            zlib.Write(size);
            var nothing = new byte[1024 * 1024];
            for (var i = 0; i < 64; i++)
            {
                zlib.Write(nothing);
            }
        }
        Should.Throw<RfbException>(() => ClipboardMessage.Read(bomb.ToArray())).Message.ShouldContain("2147483648 bytes");
    }

    [Fact]
    public async Task A_viewer_tells_what_it_can_not_draw()
    {
        var writer = new RfbWriter();
        using var encoder = new ScreenEncoder(null);
        var image = Pictures.Desktop(90, 80, 3);
        encoder.Forget(image);
        writer.BeginUpdate();
        writer.ExtendedDesktopSize(90, 80, 0, 0, [new RfbScreen(1, image.Bounds, 0)]);
        writer.Cursor(new ScreenCursor(1, 1, 4, 4, new uint[16]), PixelFormat.Usual);
        encoder.Encode(image, [image.Bounds], new ViewerTakes(PixelFormat.Usual, true, true, 0), 80, 1 << 20, writer);
        writer.EndUpdate();
        writer.CutText("plover-log-01");
        writer.Fence(FenceFlags.None, [1]);
        var good = writer.Written.ToArray();
        for (var seed = 0; seed < 3000; seed++)
        {
            var random = new Random(seed);
            var said = good.AsSpan(0, seed % 3 == 0 ? random.Next(good.Length) : good.Length).ToArray();
            for (var i = random.Next(0, 5); i > 0 && said.Length > 0; i--)
            {
                said[random.Next(seed % 2 == 0 ? Math.Min(60, said.Length) : said.Length)] = (byte)random.Next(256);
            }
            using var line = new OneWay(said);
            using var viewer = new RfbViewer(line);
            try
            {
                while (true)
                {
                    await viewer.HearAsync(TestContext.Current.CancellationToken);
                }
            }
            catch (Exception e) when (e is RfbException or EndOfStreamException)
            {
            }
        }
    }

    /// <summary>What is said to it goes nowhere.</summary>
    private sealed class OneWay(byte[] says) : MemoryStream(says, writable: false)
    {
        public override bool CanWrite => true;

        public override ValueTask WriteAsync(ReadOnlyMemory<byte> buffer, CancellationToken cancellationToken = default) => ValueTask.CompletedTask;
    }
}
