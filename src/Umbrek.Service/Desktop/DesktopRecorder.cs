using System.Net.WebSockets;
using System.Text.Json;
using Umbrek.Core.Desktop;
using Umbrek.Service.Relay;
using Umbrek.Service.Sessions;
using Umbrek.Wire;
using Umbrek.Wire.Desktop;

namespace Umbrek.Service.Desktop;

/// <summary>
/// Writes down what goes over a desktop's channel before its other end gets it. What can't be written does not go on: nothing is shown
/// there that is not recorded.
/// </summary>
public sealed class DesktopRecorder : IChannelTap
{
    private readonly Lock gate = new();
    private readonly FileStream file;
    private readonly TapeHeader header;
    private readonly TapeScribe scribe;
    private readonly long most;
    private readonly TimeProvider time;
    private readonly Action<RecordedChannel?> over;
    private readonly long began;
    private bool hidden;
    private readonly List<byte> word = [];
    private RecordedChannel? shown;
    private bool isOver;
    private long written;

    /// <param name="keys">What is typed is recorded as well.</param>
    /// <param name="most">Bytes of one recording; with more the channel ends, and whoever comes back begins another.</param>
    /// <param name="over">Called once, with what was learnt of the desktop, or null when none was shown: then nothing is written.</param>
    public DesktopRecorder(FileStream file, TapeHeader header, bool keys, long most, TimeProvider time, Action<RecordedChannel?> over)
    {
        (this.file, this.header, this.most, this.time, this.over) = (file, header, most, time, over);
        began = time.GetTimestamp();
        scribe = new TapeScribe(keys, Write);
    }

    public void See(bool fromHost, WebSocketMessageType type, ReadOnlySpan<byte> bytes, bool endOfMessage)
    {
        lock (gate)
        {
            if (isOver)
            {
                throw new ChannelTapException("The recording has ended.");
            }
            try
            {
                if (type == WebSocketMessageType.Text)
                {
                    if (fromHost)
                    {
                        SeeWord(bytes, endOfMessage);
                    }
                }
                else if (shown is not null && fromHost)
                {
                    scribe.HostSays(Since, bytes);
                }
                else if (shown is not null)
                {
                    scribe.ViewerSays(Since, bytes);
                }
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                throw new ChannelTapException($"The recording can't be written: {e.Message}");
            }
            catch (RfbException e)
            {
                throw new ChannelTapException(e.Message);
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
        over(shown);
    }

    private void SeeWord(ReadOnlySpan<byte> bytes, bool endOfMessage)
    {
        if (word.Count + bytes.Length > DesktopWord.MaxMessage)
        {
            throw new ChannelTapException("A word is longer than any of a desktop.");
        }
        word.AddRange(bytes);
        if (!endOfMessage)
        {
            return;
        }
        var text = word.ToArray();
        word.Clear();
        DesktopWord? said;
        try
        {
            said = JsonSerializer.Deserialize(text, LinkJson.Default.DesktopWord);
        }
        catch (JsonException)
        {
            // Its receiver complains.
            return;
        }
        if (said?.Opened is { } opened)
        {
            if (shown is null)
            {
                scribe.Begin(header);
            }
            shown = new RecordedChannel(null, opened.Person ?? shown?.User);
            scribe.Opened(Since, opened.Screen, opened.Person, opened.Control);
        }
        else if (shown is null)
        {
            return;
        }
        else if (said?.Gone is { } why)
        {
            scribe.Gone(Since, why);
        }
        else if (said?.Hold is { } hold)
        {
            scribe.InputTaken(Since, hold.IsTaken);
            if (hold.IsHidden != hidden)
            {
                hidden = hold.IsHidden;
                scribe.Mark(Since, hidden ? "The screen is hidden from the people there" : "The people there see the screen again");
            }
        }
        else if (said?.Person is { } person)
        {
            shown = new RecordedChannel(null, person.Name ?? shown.User);
            scribe.Mark(Since, person.ToString());
        }
        else if (said?.Typed is { } secret)
        {
            scribe.SecretTyped(Since, secret);
        }
        else if (said?.Others is { Count: > 0 } others)
        {
            scribe.Mark(Since, $"Also here: {string.Join(", ", others.Select(o => $"{o.Technician} {(o.Control ? "controls" : "watches")}"))}");
        }
    }

    private TimeSpan Since => time.GetElapsedTime(began);

    private void Write(ReadOnlyMemory<byte> entry)
    {
        if (written + entry.Length > most)
        {
            throw new ChannelTapException("This recording is full; connect again to go on with another.");
        }
        file.Write(entry.Span);
        written += entry.Length;
    }
}
