using System.Diagnostics;
using System.Globalization;
using System.IO.Pipelines;
using System.Text;
using Umbrek.Agent.Desktop;
using Umbrek.Agent.Platform.Linux.X11;
using Umbrek.Core.Desktop;
using Umbrek.Tests;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Tests.Desktop;

/// <summary>What goes over the line, read by a program that nobody here wrote.</summary>
public sealed class DissectorTests
{
    [Fact]
    public async Task A_dissector_reads_all_of_the_stream()
    {
        using var directory = new TestDirectory();
        await using var server = await VirtualScreen.StartAsync("640x480x24");
        await server.AskAsync("xsetroot", "-solid", "#204060");
        server.Run("xterm", "-geometry", "60x12+20+30", "-e", "seq 1 2000; cat");
        server.Run("ico", "-geometry", "200x200+400+200");
        using var stop = new CancellationTokenSource(TimeSpan.FromSeconds(60));
        await using var screen = await XScreen.OpenAsync(server.Socket, null, "x", true, TimeProvider.System, stop.Token);
        var (up, down) = (new Pipe(), new Pipe());
        var said = new List<(bool FromServer, byte[] Bytes)>();
        using var jpeg = TurboJpeg.TryCreate();
        jpeg.ShouldNotBeNull();
        await using var rfb = new RfbServer(screen, new TwoWayStream(up.Reader.AsStream(), new Noting(down.Writer.AsStream(), true, said)), true, jpeg, TimeProvider.System);
        using var viewer = new RfbViewer(new TwoWayStream(down.Reader.AsStream(), new Noting(up.Writer.AsStream(), false, said)));
        var served = rfb.ServeAsync(stop.Token);
        await viewer.BeginAsync(true, stop.Token);
        await viewer.TakeAsync([RfbEncoding.CopyRect, RfbEncoding.Zrle, RfbEncoding.Tight, RfbEncoding.Raw, RfbEncoding.Cursor, RfbEncoding.ExtendedDesktopSize, RfbEncoding.Fence, RfbEncoding.ContinuousUpdates, RfbEncoding.BestQuality], stop.Token);
        await viewer.AskAsync(false, stop.Token);
        for (var pictures = 0; pictures < 30;)
        {
            if (await viewer.HearAsync(stop.Token) == RfbHeard.Picture)
            {
                pictures++;
                await viewer.KeyAsync(pictures % 2 == 0, 'q', stop.Token);
                await viewer.MouseAsync(100 + pictures, 100, 0, stop.Token);
                await viewer.AskAsync(true, stop.Token);
            }
        }
        await stop.CancelAsync();
        await Task.WhenAny(served);
        viewer.Rects.Keys.ShouldContain(RfbEncoding.Zrle);

        lock (said)
        {
            File.WriteAllText(directory.In("said.txt"), Dump(said));
        }
        await RunAsync("text2pcap", "-q", "-D", "-T", "5900,40000", directory.In("said.txt"), directory.In("said.pcap"));
        var read = await RunAsync("tshark", "-r", directory.In("said.pcap"), "-d", "tcp.port==5900,vnc", "-V", "-O", "vnc", "-o", "tcp.desegment_tcp_streams:TRUE");
        read.ShouldContain("Server protocol version");
        read.ShouldContain("ZRLE");
        Lines(read, "Malformed").ShouldBeEmpty();
        // It has no names for two of what the viewer says that it takes, though it reads the messages themselves.
        Lines(read, "Unknown").ShouldAllBe(l => l.EndsWith("Unknown (-312)", StringComparison.Ordinal) || l.EndsWith("Unknown (-313)", StringComparison.Ordinal));
        read.ShouldContain("Server Message Type: Fence");
        // It unpacks no rectangle but the first, as it does not keep the stream that all of them share; what is malformed is another group of complaints.
        var wrong = await RunAsync("tshark", "-r", directory.In("said.pcap"), "-d", "tcp.port==5900,vnc", "-Y", "_ws.malformed || _ws.expert.group == 0x07000000");
        wrong.Trim().ShouldBe("");
    }

    private static List<string> Lines(string text, string word) => [.. text.Split('\n').Where(l => l.Contains(word, StringComparison.OrdinalIgnoreCase)).Take(5)];

    /// <summary>As text2pcap(1) reads it: each packet with the direction that it went, and its bytes behind where they begin.</summary>
    private static string Dump(List<(bool FromServer, byte[] Bytes)> said)
    {
        var text = new StringBuilder();
        foreach (var (fromServer, bytes) in said)
        {
            // A packet holds no more than that; what is longer goes in several.
            foreach (var piece in bytes.Chunk(16_000))
            {
                text.Append(fromServer ? "I\n" : "O\n");
                for (var at = 0; at < piece.Length; at += 16)
                {
                    text.Append(CultureInfo.InvariantCulture, $"{at:x6}");
                    foreach (var one in piece.AsSpan(at, Math.Min(16, piece.Length - at)))
                    {
                        text.Append(CultureInfo.InvariantCulture, $" {one:x2}");
                    }
                    text.Append('\n');
                }
                text.Append('\n');
            }
        }
        return text.ToString();
    }

    private static async Task<string> RunAsync(string program, params string[] arguments)
    {
        using var process = Process.Start(new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true, RedirectStandardError = true })!;
        var complained = process.StandardError.ReadToEndAsync();
        var said = await process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync();
        process.ExitCode.ShouldBe(0, await complained);
        return said;
    }

    /// <summary>Keeps what is written to it.</summary>
    private sealed class Noting(Stream to, bool fromServer, List<(bool FromServer, byte[] Bytes)> said) : Stream
    {
        public override bool CanRead => false;
        public override bool CanWrite => true;
        public override bool CanSeek => false;
        public override long Length => throw new NotSupportedException();
        public override long Position { get => throw new NotSupportedException(); set => throw new NotSupportedException(); }

        public override async ValueTask WriteAsync(ReadOnlyMemory<byte> buffer, CancellationToken cancellationToken = default)
        {
            lock (said)
            {
                said.Add((fromServer, buffer.ToArray()));
            }
            await to.WriteAsync(buffer, cancellationToken);
        }

        public override Task FlushAsync(CancellationToken cancellationToken) => to.FlushAsync(cancellationToken);

        public override void Flush() => to.Flush();

        public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

        public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

        public override void SetLength(long value) => throw new NotSupportedException();

        public override void Write(byte[] buffer, int offset, int count) => throw new NotSupportedException();
    }
}
