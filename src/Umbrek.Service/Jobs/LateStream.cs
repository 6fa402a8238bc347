namespace Umbrek.Service.Jobs;

/// <summary>
/// Keeps the few bytes that are written synchronously until something is written asynchronously: an archive ends each of its
/// files so, and the web server takes no synchronous writing. Disposing writes what is left, and leaves the target open.
/// </summary>
internal sealed class LateStream(Stream target) : Stream
{
    private readonly MemoryStream late = new();

    public override bool CanRead => false;
    public override bool CanSeek => false;
    public override bool CanWrite => true;
    public override long Length => throw new NotSupportedException();

    public override long Position
    {
        get => throw new NotSupportedException();
        set => throw new NotSupportedException();
    }

    public override void Write(byte[] buffer, int offset, int count) => late.Write(buffer, offset, count);

    public override void Write(ReadOnlySpan<byte> buffer) => late.Write(buffer);

    public override Task WriteAsync(byte[] buffer, int offset, int count, CancellationToken cancellationToken) => WriteAsync(buffer.AsMemory(offset, count), cancellationToken).AsTask();

    public override async ValueTask WriteAsync(ReadOnlyMemory<byte> buffer, CancellationToken cancellationToken = default)
    {
        await CatchUpAsync(cancellationToken).ConfigureAwait(false);
        await target.WriteAsync(buffer, cancellationToken).ConfigureAwait(false);
    }

    public override void Flush()
    {
        // Comes with the next asynchronous write.
    }

    public override async Task FlushAsync(CancellationToken cancellationToken)
    {
        await CatchUpAsync(cancellationToken).ConfigureAwait(false);
        await target.FlushAsync(cancellationToken).ConfigureAwait(false);
    }

    public override async ValueTask DisposeAsync()
    {
        await CatchUpAsync(CancellationToken.None).ConfigureAwait(false);
        await late.DisposeAsync().ConfigureAwait(false);
        await base.DisposeAsync().ConfigureAwait(false);
    }

    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

    public override void SetLength(long value) => throw new NotSupportedException();

    private async Task CatchUpAsync(CancellationToken cancel)
    {
        if (late.Length > 0)
        {
            await target.WriteAsync(late.GetBuffer().AsMemory(0, (int)late.Length), cancel).ConfigureAwait(false);
            late.SetLength(0);
        }
    }
}
