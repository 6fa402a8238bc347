namespace Umbrek.Core.Shell;

/// <summary>Which of a shell's streams bytes belong to.</summary>
public enum ShellStream : byte
{
    Input,
    Output,
    Error,
}

/// <summary>A piece of a shell's output.</summary>
/// <param name="Offset">How many bytes of output, of both streams together, came before it.</param>
public readonly record struct ShellPiece(ShellStream Stream, long Offset, ReadOnlyMemory<byte> Data);

/// <summary>
/// The newest output of a shell, so that whoever comes back to it sees what was missed. Bytes are counted from the shell's
/// beginning, both streams together.
/// </summary>
/// <param name="mostBytes">What is kept; older output makes room.</param>
public sealed class ShellOutput(int mostBytes)
{
    private readonly Queue<ShellPiece> pieces = new();

    /// <summary>The first byte that is still kept.</summary>
    public long Start { get; private set; }

    /// <summary>One behind the last byte.</summary>
    public long End { get; private set; }

    /// <summary>How many more bytes can come without any being dropped.</summary>
    public long Room => mostBytes - (End - Start);

    /// <summary>Keeps the bytes, which the caller does not change any more.</summary>
    public void Add(ShellStream stream, ReadOnlyMemory<byte> data)
    {
        if (data.IsEmpty)
        {
            return;
        }
        pieces.Enqueue(new ShellPiece(stream, End, data));
        End += data.Length;
        DropBefore(End - mostBytes);
    }

    /// <summary>Forgets what stands before an offset.</summary>
    public void DropBefore(long offset)
    {
        while (pieces.TryPeek(out var first) && first.Offset + first.Data.Length <= offset)
        {
            pieces.Dequeue();
            Start = first.Offset + first.Data.Length;
        }
        if (offset > Start && pieces.Count > 0)
        {
            Start = Math.Min(offset, End);
        }
    }

    /// <summary>Output from an offset on, or from the first byte that is kept.</summary>
    /// <param name="most">At most so many bytes.</param>
    public List<ShellPiece> From(long offset, long most)
    {
        var found = new List<ShellPiece>();
        var from = Math.Max(offset, Start);
        foreach (var piece in pieces)
        {
            var skip = (int)Math.Clamp(from - piece.Offset, 0, piece.Data.Length);
            var rest = piece.Data[skip..];
            if (rest.IsEmpty)
            {
                continue;
            }
            if (most <= 0)
            {
                break;
            }
            var taken = rest[..(int)Math.Min(rest.Length, most)];
            found.Add(new ShellPiece(piece.Stream, piece.Offset + skip, taken));
            most -= taken.Length;
        }
        return found;
    }
}
