using System.Net.WebSockets;
using System.Text.Json;
using Umbrek.Core.Shell;
using Umbrek.Service.Relay;
using Umbrek.Service.Sessions;
using Umbrek.Wire;
using Umbrek.Wire.Shell;

namespace Umbrek.Service.Shell;

/// <summary>
/// Writes down what goes over a shell's channel before its other end gets it. What can't be written does not go on: nothing happens
/// there that is not recorded.
/// </summary>
/// <param name="keys">What is typed is recorded as well.</param>
/// <param name="most">Bytes of one recording; with more the channel ends, and whoever comes back begins another.</param>
/// <param name="over">Called once, with what was learnt of the shell, or null when there was none: then nothing is written.</param>
public sealed class ShellRecorder(FileStream file, CastHeader header, bool keys, long most, TimeProvider time, Action<RecordedChannel?> over) : IChannelTap
{
    private readonly Lock gate = new();
    private readonly CastWriter writer = new();
    private readonly long began = time.GetTimestamp();
    private readonly Direction[] directions = [new(), new()];
    private RecordedChannel? shell;
    private bool isOver;
    private long written;

    /// <summary>One way of the channel: the message of which a part has come.</summary>
    private sealed class Direction
    {
        public List<byte> Word { get; } = [];
        public ShellStream? Stream { get; set; }
    }

    public void See(bool fromHost, WebSocketMessageType type, ReadOnlySpan<byte> bytes, bool endOfMessage)
    {
        lock (gate)
        {
            if (isOver)
            {
                throw new ChannelTapException("The recording has ended.");
            }
            var direction = directions[fromHost ? 1 : 0];
            try
            {
                if (type == WebSocketMessageType.Binary)
                {
                    SeeBytes(direction, fromHost, bytes, endOfMessage);
                }
                else
                {
                    SeeWord(direction, fromHost, bytes, endOfMessage);
                }
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                throw new ChannelTapException($"The recording can't be written: {e.Message}");
            }
        }
    }

    public void Over()
    {
        lock (gate)
        {
            if (isOver)
            {
                return;
            }
            isOver = true;
            file.Dispose();
        }
        over(shell);
    }

    private void SeeBytes(Direction direction, bool fromHost, ReadOnlySpan<byte> bytes, bool endOfMessage)
    {
        if (direction.Stream is null && bytes.Length > 0)
        {
            direction.Stream = (ShellStream)bytes[0];
            bytes = bytes[1..];
        }
        // What comes from the host is shown, whatever stream it calls it.
        var stream = fromHost ? direction.Stream is ShellStream.Error ? ShellStream.Error : ShellStream.Output : ShellStream.Input;
        if (endOfMessage)
        {
            direction.Stream = null;
        }
        if (shell is not null && bytes.Length > 0 && (fromHost || keys))
        {
            Write(writer.Bytes(Since, stream, bytes));
        }
    }

    private void SeeWord(Direction direction, bool fromHost, ReadOnlySpan<byte> bytes, bool endOfMessage)
    {
        if (direction.Word.Count + bytes.Length > ShellWord.MaxMessage)
        {
            throw new ChannelTapException("A word is longer than any of a shell.");
        }
        direction.Word.AddRange(bytes);
        if (!endOfMessage)
        {
            return;
        }
        var text = direction.Word.ToArray();
        direction.Word.Clear();
        ShellWord? word;
        try
        {
            word = JsonSerializer.Deserialize(text, LinkJson.Default.ShellWord);
        }
        catch (JsonException)
        {
            // Its receiver complains.
            return;
        }
        if (!fromHost && shell is not null && word?.Size is { } size)
        {
            Write(writer.Resize(Since, size.Within()));
        }
        else if (fromHost && shell is null && word?.Opened is { } opened)
        {
            shell = new RecordedChannel(opened.ShellId, opened.User);
            Write(writer.Header(header));
            if (opened.Missed > 0)
            {
                Write(writer.Marker(Since, $"{opened.Missed} bytes before this were shown to nobody"));
            }
        }
        else if (fromHost && shell is not null && word?.Ended is { } end)
        {
            Write(writer.Marker(Since, end.Reason ?? $"ended with exit status {end.ExitStatus}"));
        }
    }

    private TimeSpan Since => time.GetElapsedTime(began);

    private void Write(ReadOnlyMemory<byte> line)
    {
        if (written + line.Length > most)
        {
            throw new ChannelTapException("This recording is full; connect again to go on with another.");
        }
        file.Write(line.Span);
        written += line.Length;
    }
}
