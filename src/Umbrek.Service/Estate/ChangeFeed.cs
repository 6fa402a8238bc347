namespace Umbrek.Service.Estate;

/// <summary>
/// Tells readers what changed, coalesced: a reader that is slow finds each key once, however often it changed. A reader
/// never holds up the writer.
/// </summary>
public sealed class ChangeFeed<TKey> where TKey : notnull
{
    private readonly Lock gate = new();
    private Reader[] readers = [];

    public bool HasReaders => readers.Length > 0;

    public void Publish(TKey key)
    {
        foreach (var reader in readers)
        {
            reader.Add(key);
        }
    }

    /// <summary>Starts listening; dispose to stop.</summary>
    public Reader Subscribe()
    {
        var reader = new Reader(this);
        lock (gate)
        {
            readers = [.. readers, reader];
        }
        return reader;
    }

    public sealed class Reader(ChangeFeed<TKey> feed) : IDisposable
    {
        private readonly Lock gate = new();
        private readonly SemaphoreSlim signal = new(0, 1);
        private HashSet<TKey> changed = [];

        /// <summary>Waits for the next change and takes all there are.</summary>
        public async Task<IReadOnlyCollection<TKey>> TakeAsync(CancellationToken cancel)
        {
            await signal.WaitAsync(cancel).ConfigureAwait(false);
            lock (gate)
            {
                var taken = changed;
                changed = [];
                return taken;
            }
        }

        public void Dispose()
        {
            lock (feed.gate)
            {
                feed.readers = [.. feed.readers.Where(r => r != this)];
            }
        }

        internal void Add(TKey key)
        {
            lock (gate)
            {
                changed.Add(key);
                if (signal.CurrentCount == 0)
                {
                    signal.Release();
                }
            }
        }
    }
}
