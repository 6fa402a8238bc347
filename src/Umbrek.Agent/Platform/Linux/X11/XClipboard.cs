using System.Text;
using Umbrek.Core.Desktop;

namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>
/// The clipboard of a screen: the selection CLIPBOARD of the Inter-Client Communication Conventions (ICCCM 2). Text that a technician
/// puts there is owned by a window of ours, and given to whoever asks.
/// </summary>
public sealed class XClipboard : IDisposable
{
    /// <summary>So long an owner may take to give what it has.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(3);

    private const int Piece = 256 * 1024;

    private readonly XConnection connection;
    private readonly XExtension fixes;
    private readonly TimeProvider time;
    private readonly SemaphoreSlim reading = new(1, 1);
    private readonly uint window;
    private uint clipboard, utf8, targets, property, incremental, plain, mime;
    private TaskCompletionSource<bool>? converted;
    private TaskCompletionSource? arrived;
    private byte[]? ours;

    private XClipboard(XConnection connection, XExtension fixes, TimeProvider time)
    {
        (this.connection, this.fixes, this.time) = (connection, fixes, time);
        window = connection.NewId();
    }

    /// <summary>Somebody else has put something there.</summary>
    public Action? Changed { get; set; }

    public static async Task<XClipboard> OpenAsync(XConnection connection, XExtension fixes, TimeProvider time)
    {
        var clip = new XClipboard(connection, fixes, time);
        await clip.BeginAsync().ConfigureAwait(false);
        return clip;
    }

    /// <summary>The text that is there; null where there is none, or its owner does not give it.</summary>
    public async Task<string?> ReadAsync(CancellationToken cancel)
    {
        if (Volatile.Read(ref ours) is { } own)
        {
            return Encoding.UTF8.GetString(own);
        }
        await reading.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            var answered = converted = new(TaskCreationOptions.RunContinuationsAsynchronously);
            connection.Send(new XRequest(24).U32(window).U32(clipboard).U32(utf8).U32(property).U32(0));
            if (!await answered.Task.WaitAsync(Patience, time, cancel).ConfigureAwait(false))
            {
                return null;
            }
            var (type, bytes) = await TakeAsync().ConfigureAwait(false);
            var text = type == incremental ? await TakePiecesAsync(cancel).ConfigureAwait(false) : bytes;
            return text is null ? null : Encoding.UTF8.GetString(text);
        }
        catch (Exception e) when (e is TimeoutException or XErrorException)
        {
            return null;
        }
        finally
        {
            converted = null;
            arrived = null;
            reading.Release();
        }
    }

    public void Write(string text)
    {
        Volatile.Write(ref ours, Encoding.UTF8.GetBytes(text));
        connection.Send(new XRequest(22).U32(window).U32(clipboard).U32(0));
    }

    /// <summary>Takes an event.</summary>
    /// <returns>Whether it was about the clipboard.</returns>
    public bool Take(byte[] message)
    {
        switch (message[0] & 0x7F)
        {
            case 31 when XReply.U32(message, 8) == window:
                converted?.TrySetResult(XReply.U32(message, 20) != 0);
                return true;
            case 30 when XReply.U32(message, 8) == window:
                Give(message);
                return true;
            case 29 when XReply.U32(message, 8) == window:
                Volatile.Write(ref ours, null);
                return true;
            case 28 when XReply.U32(message, 4) == window:
                // A new value, not one that was deleted.
                if (message[16] == 0)
                {
                    arrived?.TrySetResult();
                }
                return true;
            case var code when code == fixes.FirstEvent:
                if (XReply.U32(message, 8) != window)
                {
                    Volatile.Write(ref ours, null);
                    Changed?.Invoke();
                }
                return true;
            default:
                return false;
        }
    }

    public void Dispose() => reading.Dispose();

    private async Task BeginAsync()
    {
        clipboard = await connection.AtomAsync("CLIPBOARD").ConfigureAwait(false);
        utf8 = await connection.AtomAsync("UTF8_STRING").ConfigureAwait(false);
        targets = await connection.AtomAsync("TARGETS").ConfigureAwait(false);
        property = await connection.AtomAsync("UMBREK_TEXT").ConfigureAwait(false);
        incremental = await connection.AtomAsync("INCR").ConfigureAwait(false);
        plain = await connection.AtomAsync("STRING").ConfigureAwait(false);
        mime = await connection.AtomAsync("text/plain;charset=utf-8").ConfigureAwait(false);
        // A window that only takes input, of one pixel, never shown; it hears of its properties.
        await connection.CheckAsync(new XRequest(1, 0).U32(window).U32(connection.Setup.Root).U16(0).U16(0).U16(1).U16(1).U16(0).U16(2).U32(0).U32(0x800).U32(0x400000)).ConfigureAwait(false);
        connection.Send(new XRequest(fixes, 2).U32(window).U32(clipboard).U32(1));
    }

    private async Task<(uint Type, byte[] Bytes)> TakeAsync()
    {
        // Read and deleted at once (delete = 1), so that the next piece can come.
        var reply = await connection.AskAsync(new XRequest(20, 1).U32(window).U32(property).U32(0).U32(0).U32(RfbClientReader.MostText / 4)).ConfigureAwait(false);
        var length = (int)XReply.U32(reply, 16) * (reply[1] / 8);
        return (XReply.U32(reply, 8), reply.AsSpan(32, Math.Min(length, reply.Length - 32)).ToArray());
    }

    /// <summary>What is too long for one property comes in pieces, up to an empty one (ICCCM 2.7.2).</summary>
    private async Task<byte[]?> TakePiecesAsync(CancellationToken cancel)
    {
        using var all = new MemoryStream();
        while (true)
        {
            var next = arrived = new(TaskCreationOptions.RunContinuationsAsynchronously);
            var (type, bytes) = await TakeAsync().ConfigureAwait(false);
            if (type == 0)
            {
                await next.Task.WaitAsync(Patience, time, cancel).ConfigureAwait(false);
                continue;
            }
            if (bytes.Length == 0)
            {
                return all.ToArray();
            }
            all.Write(bytes);
            if (all.Length > RfbClientReader.MostText)
            {
                return null;
            }
        }
    }

    /// <summary>Somebody asks for our text.</summary>
    private void Give(byte[] request)
    {
        var (at, requestor, selection, target, into) = (XReply.U32(request, 4), XReply.U32(request, 12), XReply.U32(request, 16), XReply.U32(request, 20), XReply.U32(request, 24));
        // A requestor of old names no property and means the target.
        into = into == 0 ? target : into;
        var given = 0u;
        if (Volatile.Read(ref ours) is { } text)
        {
            if (target == targets)
            {
                var all = new XRequest(18, 0).U32(requestor).U32(into).U32(4).U8(32).Skip(3).U32(4).U32(targets).U32(utf8).U32(mime).U32(plain);
                connection.Send(all);
                given = into;
            }
            else if ((target == utf8 || target == mime || target == plain) && (target != plain || Encoding.UTF8.GetCharCount(text) == text.Length))
            {
                PutText(requestor, into, target, text);
                given = into;
            }
        }
        var answer = new byte[32];
        answer[0] = 31;
        BitConverter.TryWriteBytes(answer.AsSpan(4), at);
        BitConverter.TryWriteBytes(answer.AsSpan(8), requestor);
        BitConverter.TryWriteBytes(answer.AsSpan(12), selection);
        BitConverter.TryWriteBytes(answer.AsSpan(16), target);
        BitConverter.TryWriteBytes(answer.AsSpan(20), given);
        connection.Send(new XRequest(25, 0).U32(requestor).U32(0).Data(answer));
    }

    /// <summary>A request holds 256 KiB at most without an extension, so a long text is put there piece by piece before it is told of.</summary>
    private void PutText(uint requestor, uint into, uint type, byte[] text)
    {
        for (var at = 0; at == 0 || at < text.Length; at += Piece / 2)
        {
            var piece = text.AsSpan(at, Math.Min(Piece / 2, text.Length - at));
            connection.Send(new XRequest(18, (byte)(at == 0 ? 0 : 2)).U32(requestor).U32(into).U32(type).U8(8).Skip(3).U32((uint)piece.Length).Data(piece));
        }
    }
}
