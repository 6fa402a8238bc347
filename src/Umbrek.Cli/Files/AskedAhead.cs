using System.Runtime.CompilerServices;
using System.Threading.Channels;

namespace Umbrek.Cli.Files;

/// <summary>
/// What one side has asked and the other has not answered, in its order. When as many are on their way as may be, half of them are
/// answered before the next is asked: the next half then goes in few messages, and not one by one as room comes for each.
/// </summary>
/// <typeparam name="T">What is kept of a question.</typeparam>
public sealed class AskedAhead<T>(int most)
{
    private readonly Channel<T> asked = Channel.CreateUnbounded<T>();
    private readonly Channel<bool> room = Channel.CreateBounded<bool>(new BoundedChannelOptions(1) { FullMode = BoundedChannelFullMode.DropWrite });
    private int onTheWay;

    /// <summary>Makes room for a question, which the caller then fills in.</summary>
    /// <param name="flush">Sends what was filled in: only what the other side has can be answered.</param>
    public async ValueTask AddAsync(T question, Func<CancellationToken, Task> flush, CancellationToken cancel)
    {
        if (Volatile.Read(ref onTheWay) >= most)
        {
            await flush(cancel).ConfigureAwait(false);
            while (Volatile.Read(ref onTheWay) > most / 2)
            {
                await room.Reader.ReadAsync(cancel).ConfigureAwait(false);
            }
        }
        Interlocked.Increment(ref onTheWay);
        asked.Writer.TryWrite(question);
    }

    /// <summary>Each question, once the one before it is answered.</summary>
    public async IAsyncEnumerable<T> ReadAllAsync([EnumeratorCancellation] CancellationToken cancel)
    {
        await foreach (var next in asked.Reader.ReadAllAsync(cancel).ConfigureAwait(false))
        {
            yield return next;
            if (Interlocked.Decrement(ref onTheWay) == most / 2)
            {
                room.Writer.TryWrite(true);
            }
        }
    }

    /// <summary>What nobody waits for any more.</summary>
    public IEnumerable<T> TakeLeft()
    {
        while (asked.Reader.TryRead(out var left))
        {
            yield return left;
        }
    }

    /// <summary>Nothing more is asked.</summary>
    /// <param name="broken">Why not, when that was not all; whoever reads gets it behind the last question.</param>
    public void Complete(Exception? broken = null) => asked.Writer.TryComplete(broken);
}
