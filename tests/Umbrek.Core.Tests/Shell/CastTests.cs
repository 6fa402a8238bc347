using System.Text;
using Umbrek.Core.Shell;

namespace Umbrek.Core.Tests.Shell;

/// <summary>Recordings in asciicast v2, written and read.</summary>
public sealed class CastTests
{
    private static readonly CastHeader Header = new(new TerminalSize(100, 30), DateTimeOffset.FromUnixTimeSeconds(1_795_745_032), "login shell", "Ines Okafor at quay-ticket-01", "xterm-256color");

    private static string Text(ReadOnlyMemory<byte> line) => Encoding.UTF8.GetString(line.Span);

    [Fact]
    public void A_header_and_events_are_lines_of_json()
    {
        var writer = new CastWriter();
        Text(writer.Header(Header)).ShouldBe("""{"version":2,"width":100,"height":30,"timestamp":1795745032,"command":"login shell","title":"Ines Okafor at quay-ticket-01","env":{"TERM":"xterm-256color"}}""" + "\n");
        Text(writer.Bytes(TimeSpan.FromMilliseconds(160.182), ShellStream.Output, "\e[1mtide\e[0m \"ω\"\r\n"u8)).ShouldBe("[0.160182,\"o\",\"\\u001B[1mtide\\u001B[0m \\\"ω\\\"\\r\\n\"]\n");
        Text(writer.Bytes(TimeSpan.FromSeconds(2), ShellStream.Input, "ls\r"u8)).ShouldBe("[2,\"i\",\"ls\\r\"]\n");
        Text(writer.Resize(TimeSpan.FromSeconds(3.5), new TerminalSize(120, 40))).ShouldBe("[3.5,\"r\",\"120x40\"]\n");
        Text(writer.Marker(TimeSpan.FromHours(2), "ended with 0")).ShouldBe("[7200,\"m\",\"ended with 0\"]\n");
    }

    [Fact]
    public void A_character_that_is_cut_stands_in_the_later_piece_for_each_stream_by_itself()
    {
        var writer = new CastWriter();
        writer.Bytes(TimeSpan.Zero, ShellStream.Output, [0xE2, 0x82]).IsEmpty.ShouldBeTrue();
        Text(writer.Bytes(TimeSpan.Zero, ShellStream.Error, "x"u8)).ShouldBe("[0,\"o\",\"x\"]\n");
        Text(writer.Bytes(TimeSpan.Zero, ShellStream.Output, [0xAC, 0x21])).ShouldBe("[0,\"o\",\"€!\"]\n");
        // What is no UTF-8 is told as that.
        Text(writer.Bytes(TimeSpan.Zero, ShellStream.Output, [0x41, 0xFF, 0x42])).ShouldBe("[0,\"o\",\"A\uFFFDB\"]\n");
    }

    [Fact]
    public void What_is_written_in_pieces_of_any_length_reads_back_whole()
    {
        var random = new Random(7);
        var bytes = new byte[60_000];
        random.NextBytes(bytes);
        Encoding.UTF8.GetBytes(string.Concat(Enumerable.Repeat("Größe 𝄞 ↵ \u0000\u001b[2J", 900))).CopyTo(bytes, 3);
        var writer = new CastWriter();
        var text = new StringBuilder();
        for (var at = 0; at < bytes.Length;)
        {
            var length = Math.Min(random.Next(1, 700), bytes.Length - at);
            var line = writer.Bytes(TimeSpan.FromTicks(at), ShellStream.Output, bytes.AsSpan(at, length));
            at += length;
            if (!line.IsEmpty)
            {
                Text(line).Count(c => c == '\n').ShouldBe(1);
                text.Append(CastReader.ReadEvent(Text(line))!.Value.Text);
            }
        }
        var whole = Encoding.UTF8.GetString(bytes);
        // An unfinished character at the very end is still waited for.
        whole.ShouldStartWith(text.ToString());
        (whole.Length - text.Length).ShouldBeLessThan(4);
    }

    [Fact]
    public void A_recording_is_read_line_by_line()
    {
        var read = CastReader.ReadHeader(Text(new CastWriter().Header(Header)));
        read.ShouldBe(Header);
        CastReader.ReadHeader("""{"version":2,"width":70000,"height":0,"timestamp":-9}""").ShouldBe(new CastHeader(new TerminalSize(1000, 1), default, null, null, null));
        CastReader.ReadEvent("""[1.5,"r","132x43"]""")!.Value.Size.ShouldBe(new TerminalSize(132, 43));
        CastReader.ReadEvent("""[1.5,"r","132 by 43"]""")!.Value.Size.ShouldBeNull();
        CastReader.ReadEvent("""[1.5,"o","132x43"]""")!.Value.Size.ShouldBeNull();
        // Kinds that came later are passed over.
        CastReader.ReadEvent("""[1.5,"x","0"]""").ShouldBeNull();
    }

    [Theory]
    [InlineData("", "no JSON")]
    [InlineData("[]", "no header")]
    [InlineData("""{"version":3,"width":80,"height":24}""", "version 3")]
    [InlineData("""{"version":2,"width":80}""", "how large")]
    public void What_begins_no_recording_is_refused(string line, string why) => Should.Throw<InvalidDataException>(() => CastReader.ReadHeader(line)).Message.ShouldContain(why);

    [Theory]
    [InlineData("[1,\"o\",\"half a li")]
    [InlineData("[1,\"o\"]")]
    [InlineData("[-1,\"o\",\"\"]")]
    [InlineData("[1e99,\"o\",\"\"]")]
    [InlineData("[\"1\",\"o\",\"\"]")]
    [InlineData("{}")]
    public void What_is_no_event_is_refused(string line) => Should.Throw<InvalidDataException>(() => CastReader.ReadEvent(line));

    [Fact]
    public void Long_pauses_are_shortened_and_time_never_goes_back()
    {
        var clock = new CastClock(TimeSpan.FromSeconds(3));
        new[] { 1d, 11, 10, 12 }.Select(at => clock.Pause(TimeSpan.FromSeconds(at)).TotalSeconds).ShouldBe([1, 3, 0, 1]);
        new CastClock(null).Pause(TimeSpan.FromHours(5)).ShouldBe(TimeSpan.FromHours(5));
        clock.GoAt(1000);
        clock.Pace.ShouldBe(CastClock.Fastest);
        clock.GoAt(0);
        clock.Pace.ShouldBe(CastClock.Slowest);
    }
}
