namespace Umbrek.Agent.Files.Archives;

/// <summary>A stream that is only read, from its beginning to its end.</summary>
public abstract class ReadingStream : Stream
{
    public override bool CanRead => true;
    public override bool CanSeek => false;
    public override bool CanWrite => false;
    public override long Length => throw new NotSupportedException();

    public override long Position
    {
        get => throw new NotSupportedException();
        set => throw new NotSupportedException();
    }

    public abstract override int Read(Span<byte> buffer);

    public override int Read(byte[] buffer, int offset, int count) => Read(buffer.AsSpan(offset, count));

    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

    public override void Flush()
    {
    }

    public override void SetLength(long value) => throw new NotSupportedException();

    public override void Write(byte[] buffer, int offset, int count) => throw new NotSupportedException();
}

/// <summary>A file of this host as a stream, as long as it was when it was opened: what is missing then is zeros, and said.</summary>
/// <param name="owns">The file is closed with the stream.</param>
public sealed class SourceStream(IFileSource source, CancellationToken cancel, bool owns = false) : ReadingStream
{
    public override bool CanSeek => true;
    public override long Length => source.Entry.Bytes;
    public override long Position { get; set; }

    /// <summary>It became shorter while it was read.</summary>
    public bool IsCut { get; private set; }

    public override int Read(Span<byte> buffer)
    {
        cancel.ThrowIfCancellationRequested();
        buffer = buffer[..(int)Math.Clamp(Length - Position, 0, buffer.Length)];
        if (buffer.IsEmpty)
        {
            return 0;
        }
        var got = IsCut ? 0 : source.Read(Position, buffer);
        if (got == 0)
        {
            IsCut = true;
            buffer.Clear();
            got = buffer.Length;
        }
        Position += got;
        return got;
    }

    public override long Seek(long offset, SeekOrigin origin) => Position = origin switch { SeekOrigin.Begin => offset, SeekOrigin.Current => Position + offset, _ => Length + offset };

    protected override void Dispose(bool disposing)
    {
        if (disposing && owns)
        {
            source.Dispose();
        }
        base.Dispose(disposing);
    }
}

/// <summary>A file that is written from its beginning to its end.</summary>
public sealed class SinkStream(IFileSink sink, CancellationToken cancel) : Stream
{
    private long at;

    public override bool CanRead => false;
    public override bool CanSeek => false;
    public override bool CanWrite => true;
    public override long Length => throw new NotSupportedException();

    public override long Position
    {
        get => at;
        set => throw new NotSupportedException();
    }

    /// <summary>What was in the way of writing; nothing goes on then.</summary>
    public IOException? Trouble { get; private set; }

    public override void Write(byte[] buffer, int offset, int count) => Write(buffer.AsSpan(offset, count));

    public override void Write(ReadOnlySpan<byte> buffer)
    {
        cancel.ThrowIfCancellationRequested();
        try
        {
            sink.Write(at, buffer.ToArray());
            at += buffer.Length;
        }
        catch (IOException e)
        {
            Trouble = e;
            throw;
        }
    }

    public override void Flush()
    {
    }

    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

    public override void SetLength(long value) => throw new NotSupportedException();
}
