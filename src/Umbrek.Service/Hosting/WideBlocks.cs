using System.Buffers;
using System.Collections.Concurrent;
using Microsoft.AspNetCore.Connections;

namespace Umbrek.Service.Hosting;

/// <summary>
/// The memory through which the web server reads and writes its connections, in blocks of 32 KiB. The framework's own are of
/// 4 KiB: a large file over TLS then goes to the system in pieces so small that most of the time is spent on them. A
/// connection on which nothing comes or goes has none.
/// </summary>
public sealed class WideBlocks : MemoryPool<byte>, IMemoryPoolFactory<byte>
{
    /// <summary>Bytes of a block: a record of TLS with its head fits in (RFC 8446, 5.1), and the beginning of the next.</summary>
    public const int Size = 32 << 10;

    /// <summary>Bytes of a connection without TLS that may wait for the system to take them, before its writer waits too; over TLS it waits at once.</summary>
    public const int Unsent = 8 * Size;

    /// <summary>Blocks that are kept for who asks next: 16 MiB. What is given back beyond is left to the collector.</summary>
    private const int Kept = 512;

    private readonly ConcurrentQueue<Block> free = new();
    private int count;

    public override int MaxBufferSize => Size;

    /// <summary>One pool for all that ask: what one connection gives back is the next one's.</summary>
    public MemoryPool<byte> Create(MemoryPoolOptions? options = null) => this;

    public override IMemoryOwner<byte> Rent(int minBufferSize = -1)
    {
        ArgumentOutOfRangeException.ThrowIfGreaterThan(minBufferSize, Size);
        if (free.TryDequeue(out var block))
        {
            Interlocked.Decrement(ref count);
        }
        else
        {
            block = new Block(this);
        }
        block.IsLent = true;
        return block;
    }

    /// <summary>Each part of the web server that goes gives its pool up; the others go on with it.</summary>
    protected override void Dispose(bool disposing)
    {
    }

    private void Return(Block block)
    {
        if (Interlocked.Increment(ref count) <= Kept)
        {
            free.Enqueue(block);
        }
        else
        {
            Interlocked.Decrement(ref count);
        }
    }

    private sealed class Block(WideBlocks pool) : IMemoryOwner<byte>
    {
        // Pinned: the sockets need not pin it for each call.
        private readonly byte[] bytes = GC.AllocateUninitializedArray<byte>(Size, pinned: true);

        private bool isLent;

        public bool IsLent
        {
            set => Volatile.Write(ref isLent, value);
        }

        public Memory<byte> Memory => bytes;

        public void Dispose()
        {
            // Given back twice it would be lent to two.
            if (Interlocked.Exchange(ref isLent, false))
            {
                pool.Return(this);
            }
        }
    }
}
