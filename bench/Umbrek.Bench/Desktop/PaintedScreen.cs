using System.Diagnostics;
using System.Globalization;
using Umbrek.Agent.Platform.Linux.X11;

namespace Umbrek.Bench.Desktop;

/// <summary>An X server of its own, and a window over all of it to paint on: what a person would see changing.</summary>
internal sealed class PaintedScreen : IAsyncDisposable
{
    private const int Spare = 512;
    private const int LetterWidth = 8;
    private const int LetterHeight = 16;

    private readonly Process server;
    private readonly XConnection connection;
    private readonly uint window;
    private readonly uint film;
    private readonly uint pen;
    private readonly Random random = new(7);

    private PaintedScreen(Process server, int number, XConnection connection)
    {
        (this.server, Number, this.connection) = (server, number, connection);
        (window, film, pen) = (connection.NewId(), connection.NewId(), connection.NewId());
    }

    public int Number { get; }
    public string Socket => $"/tmp/.X11-unix/X{Number}";
    public int Width => connection.Setup.Width;
    public int Height => connection.Setup.Height;

    public static async Task<PaintedScreen> StartAsync(int width, int height)
    {
        var server = Process.Start(new ProcessStartInfo("Xvfb", ["-displayfd", "1", "-screen", "0", $"{width}x{height}x24", "-nolisten", "tcp", "-noreset"]) { RedirectStandardOutput = true, RedirectStandardError = true })!;
        server.BeginErrorReadLine();
        var number = int.Parse((await server.StandardOutput.ReadLineAsync())!, CultureInfo.InvariantCulture);
        var screen = new PaintedScreen(server, number, await XConnection.OpenAsync($"/tmp/.X11-unix/X{number}", null, default));
        await screen.PrepareAsync();
        return screen;
    }

    /// <summary>A part of one colour.</summary>
    public void Fill(int x, int y, int width, int height, uint colour)
    {
        connection.Send(new XRequest(56).U32(pen).U32(0x4).U32(colour));
        connection.Send(new XRequest(70).U32(window).U32(pen).U16(x).U16(y).U16(width).U16(height));
    }

    /// <summary>Something like a letter.</summary>
    public void Letter(int column, int row)
    {
        var (x, y) = (column * LetterWidth, row * LetterHeight);
        Fill(x, y, LetterWidth, LetterHeight, 0xF0F0E8);
        for (var stroke = 0; stroke < 4; stroke++)
        {
            Fill(x + random.Next(6), y + random.Next(12), 1 + random.Next(2), 1 + random.Next(4), 0x202020);
        }
    }

    /// <summary>A window of text moves up by a line, and a new one comes.</summary>
    public void Scroll(int x, int y, int columns, int rows)
    {
        Copy(window, x, y + LetterHeight, x, y, columns * LetterWidth, (rows - 1) * LetterHeight);
        Fill(x, y + (rows - 1) * LetterHeight, columns * LetterWidth, LetterHeight, 0xF0F0E8);
        for (var column = 0; column < columns; column += 1 + random.Next(2))
        {
            Fill(x + column * LetterWidth + random.Next(5), y + (rows - 1) * LetterHeight + random.Next(12), 2, 4, 0x202020);
        }
    }

    /// <summary>A page moves up, and more of it comes: text, or a part of a picture.</summary>
    public void Page(int frame, int x, int y, int width, int height, int by)
    {
        Copy(window, x, y + by, x, y, width, height - by);
        if (frame % 6 < 3)
        {
            Copy(film, frame * 13 % Spare, frame * by % Spare, x, y + height - by, width, by);
            return;
        }
        Fill(x, y + height - by, width, by, 0xF0F0E8);
        for (var row = 0; row < by / LetterHeight; row++)
        {
            for (var column = 1; column < width / LetterWidth - 1; column += 1 + random.Next(2))
            {
                Fill(x + column * LetterWidth + random.Next(5), y + height - by + row * LetterHeight + random.Next(12), 2, 4, 0x202020);
            }
        }
    }

    /// <summary>From now on every key that is pressed shows at a place, in a colour that no two following have.</summary>
    public async Task EchoAsync(int x, int y)
    {
        const byte keyPress = 2;
        var count = 0;
        connection.Event = message =>
        {
            if ((message[0] & 0x7F) == keyPress)
            {
                Fill(x, y, LetterWidth, LetterHeight, EchoColour(++count));
            }
        };
        // ChangeWindowAttributes: the keys are told; SetInputFocus: they come here.
        connection.Send(new XRequest(2).U32(window).U32(0x800).U32(0x1));
        connection.Send(new XRequest(42, 1).U32(window).U32(0));
        await DoneAsync();
    }

    public static uint EchoColour(int count) => (uint)(0x102030 + 0x010101 * (count % 150));

    /// <summary>A part of the film that goes on by a picture each time.</summary>
    public void Film(int frame, int x, int y, int width, int height) =>
        Copy(film, frame * 7 % Spare, frame * 3 % Spare, x, y, width, height);

    /// <summary>All that was painted is there.</summary>
    public Task DoneAsync() => connection.AskAsync(new XRequest(43));

    public async ValueTask DisposeAsync()
    {
        await connection.DisposeAsync();
        server.Kill();
        await server.WaitForExitAsync();
        server.Dispose();
    }

    private void Copy(uint from, int fromX, int fromY, int x, int y, int width, int height) =>
        connection.Send(new XRequest(62).U32(from).U32(window).U32(pen).U16(fromX).U16(fromY).U16(x).U16(y).U16(width).U16(height));

    private async Task PrepareAsync()
    {
        var root = connection.Setup.Root;
        connection.Send(new XRequest(1, 0).U32(window).U32(root).U16(0).U16(0).U16(Width).U16(Height).U16(0).U16(1).U32(0).U32(0x202).U32(0x304858).U32(1));
        connection.Send(new XRequest(53, 24).U32(film).U32(root).U16(Width + Spare).U16(Height + Spare));
        connection.Send(new XRequest(55).U32(pen).U32(window).U32(0x10000).U32(0));
        connection.Send(new XRequest(8).U32(window));
        // Like a photograph: soft forms and a little noise.
        var row = new byte[4 * (Width + Spare)];
        for (var y = 0; y < Height + Spare; y++)
        {
            for (var x = 0; x < Width + Spare; x++)
            {
                var (a, b) = (Math.Sin(x / 61.0) * Math.Cos(y / 47.0), Math.Sin((x + 2 * y) / 93.0));
                row[4 * x] = (byte)(120 + 60 * a + random.Next(9));
                row[4 * x + 1] = (byte)(110 + 50 * b + random.Next(9));
                row[4 * x + 2] = (byte)(100 + 40 * (a + b) / 2 + random.Next(9));
            }
            connection.Send(new XRequest(72, 2).U32(film).U32(pen).U16(Width + Spare).U16(1).U16(0).U16(y).U8(0).U8(24).U16(0).Data(row));
        }
        await DoneAsync();
    }
}
