using System.Text;

namespace Umbrek.Core.Text;

/// <summary>Cuts bytes that come in pieces into numbered lines of text.</summary>
public sealed class LineCutter
{
    /// <summary>Longer lines are cut, in bytes.</summary>
    private const int Longest = 64 * 1024;

    private readonly List<byte> open = [];
    private long number;

    /// <param name="take">Is given a line's number, from 1, and the line without its end; returns whether it wants more.</param>
    /// <returns>False when enough was taken.</returns>
    public bool Add(ReadOnlySpan<byte> piece, Func<long, string, bool> take)
    {
        while (!piece.IsEmpty)
        {
            var end = piece.IndexOf((byte)'\n');
            var part = end < 0 ? piece : piece[..end];
            piece = piece[(end < 0 ? piece.Length : end + 1)..];
            open.AddRange(part[..Math.Min(part.Length, Longest - open.Count)]);
            if (end >= 0 && !Finish(take))
            {
                return false;
            }
        }
        return true;
    }

    /// <summary>What was left without an end.</summary>
    public bool End(Func<long, string, bool> take) => open.Count == 0 || Finish(take);

    private bool Finish(Func<long, string, bool> take)
    {
        var line = Encoding.UTF8.GetString([.. open]).TrimEnd('\r');
        open.Clear();
        number++;
        return take(number, line);
    }
}
