using System.Buffers.Binary;
using System.Text;
using Umbrek.Core.Desktop;

namespace Umbrek.Core.Tests.Desktop;

/// <summary>Screens that are recorded: what was shown comes back, and nothing of what should not be in it.</summary>
public sealed class TapeTests
{
    private const string Secret = "seven gulls over the harbour";
    private static readonly ViewerTakes Lossless = new(PixelFormat.Usual, Zrle: true, CopyRect: true, Quality: 0);

    /// <summary>A host that shows a picture, with all else that a host says in between, and a viewer who answers it.</summary>
    private sealed class Talk(int seed, bool keys = false)
    {
        private readonly Random random = new(seed);
        private readonly MemoryStream tape = new();
        private readonly RfbWriter writer = new();
        private ScreenEncoder encoder = new(null);
        private TapeScribe scribe = null!;
        private TimeSpan now;

        public ScreenImage Screen { get; private set; } = Pictures.Desktop(200, 150, seed);

        /// <summary>What stood on the screen, and when that was complete.</summary>
        public List<(TimeSpan At, uint[] Pixels)> Was { get; } = [];

        public byte[] Tape => tape.ToArray();

        public Talk Begin(string version = "RFB 003.008\n")
        {
            scribe = new TapeScribe(keys, entry => tape.Write(entry.Span));
            scribe.Begin(new TapeHeader(DateTimeOffset.UnixEpoch.AddDays(20_000), "Ines Okafor at quay-ticket-03 in Saltmarsh Ferry/Quay", true));
            return Open(version);
        }

        public Talk Open(string version = "RFB 003.008\n")
        {
            scribe.Opened(now, ":0", "Wynn", control: true);
            Host("RFB 003.008\n"u8);
            Viewer(Encoding.ASCII.GetBytes(version));
            switch (version[10])
            {
                case '3':
                    Host([0, 0, 0, 1]);
                    Viewer([1]);
                    break;
                case '7':
                    Host([1, 1]);
                    Viewer([1, 1]);
                    break;
                default:
                    Host([1, 1]);
                    Viewer([1]);
                    Host(new byte[4]);
                    Viewer([1]);
                    break;
            }
            writer.Clear();
            writer.ServerInit(Screen.Width, Screen.Height, "counter :0");
            Host(writer.Written.Span);
            encoder = new ScreenEncoder(null);
            encoder.Forget(Screen);
            return Show(Screen.Bounds);
        }

        public Talk Wait(double seconds)
        {
            now += TimeSpan.FromSeconds(seconds);
            return this;
        }

        public Talk Change() => Show([.. Pictures.Change(Screen, random)]);

        public Talk Show(params ScreenRect[] parts)
        {
            writer.Clear();
            writer.BeginUpdate();
            encoder.Encode(Screen, [.. parts], Lossless, 80, int.MaxValue / 2, writer);
            writer.EndUpdate();
            Host(writer.Written.Span);
            Was.Add((now, [.. Screen.Pixels]));
            return this;
        }

        public Talk Resize(int width, int height)
        {
            Screen = Pictures.Desktop(width, height, random.Next());
            writer.Clear();
            writer.BeginUpdate();
            writer.ExtendedDesktopSize(width, height, 0, 0, [new RfbScreen(0, Screen.Bounds, 0)]);
            writer.EndUpdate();
            Host(writer.Written.Span);
            encoder.Forget(Screen);
            return Show(Screen.Bounds);
        }

        public Talk Says(Action<RfbWriter> what)
        {
            writer.Clear();
            what(writer);
            Host(writer.Written.Span);
            return this;
        }

        public Talk Key(uint sym)
        {
            foreach (var down in new byte[] { 1, 0 })
            {
                var message = new byte[8];
                (message[0], message[1]) = (RfbMessage.Key, down);
                BinaryPrimitives.WriteUInt32BigEndian(message.AsSpan(4), sym);
                Viewer(message);
            }
            return this;
        }

        public Talk Mouse(int x, int y, byte buttons)
        {
            var message = new byte[6];
            (message[0], message[1]) = (RfbMessage.Mouse, buttons);
            BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(2), (ushort)x);
            BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(4), (ushort)y);
            Viewer(message);
            return this;
        }

        public Talk Gives(string text)
        {
            var body = new ClipboardMessage(ClipboardAct.Provide, true, text).Write();
            var message = new byte[8];
            message[0] = RfbMessage.ClientCutText;
            BinaryPrimitives.WriteInt32BigEndian(message.AsSpan(4), -body.Length);
            Viewer([.. message, .. body]);
            return this;
        }

        public void Viewer(ReadOnlySpan<byte> bytes) => InPieces(bytes, piece => scribe.ViewerSays(now, piece.Span));

        private void Host(ReadOnlySpan<byte> bytes) => InPieces(bytes, piece => scribe.HostSays(now, piece.Span));

        /// <summary>As they come over a line: cut anywhere.</summary>
        private void InPieces(ReadOnlySpan<byte> bytes, Action<ReadOnlyMemory<byte>> say)
        {
            var all = bytes.ToArray();
            for (var at = 0; at < all.Length;)
            {
                var part = Math.Min(random.Next(3) == 0 ? random.Next(1, 8) : random.Next(1, 4000), all.Length - at);
                say(all.AsMemory(at, part));
                at += part;
            }
        }
    }

    private static async Task<List<TapeEntry>> EntriesAsync(byte[] tape)
    {
        var reader = new TapeReader(new MemoryStream(tape));
        await reader.ReadHeaderAsync(default);
        var entries = new List<TapeEntry>();
        while (await reader.ReadAsync(default) is { } entry)
        {
            entries.Add(entry with { Bytes = entry.Bytes.ToArray() });
        }
        return entries;
    }

    private static async Task<TapeShow> ShowAsync(byte[] tape, TimeSpan? longestPause = null)
    {
        var reader = new TapeReader(new MemoryStream(tape));
        await reader.ReadHeaderAsync(default);
        var show = new TapeShow(reader, new NoJpeg(), longestPause);
        await show.BeginAsync(default);
        return show;
    }

    private sealed class NoJpeg : IJpegDecoder
    {
        public void Decode(ReadOnlySpan<byte> packed, ScreenImage into, ScreenRect part) => throw new RfbException("there is none in this test");
    }

    [Theory]
    [InlineData(1, "RFB 003.008\n")]
    [InlineData(2, "RFB 003.008\n")]
    [InlineData(3, "RFB 003.007\n")]
    [InlineData(4, "RFB 003.003\n")]
    [InlineData(5, "RFB 003.008\n")]
    public async Task What_was_shown_is_shown_again_at_its_time(int seed, string version)
    {
        var talk = new Talk(seed).Begin(version);
        for (var i = 0; i < 30; i++)
        {
            talk.Wait(0.5).Says(w => w.Fence(FenceFlags.Request, [1, 2, 3, 4, 5, 6, 7, 8])).Change().Says(w => w.Bell()).Says(w => w.EndOfContinuousUpdates());
        }
        talk.Wait(1).Resize(320, 240).Wait(1).Change();
        using var show = await ShowAsync(talk.Tape);
        foreach (var (at, pixels) in talk.Was)
        {
            while (show.Next is { } next && next <= at)
            {
                await show.GoOnAsync(default);
            }
            show.Image!.Pixels.AsSpan().SequenceEqual(pixels).ShouldBeTrue($"at {at}");
        }
        show.Next.ShouldBeNull();
        (await TapeLength.OfAsync(new TapeReader(new MemoryStream(talk.Tape)), null, default)).ShouldBe(new TapeLength(320, 240, TimeSpan.FromSeconds(17)));
    }

    [Fact]
    public async Task Another_screen_begins_anew()
    {
        var talk = new Talk(9).Begin().Wait(1).Change();
        talk.Wait(1).Open().Wait(1).Change();
        using var show = await ShowAsync(talk.Tape);
        while (show.Next is not null)
        {
            await show.GoOnAsync(default);
        }
        show.Image!.Pixels.AsSpan().SequenceEqual(talk.Screen.Pixels).ShouldBeTrue();
        (await EntriesAsync(talk.Tape)).Count(e => e.Kind == TapeKinds.Opened).ShouldBe(2);
    }

    [Fact]
    public async Task No_text_of_a_clipboard_is_in_it_and_no_key_unless_keys_are_wished()
    {
        Talk Do(bool keys) => new Talk(4, keys).Begin().Gives(Secret).Says(w => w.Clipboard(new ClipboardMessage(ClipboardAct.Notify, true)))
            .Says(w => w.Clipboard(new ClipboardMessage(ClipboardAct.Provide, true, Secret))).Says(w => w.CutText(Secret)).Wait(1).Key('q').Key('x').Wait(0.2).Key('y').Wait(10).Key('z').Change();
        var (without, with) = (await EntriesAsync(Do(false).Tape), await EntriesAsync(Do(true).Tape));
        foreach (var entries in new[] { without, with })
        {
            var clipboards = entries.Where(e => e.Kind == TapeKinds.Clipboard).ToList();
            clipboards.ConvertAll(e => e.Text("from")).ShouldBe(["viewer", "host", "host"]);
            clipboards[0].Number("bytes").ShouldBe(Secret.Length);
            // Packed or plain, none of it is among what was written.
            var walk = new RfbWalk(8);
            walk.Walk([.. entries.SelectMany(e => e.Bytes.ToArray())], []);
            (walk.HasBegun, walk.ClipboardBytes).ShouldBe((true, 0));
        }
        Encoding.Latin1.GetString(Do(false).Tape).ShouldNotContain(Secret);
        without.Where(e => e.Kind is TapeKinds.Key or TapeKinds.Typing).Select(e => (e.Kind, e.At.TotalSeconds)).ShouldBe([(TapeKinds.Typing, 1), (TapeKinds.Typing, 11.2)]);
        with.Where(e => e.Kind == TapeKinds.Key && e.IsSet("down")).Select(e => (char)e.Number("sym")!.Value).ShouldBe(['q', 'x', 'y', 'z']);
        with.ShouldNotContain(e => e.Kind == TapeKinds.Typing);
    }

    [Fact]
    public async Task Where_the_pointer_is_is_written_now_and_then_and_whenever_it_is_pressed()
    {
        var talk = new Talk(6).Begin();
        for (var i = 0; i < 100; i++)
        {
            talk.Wait(0.005).Mouse(i, 7, 0);
        }
        talk.Mouse(99, 7, 1).Mouse(99, 7, 0).Mouse(99, 7, 0);
        var moves = (await EntriesAsync(talk.Tape)).Where(e => e.Kind == TapeKinds.Mouse).ToList();
        moves.Count.ShouldBeInRange(10, 20);
        moves[^2..].ConvertAll(e => (e.Number("x"), e.Number("y"), e.Number("buttons"))).ShouldBe([(99, 7, 1), (99, 7, 0)]);
        using var show = await ShowAsync(talk.Tape);
        while (show.Next is not null)
        {
            await show.GoOnAsync(default);
        }
        show.PointerAt.ShouldBe((99, 7));
    }

    [Fact]
    public async Task Long_pauses_are_shortened_and_short_ones_stay()
    {
        var talk = new Talk(5).Begin().Wait(0.5).Change().Wait(600).Change().Wait(2).Change();
        (await TapeLength.OfAsync(new TapeReader(new MemoryStream(talk.Tape)), TimeSpan.FromSeconds(3), default)).Took.ShouldBe(TimeSpan.FromSeconds(5.5));
        using var show = await ShowAsync(talk.Tape, TimeSpan.FromSeconds(3));
        var times = new List<TimeSpan>();
        while (show.Next is { } next)
        {
            times.Add(next);
            await show.GoOnAsync(default);
        }
        times.ShouldBe(times.Order());
        times[^1].ShouldBe(TimeSpan.FromSeconds(5.5));
    }

    [Fact]
    public async Task One_that_was_cut_off_anywhere_ends_with_its_last_whole_entry()
    {
        var whole = new Talk(8).Begin().Wait(1).Mouse(4, 5, 0).Key('a').Change().Tape;
        var entries = await EntriesAsync(whole);
        var headerEnd = whole.AsSpan().IndexOf((byte)'\n') + 1;
        for (var length = headerEnd; length < whole.Length; length += length < headerEnd + 400 ? 1 : 97)
        {
            var reader = new TapeReader(new MemoryStream(whole[..length]));
            await reader.ReadHeaderAsync(default);
            var count = 0;
            while (await reader.ReadAsync(default) is { } entry)
            {
                entry.Kind.ShouldBe(entries[count].Kind);
                entry.Bytes.ToArray().ShouldBe(entries[count].Bytes.ToArray());
                count++;
            }
            count.ShouldBeLessThan(entries.Count);
            reader.Length.ShouldBeLessThanOrEqualTo(length);
            // What is whole of it is a recording of its own.
            (await EntriesAsync(whole[..(int)reader.Length])).Count.ShouldBe(count);
            using var show = await ShowAsync(whole[..length]);
            while (show.Next is not null)
            {
                await show.GoOnAsync(default);
            }
        }
    }

    [Theory]
    [InlineData("")]
    [InlineData("tide\n")]
    [InlineData("{}\n")]
    [InlineData("{\"version\":2,\"kind\":\"screen\"}\n")]
    [InlineData("{\"version\":2,\"width\":90,\"height\":20}\n")]
    [InlineData("[]\n")]
    public async Task What_is_no_recording_is_refused(string text) =>
        await Should.ThrowAsync<InvalidDataException>(() => new TapeReader(new MemoryStream(Encoding.UTF8.GetBytes(text))).ReadHeaderAsync(default));

    [Theory]
    [InlineData("[1]\n")]
    [InlineData("[-1,\"mouse\",{}]\n")]
    [InlineData("[1e300,\"mouse\",{}]\n")]
    [InlineData("[1,\"rfb\",-4]\n")]
    [InlineData("[1,\"rfb\",99999999]\n")]
    [InlineData("[1,\"rfb\",\"5\"]\n")]
    [InlineData("{\"at\":1}\n")]
    [InlineData("[1,2,3]\n")]
    public async Task What_is_no_entry_is_refused(string line)
    {
        var reader = new TapeReader(new MemoryStream(Encoding.UTF8.GetBytes("{\"version\":1,\"kind\":\"screen\"}\n" + line)));
        await reader.ReadHeaderAsync(default);
        await Should.ThrowAsync<InvalidDataException>(() => reader.ReadAsync(default));
    }

    [Fact]
    public async Task Rubbish_between_whole_entries_never_hangs_or_runs_away()
    {
        var whole = new Talk(11).Begin().Wait(1).Change().Wait(1).Change().Tape;
        var random = new Random(12);
        for (var round = 0; round < 400; round++)
        {
            var broken = (byte[])whole.Clone();
            for (var i = random.Next(1, 6); i > 0; i--)
            {
                broken[random.Next(broken.Length)] = (byte)random.Next(256);
            }
            try
            {
                using var show = await ShowAsync(broken);
                while (show.Next is not null)
                {
                    await show.GoOnAsync(default);
                }
            }
            catch (InvalidDataException)
            {
                // Said, and that is all.
            }
        }
    }

    [Fact]
    public void Pixels_of_another_kind_are_refused_with_what_to_do()
    {
        var message = new byte[4 + PixelFormat.Length];
        (PixelFormat.Usual with { BitsPerPixel = 16, Depth = 16, RedMax = 31, GreenMax = 63, BlueMax = 31, RedShift = 11, GreenShift = 5 }).Write(message.AsSpan(4));
        Should.Throw<RfbException>(() => new Talk(1).Begin().Viewer(message)).Message.ShouldContain("32 bits");
    }

    [Fact]
    public void A_host_that_says_what_can_not_be_is_not_recorded()
    {
        Should.Throw<RfbException>(() => new Talk(1).Begin().Says(w => w.U8(77)));
        Should.Throw<RfbException>(() => new Talk(1).Begin().Says(w =>
        {
            w.BeginUpdate();
            w.Rect(new ScreenRect(0, 0, 5, 5), 99);
            w.EndUpdate();
        }));
        Should.Throw<RfbException>(() => new Talk(1).Begin().Says(w =>
        {
            w.U8(RfbMessage.ServerCutText);
            w.U8(0);
            w.U16(0);
            w.U32(0x80000000);
        }));
    }

    [Fact]
    public async Task A_picture_of_a_film_has_the_pointer_on_it_and_its_size_never_changes()
    {
        var talk = new Talk(3).Begin().Says(w =>
        {
            w.BeginUpdate();
            w.Cursor(new ScreenCursor(1, 1, 3, 3, [.. Enumerable.Repeat(0xFF00FF00u, 9)]), PixelFormat.Usual);
            w.EndUpdate();
        }).Wait(1).Mouse(50, 60, 0);
        using var show = await ShowAsync(talk.Tape);
        var frame = new ScreenImage(240, 160);
        FilmFrame.Draw(show, frame);
        frame.Pixels.ShouldAllBe(p => p == frame.Pixels[0]);
        while (show.Next is not null)
        {
            await show.GoOnAsync(default);
        }
        FilmFrame.Draw(show, frame);
        // In the middle: 20 pixels beside it, 5 above.
        frame.Row(65)[70].ShouldBe(0x00FF00u);
        frame.Row(64)[69].ShouldBe(0x00FF00u);
        frame.Row(63)[69].ShouldBe(talk.Screen.Row(58)[49]);
        frame.Row(0)[0].ShouldNotBe(talk.Screen.Row(0)[0]);
        FilmFrame.Draw(show, new ScreenImage(20, 10));
    }
}
