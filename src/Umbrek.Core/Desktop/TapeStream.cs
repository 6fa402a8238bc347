namespace Umbrek.Core.Desktop;

/// <summary>The bytes of RFB in a recording, for who reads them as they were sent. What he says goes nowhere.</summary>
internal sealed class TapeStream(TapeReader tape) : LineStream
{
    private TapeEntry? entry;
    private int used;

    /// <summary>The entry that comes next, once it was looked for.</summary>
    public TapeEntry? Ahead => entry;

    public async Task<TapeEntry?> LookAsync(CancellationToken cancel)
    {
        if (entry is null || entry.Kind == TapeKinds.Rfb && used == entry.Bytes.Length)
        {
            (entry, used) = (await tape.ReadAsync(cancel).ConfigureAwait(false), 0);
        }
        return entry;
    }

    public void Skip() => (entry, used) = (null, 0);

    public override async ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken cancellationToken = default)
    {
        // Other entries may stand in the middle of a picture; who reads it does not miss them.
        while (await LookAsync(cancellationToken).ConfigureAwait(false) is { } next)
        {
            if (next.Kind == TapeKinds.Opened)
            {
                return 0;
            }
            if (next.Kind == TapeKinds.Rfb && next.Bytes.Length > 0)
            {
                var count = Math.Min(buffer.Length, next.Bytes.Length - used);
                next.Bytes.Slice(used, count).CopyTo(buffer);
                used += count;
                return count;
            }
            Skip();
        }
        return 0;
    }

    public override ValueTask WriteAsync(ReadOnlyMemory<byte> buffer, CancellationToken cancellationToken = default) => ValueTask.CompletedTask;
}
