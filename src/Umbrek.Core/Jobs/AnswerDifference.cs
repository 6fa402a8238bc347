using System.Text;
using Umbrek.Core.Text;

namespace Umbrek.Core.Jobs;

/// <summary>A line of two answers side by side.</summary>
/// <param name="First">Its number in the first answer, from 1; null when it is not there.</param>
/// <param name="Second">Its number in the second.</param>
/// <param name="Text">As the first has it, or the second when only that does. Broken UTF-8 is replaced; nothing is neutralised.</param>
/// <param name="From">Where the part begins that differs from the line that stands in its place, in UTF-16 units; null when there is none such.</param>
/// <param name="To">Where that part ends.</param>
public sealed record AnswerLine(DifferenceKind Kind, int? First, int? Second, string Text, int? From = null, int? To = null);

/// <summary>Compares what two hosts answered.</summary>
public static class AnswerDifference
{
    /// <summary>Of longer answers only the beginning is compared, in bytes of each stream.</summary>
    public const int MostBytes = 1 << 20;

    /// <summary>Both answers as one, line by line. Lines that differ only in what is passed over are the same.</summary>
    /// <param name="firstNames">What the first host is called; see <see cref="LineMasker"/>.</param>
    public static List<AnswerLine> Compare(ReadOnlySpan<byte> first, IReadOnlyList<string> firstNames, ReadOnlySpan<byte> second, IReadOnlyList<string> secondNames, AnswerMask mask)
    {
        var numbers = new Dictionary<string, int>(StringComparer.Ordinal);
        var (firstLines, firstIds) = Read(first, firstNames, mask, numbers);
        var (secondLines, secondIds) = Read(second, secondNames, mask, numbers);
        var lines = new List<AnswerLine>();
        foreach (var step in LineDifference.Compare(firstIds, secondIds))
        {
            lines.Add(step.Kind switch
            {
                DifferenceKind.Same => new AnswerLine(step.Kind, step.First + 1, step.Second + 1, firstLines[step.First]),
                DifferenceKind.OnlyFirst => new AnswerLine(step.Kind, step.First + 1, null, firstLines[step.First]),
                _ => new AnswerLine(step.Kind, null, step.Second + 1, secondLines[step.Second]),
            });
        }
        MarkParts(lines);
        return lines;
    }

    private static (List<string> Lines, int[] Ids) Read(ReadOnlySpan<byte> text, IReadOnlyList<string> names, AnswerMask mask, Dictionary<string, int> numbers)
    {
        var masker = new LineMasker(mask, names);
        var lines = new List<string>();
        var ids = new List<int>();
        var room = Array.Empty<byte>();
        while (!text.IsEmpty)
        {
            var end = text.IndexOf((byte)'\n');
            var line = end < 0 ? text : text[..end];
            text = text[(end < 0 ? text.Length : end + 1)..];
            lines.Add(Encoding.UTF8.GetString(line));
            ReadOnlySpan<byte> counts = line;
            if (mask != AnswerMask.None)
            {
                if (room.Length < LineMasker.Most(line.Length))
                {
                    room = new byte[Math.Max(1024, 2 * LineMasker.Most(line.Length))];
                }
                counts = room.AsSpan(0, masker.Mask(line, room));
            }
            // One character for each byte: two lines are equal when their bytes are.
            var key = Encoding.Latin1.GetString(counts);
            if (!numbers.TryGetValue(key, out var id))
            {
                numbers[key] = id = numbers.Count;
            }
            ids.Add(id);
        }
        return (lines, [.. ids]);
    }

    /// <summary>Lines that stand in each other's place: the first that went with the first that came, and so on.</summary>
    private static void MarkParts(List<AnswerLine> lines)
    {
        for (var i = 0; i < lines.Count;)
        {
            if (lines[i].Kind == DifferenceKind.Same)
            {
                i++;
                continue;
            }
            var end = lines.FindIndex(i, l => l.Kind == DifferenceKind.Same) is >= 0 and var same ? same : lines.Count;
            // Those of the first before those of the second, so that they can be read against each other.
            var block = lines.GetRange(i, end - i).OrderBy(l => l.Kind).ToList();
            var gone = block.Count(l => l.Kind == DifferenceKind.OnlyFirst);
            for (var pair = 0; pair < Math.Min(gone, block.Count - gone); pair++)
            {
                (block[pair], block[gone + pair]) = Mark(block[pair], block[gone + pair]);
            }
            for (var at = 0; at < block.Count; at++)
            {
                lines[i + at] = block[at];
            }
            i = end;
        }
    }

    private static (AnswerLine First, AnswerLine Second) Mark(AnswerLine first, AnswerLine second)
    {
        var (a, b) = (first.Text, second.Text);
        var start = a.AsSpan().CommonPrefixLength(b);
        // Never through the middle of a letter or of a word.
        while (start > 0 && (start < a.Length && Inside(a, start) || start < b.Length && Inside(b, start)))
        {
            start--;
        }
        var tail = 0;
        while (tail < Math.Min(a.Length, b.Length) - start && a[^(tail + 1)] == b[^(tail + 1)])
        {
            tail++;
        }
        while (tail > 0 && (Inside(a, a.Length - tail) || Inside(b, b.Length - tail)))
        {
            tail--;
        }
        // Lines without anything in common are marked by their kind alone.
        return start == 0 && tail == 0 ? (first, second) : (first with { From = start, To = a.Length - tail }, second with { From = start, To = b.Length - tail });
    }

    private static bool Inside(string text, int at) =>
        at > 0 && at < text.Length && (char.IsLowSurrogate(text[at]) || (char.IsLetterOrDigit(text[at - 1]) && char.IsLetterOrDigit(text[at])));
}
