using System.Buffers.Binary;
using System.Net.WebSockets;
using System.Text.Json;
using Umbrek.Core.Desktop;
using Umbrek.Wire;
using Umbrek.Wire.Desktop;

namespace Umbrek.Agent.Desktop;

/// <summary>Whether a technician acts at a desktop just now, and what he wishes about that.</summary>
internal sealed class Hands
{
    private volatile bool mine = true;

    public bool AreMine => mine;

    /// <summary>Told when he has done something.</summary>
    public Action? Acted { get; set; }

    /// <summary>Told what he wishes.</summary>
    public Action<HandsWish>? Wish { get; set; }

    public event Action? Lost;

    public void Turn(bool now)
    {
        var had = mine;
        mine = now;
        if (had && !now)
        {
            Lost?.Invoke();
        }
    }
}

/// <summary>
/// What a technician's viewer says goes to the screen that is shown; while there is none, nowhere, and what he does there only as long as
/// it is he who acts.
/// </summary>
internal sealed class DesktopViewer : IDisposable
{
    private const int Piece = 64 * 1024;
    private const int KeyLength = 8;
    private const uint Return = 0xFF0D;

    private readonly WebSocket socket;
    private readonly Hands hands;
    private readonly Func<DesktopAsk, Task> heed;
    private readonly ViewerFilter filter = new();
    private readonly SemaphoreSlim turn = new(1);
    private Stream? line;

    public DesktopViewer(WebSocket socket, Hands hands, Func<DesktopAsk, Task> heed)
    {
        (this.socket, this.hands, this.heed) = (socket, hands, heed);
        filter.Acted += () => hands.Acted?.Invoke();
        hands.Lost += () => _ = LetGoAsync();
    }

    /// <param name="to">The screen that is shown from now on; null where there is none.</param>
    public void Show(Stream? to)
    {
        filter.Begin();
        Volatile.Write(ref line, to);
    }

    /// <summary>Until he goes.</summary>
    public async Task HearAsync(CancellationToken cancel)
    {
        var buffer = new byte[Piece];
        while (true)
        {
            var got = await socket.ReceiveAsync(buffer.AsMemory(), cancel).ConfigureAwait(false);
            if (got.MessageType == WebSocketMessageType.Close)
            {
                return;
            }
            if (got.MessageType == WebSocketMessageType.Text && got.EndOfMessage)
            {
                await HeedAsync(buffer.AsMemory(0, got.Count)).ConfigureAwait(false);
            }
            if (got.MessageType == WebSocketMessageType.Binary && Volatile.Read(ref line) is { } to)
            {
                await SayAsync(to, buffer.AsMemory(0, got.Count), cancel).ConfigureAwait(false);
            }
        }
    }

    /// <summary>Types a text where his keys go.</summary>
    /// <returns>False where they go nowhere.</returns>
    public async Task<bool> TypeAsync(string text, bool enter, CancellationToken cancel)
    {
        var words = new List<byte>();
        foreach (var letter in text.EnumerateRunes())
        {
            Press(words, letter.Value <= 0xFF ? (uint)letter.Value : 0x01000000u | (uint)letter.Value);
        }
        if (enter)
        {
            Press(words, Return);
        }
        await turn.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            if (!hands.AreMine || Volatile.Read(ref line) is not { } to || !filter.IsAsking)
            {
                return false;
            }
            // One by one, as fingers would: what is typed into reads them as they come.
            foreach (var word in words.ToArray().Chunk(2 * KeyLength))
            {
                await to.WriteAsync(word, cancel).ConfigureAwait(false);
            }
            return true;
        }
        catch (Exception e) when (e is IOException or ObjectDisposedException)
        {
            return false;
        }
        finally
        {
            turn.Release();
        }
    }

    private static void Press(List<byte> to, uint sym)
    {
        foreach (var down in new byte[] { 1, 0 })
        {
            var word = new byte[KeyLength];
            (word[0], word[1]) = (RfbMessage.Key, down);
            BinaryPrimitives.WriteUInt32BigEndian(word.AsSpan(4), sym);
            to.AddRange(word);
        }
    }

    public void Dispose() => turn.Dispose();

    private async Task SayAsync(Stream to, ReadOnlyMemory<byte> bytes, CancellationToken cancel)
    {
        await turn.WaitAsync(cancel).ConfigureAwait(false);
        try
        {
            filter.MayAct = hands.AreMine;
            await filter.PassAsync(bytes, async part => await to.WriteAsync(part, cancel).ConfigureAwait(false)).ConfigureAwait(false);
        }
        catch (RfbException)
        {
            // Whoever shows the screen says so, and ends it.
            await to.WriteAsync(bytes, cancel).ConfigureAwait(false);
        }
        catch (Exception e) when (e is IOException or ObjectDisposedException)
        {
            // It goes just now.
        }
        finally
        {
            turn.Release();
        }
    }

    /// <summary>Keys that are held when another begins to act are held no longer.</summary>
    private async Task LetGoAsync()
    {
        try
        {
            await turn.WaitAsync().ConfigureAwait(false);
        }
        catch (ObjectDisposedException)
        {
            return;
        }
        try
        {
            if (Volatile.Read(ref line) is { } to && filter.LetGo() is { Length: > 0 } words)
            {
                await to.WriteAsync(words).ConfigureAwait(false);
            }
        }
        catch (Exception e) when (e is IOException or ObjectDisposedException)
        {
            // It goes just now.
        }
        finally
        {
            turn.Release();
        }
    }

    private async Task HeedAsync(ReadOnlyMemory<byte> text)
    {
        try
        {
            if (JsonSerializer.Deserialize(text.Span, LinkJson.Default.DesktopAsk) is { } ask)
            {
                await heed(ask).ConfigureAwait(false);
            }
        }
        catch (JsonException)
        {
            // A word that is not known here changes nothing.
        }
    }
}
