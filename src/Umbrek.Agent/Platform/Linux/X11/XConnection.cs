using System.Buffers.Binary;
using System.Net.Sockets;
using System.Text;
using Umbrek.Agent.Desktop;

namespace Umbrek.Agent.Platform.Linux.X11;

/// <summary>An X server said no to one request.</summary>
/// <param name="code">X Window System Protocol, "Errors": 10 is Access, 11 Alloc, 8 Match.</param>
public sealed class XErrorException(byte code, byte request) : Exception($"the X server answers request {request} with error {code}")
{
    public byte Code => code;
}

/// <summary>How a server shows pixels.</summary>
/// <param name="BitsPerPixel">That a pixel takes in memory.</param>
public sealed record XVisual(byte Depth, byte BitsPerPixel, uint RedMask, uint GreenMask, uint BlueMask);

/// <summary>What a server says of itself when one comes to it.</summary>
public sealed record XSetup(uint IdBase, uint IdMask, uint Root, uint RootVisual, int Width, int Height, byte MinKeyCode, byte MaxKeyCode, XVisual Visual);

/// <summary>
/// A connection to an X server over its socket (X Window System Protocol, version 11). It speaks the protocol itself, so a host needs no
/// library for it, and no error of the server's ends the program.
/// </summary>
public sealed class XConnection : IAsyncDisposable
{
    private const int ReplyLength = 32;
    private const int MostReply = 256 * 1024 * 1024;

    private readonly Socket socket;
    private readonly NetworkStream stream;
    private readonly Lock gate = new();
    private readonly Queue<Waiting> waiting = new();
    private readonly Dictionary<string, XExtension?> extensions = [];
    private ushort sequence;
    private uint nextId;
    private Exception? gone;

    private readonly record struct Waiting(ushort Sequence, TaskCompletionSource<byte[]> Done, bool HasReply);

    private XConnection(Socket socket)
    {
        this.socket = socket;
        stream = new NetworkStream(socket, ownsSocket: true);
    }

    public XSetup Setup { get; private set; } = null!;

    /// <summary>Completes when the server has gone.</summary>
    public Task Gone { get; private set; } = Task.CompletedTask;

    /// <summary>Called with each event, one after the other: 32 bytes.</summary>
    public Action<byte[]>? Event { get; set; }

    /// <param name="path">Of its socket; one that begins with a zero byte lies in no directory.</param>
    /// <param name="cookie">MIT-MAGIC-COOKIE-1, or null.</param>
    /// <exception cref="IOException">There is none, or it lets nobody in with that.</exception>
    public static async Task<XConnection> OpenAsync(string path, byte[]? cookie, CancellationToken cancel)
    {
        var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        try
        {
            await socket.ConnectAsync(new UnixDomainSocketEndPoint(path), cancel).ConfigureAwait(false);
        }
        catch (SocketException e)
        {
            socket.Dispose();
            throw new IOException($"The X server at {path} does not answer: {e.Message}", e);
        }
        var connection = new XConnection(socket);
        try
        {
            await connection.BeginAsync(cookie, cancel).ConfigureAwait(false);
        }
        catch
        {
            await connection.DisposeAsync().ConfigureAwait(false);
            throw;
        }
        connection.Gone = connection.ReadAsync();
        return connection;
    }

    public uint NewId() => Setup.IdBase | (Interlocked.Increment(ref nextId) & Setup.IdMask);

    /// <summary>Sends a request that has no reply; an error that it causes is left alone.</summary>
    /// <exception cref="ScreenGoneException">The server has gone.</exception>
    public void Send(XRequest request)
    {
        lock (gate)
        {
            Write(request);
        }
    }

    /// <summary>Sends a request and waits for its reply.</summary>
    /// <exception cref="XErrorException">The server says no.</exception>
    /// <exception cref="ScreenGoneException">It has gone.</exception>
    public Task<byte[]> AskAsync(XRequest request)
    {
        lock (gate)
        {
            return Await(request, hasReply: true);
        }
    }

    /// <summary>Sends a request that has no reply, and waits until it is known that it went well.</summary>
    /// <exception cref="XErrorException">The server says no.</exception>
    /// <exception cref="ScreenGoneException">It has gone.</exception>
    public async Task CheckAsync(XRequest request)
    {
        Task<byte[]> done;
        lock (gate)
        {
            done = Await(request, hasReply: false);
            _ = Await(new XRequest(43), hasReply: true);
        }
        await done.ConfigureAwait(false);
    }

    /// <returns>Null where the server does not have it.</returns>
    public async Task<XExtension?> FindAsync(string name)
    {
        if (extensions.TryGetValue(name, out var known))
        {
            return known;
        }
        var reply = await AskAsync(new XRequest(98).U16(name.Length).U16(0).Text(name)).ConfigureAwait(false);
        return extensions[name] = reply[8] == 0 ? null : new XExtension(reply[9], reply[10]);
    }

    public async Task<uint> AtomAsync(string name)
    {
        var reply = await AskAsync(new XRequest(16).U16(name.Length).U16(0).Text(name)).ConfigureAwait(false);
        return XReply.U32(reply, 8);
    }

    public async ValueTask DisposeAsync()
    {
        await stream.DisposeAsync().ConfigureAwait(false);
        await Gone.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
    }

    private Task<byte[]> Await(XRequest request, bool hasReply)
    {
        var done = new TaskCompletionSource<byte[]>(TaskCreationOptions.RunContinuationsAsynchronously);
        // Before it is sent: its reply is not read before this lock is let go.
        waiting.Enqueue(new Waiting((ushort)(sequence + 1), done, hasReply));
        Write(request);
        return done.Task;
    }

    private void Write(XRequest request)
    {
        if (gone is not null)
        {
            throw new ScreenGoneException("The X server has ended.");
        }
        sequence++;
        try
        {
            stream.Write(request.Finish());
        }
        catch (IOException)
        {
            throw new ScreenGoneException("The X server has ended.");
        }
    }

    private async Task BeginAsync(byte[]? cookie, CancellationToken cancel)
    {
        const string method = "MIT-MAGIC-COOKIE-1";
        var (name, data) = cookie is null ? ("", []) : (method, cookie);
        var hello = new byte[12 + Pad(name.Length) + Pad(data.Length)];
        hello[0] = (byte)'l';
        BinaryPrimitives.WriteUInt16LittleEndian(hello.AsSpan(2), 11);
        BinaryPrimitives.WriteUInt16LittleEndian(hello.AsSpan(6), (ushort)name.Length);
        BinaryPrimitives.WriteUInt16LittleEndian(hello.AsSpan(8), (ushort)data.Length);
        Encoding.ASCII.GetBytes(name, hello.AsSpan(12));
        data.CopyTo(hello, 12 + Pad(name.Length));
        await stream.WriteAsync(hello, cancel).ConfigureAwait(false);

        var head = new byte[8];
        byte[] body;
        try
        {
            await stream.ReadExactlyAsync(head, cancel).ConfigureAwait(false);
            body = new byte[4 * BinaryPrimitives.ReadUInt16LittleEndian(head.AsSpan(6))];
            await stream.ReadExactlyAsync(body, cancel).ConfigureAwait(false);
        }
        catch (EndOfStreamException e)
        {
            throw new IOException("The X server hung up.", e);
        }
        if (head[0] != 1)
        {
            var why = Encoding.UTF8.GetString(body.AsSpan(0, Math.Min((int)head[1], body.Length))).Trim();
            throw new IOException($"The X server lets nobody in: {(why.Length > 0 ? why : "it asks for more")}.");
        }
        Setup = ReadSetup(body);
    }

    private static XSetup ReadSetup(byte[] body)
    {
        var vendor = XReply.U16(body, 16);
        var formats = body[21];
        var at = 32 + Pad(vendor);
        var bits = new Dictionary<byte, byte>();
        for (var i = 0; i < formats; i++, at += 8)
        {
            bits[body[at]] = body[at + 1];
        }
        var (root, width, height, rootVisual, rootDepth, depths) = (XReply.U32(body, at), XReply.U16(body, at + 20), XReply.U16(body, at + 22), XReply.U32(body, at + 32), body[at + 38], body[at + 39]);
        at += 40;
        XVisual? visual = null;
        for (var i = 0; i < depths; i++)
        {
            var (depth, visuals) = (body[at], XReply.U16(body, at + 2));
            at += 8;
            for (var j = 0; j < visuals; j++, at += 24)
            {
                if (XReply.U32(body, at) == rootVisual)
                {
                    visual = new XVisual(rootDepth, bits.GetValueOrDefault(rootDepth), XReply.U32(body, at + 8), XReply.U32(body, at + 12), XReply.U32(body, at + 16));
                }
            }
            _ = depth;
        }
        return new XSetup(
            XReply.U32(body, 4), XReply.U32(body, 8), root, rootVisual, width, height, body[26], body[27],
            visual ?? throw new IOException("The X server does not say how it shows pixels."));
    }

    private async Task ReadAsync()
    {
        var head = new byte[ReplyLength];
        try
        {
            while (true)
            {
                await stream.ReadExactlyAsync(head).ConfigureAwait(false);
                var more = head[0] is 1 or 35 ? 4L * XReply.U32(head, 4) : 0;
                if (more > MostReply)
                {
                    throw new IOException($"a reply of {more} bytes");
                }
                var all = new byte[ReplyLength + more];
                head.CopyTo(all, 0);
                await stream.ReadExactlyAsync(all.AsMemory(ReplyLength)).ConfigureAwait(false);
                Take(all);
            }
        }
        catch (Exception e) when (e is IOException or ObjectDisposedException or OperationCanceledException)
        {
            lock (gate)
            {
                gone = e;
                while (waiting.TryDequeue(out var one))
                {
                    one.Done.TrySetException(new ScreenGoneException("The X server has ended."));
                }
            }
        }
    }

    private void Take(byte[] message)
    {
        var number = XReply.U16(message, 2);
        if (message[0] is 0 or 1)
        {
            lock (gate)
            {
                // What was asked before, and has no reply, went well.
                while (waiting.TryPeek(out var before) && (short)(before.Sequence - number) < 0)
                {
                    waiting.Dequeue();
                    before.Done.TrySetResult([]);
                }
                if (waiting.TryPeek(out var mine) && mine.Sequence == number)
                {
                    waiting.Dequeue();
                    if (message[0] == 0)
                    {
                        mine.Done.TrySetException(new XErrorException(message[1], message[10]));
                    }
                    else
                    {
                        mine.Done.TrySetResult(message);
                    }
                }
            }
            return;
        }
        Event?.Invoke(message);
    }

    private static int Pad(int length) => (length + 3) & ~3;
}

/// <param name="Opcode">Of its requests.</param>
/// <param name="FirstEvent">Its events count from here.</param>
public sealed record XExtension(byte Opcode, byte FirstEvent);

/// <summary>Reads parts of replies and events, which come in the byte order that was asked for.</summary>
public static class XReply
{
    public static ushort U16(ReadOnlySpan<byte> data, int at) => BinaryPrimitives.ReadUInt16LittleEndian(data[at..]);

    public static short S16(ReadOnlySpan<byte> data, int at) => BinaryPrimitives.ReadInt16LittleEndian(data[at..]);

    public static uint U32(ReadOnlySpan<byte> data, int at) => BinaryPrimitives.ReadUInt32LittleEndian(data[at..]);
}

/// <summary>A request as it goes over the wire: opcode, one byte of its own, and what follows.</summary>
public sealed class XRequest
{
    private byte[] bytes = new byte[64];
    private int length = 4;

    public XRequest(byte opcode, byte own = 0) => (bytes[0], bytes[1]) = (opcode, own);

    /// <summary>One of an extension's.</summary>
    public XRequest(XExtension extension, byte minor)
        : this(extension.Opcode, minor)
    {
    }

    public XRequest U8(byte value)
    {
        Room(1)[0] = value;
        length++;
        return this;
    }

    public XRequest U16(int value)
    {
        BinaryPrimitives.WriteUInt16LittleEndian(Room(2), (ushort)value);
        length += 2;
        return this;
    }

    public XRequest U32(uint value)
    {
        BinaryPrimitives.WriteUInt32LittleEndian(Room(4), value);
        length += 4;
        return this;
    }

    /// <summary>Bytes that say nothing.</summary>
    public XRequest Skip(int count)
    {
        Room(count)[..count].Clear();
        length += count;
        return this;
    }

    public XRequest Data(ReadOnlySpan<byte> data)
    {
        data.CopyTo(Room(data.Length));
        length += data.Length;
        return this;
    }

    public XRequest Text(string text) => Data(Encoding.ASCII.GetBytes(text));

    /// <summary>All of it, with its length in words of four bytes.</summary>
    internal ReadOnlySpan<byte> Finish()
    {
        Skip((4 - length % 4) % 4);
        BinaryPrimitives.WriteUInt16LittleEndian(bytes.AsSpan(2), (ushort)(length / 4));
        return bytes.AsSpan(0, length);
    }

    private Span<byte> Room(int more)
    {
        if (bytes.Length < length + more)
        {
            Array.Resize(ref bytes, Math.Max(2 * bytes.Length, length + more));
        }
        return bytes.AsSpan(length);
    }
}
