namespace Umbrek.Core.Text;

public enum DifferenceKind
{
    Same,
    OnlyFirst,
    OnlySecond,
}

/// <summary>One line of a comparison.</summary>
/// <param name="First">Its index in the first text; of a line that only the second has, where it would stand.</param>
public readonly record struct DifferenceStep(DifferenceKind Kind, int First, int Second);

/// <summary>What two texts have in common, line by line: the shortest way from one to the other (Myers, 1986, "An O(ND) Difference Algorithm").</summary>
public static class LineDifference
{
    /// <summary>Texts further apart than so many lines are compared as a whole: everything out, everything in.</summary>
    public const int FurthestApart = 3000;

    /// <param name="first">Its lines; equal ones have equal numbers.</param>
    public static List<DifferenceStep> Compare(ReadOnlySpan<int> first, ReadOnlySpan<int> second)
    {
        var start = first.CommonPrefixLength(second);
        var end = 0;
        while (end < Math.Min(first.Length, second.Length) - start && first[^(end + 1)] == second[^(end + 1)])
        {
            end++;
        }
        var steps = new List<DifferenceStep>(Math.Max(first.Length, second.Length));
        for (var i = 0; i < start; i++)
        {
            steps.Add(new(DifferenceKind.Same, i, i));
        }
        Middle(first[start..^end], second[start..^end], start, steps);
        for (var i = end; i > 0; i--)
        {
            steps.Add(new(DifferenceKind.Same, first.Length - i, second.Length - i));
        }
        return steps;
    }

    private static void Middle(ReadOnlySpan<int> a, ReadOnlySpan<int> b, int offset, List<DifferenceStep> steps)
    {
        var most = Math.Min(a.Length + b.Length, FurthestApart);
        var furthest = new int[2 * most + 3];
        var trace = new List<int[]>();
        for (var d = 0; d <= most; d++)
        {
            for (var k = -d; k <= d; k += 2)
            {
                var down = k == -d || (k != d && furthest[most + k] < furthest[most + k + 2]);
                var x = down ? furthest[most + k + 2] : furthest[most + k] + 1;
                var y = x - k;
                while (x < a.Length && y < b.Length && a[x] == b[y])
                {
                    x++;
                    y++;
                }
                furthest[most + k + 1] = x;
                if (x >= a.Length && y >= b.Length)
                {
                    trace.Add(Around(furthest, most, d));
                    Walk(trace, a.Length, b.Length, offset, steps);
                    return;
                }
            }
            trace.Add(Around(furthest, most, d));
        }
        for (var i = 0; i < a.Length; i++)
        {
            steps.Add(new(DifferenceKind.OnlyFirst, offset + i, offset));
        }
        for (var i = 0; i < b.Length; i++)
        {
            steps.Add(new(DifferenceKind.OnlySecond, offset + a.Length, offset + i));
        }
    }

    /// <summary>The diagonals -d … d, which are all that step d has reached.</summary>
    private static int[] Around(int[] furthest, int most, int d) => furthest[(most + 1 - d)..(most + 2 + d)];

    private static void Walk(List<int[]> trace, int x, int y, int offset, List<DifferenceStep> steps)
    {
        var from = steps.Count;
        for (var d = trace.Count - 1; d >= 0; d--)
        {
            var k = x - y;
            var (px, py) = (0, 0);
            if (d > 0)
            {
                // Step d - 1 holds the diagonals -(d-1) … d-1.
                var before = trace[d - 1];
                int Reached(int diagonal) => Math.Abs(diagonal) <= d - 1 ? before[diagonal + d - 1] : -1;
                var down = k == -d || (k != d && Reached(k - 1) < Reached(k + 1));
                var pk = down ? k + 1 : k - 1;
                px = Reached(pk);
                py = px - pk;
            }
            while (x > px && y > py)
            {
                x--;
                y--;
                steps.Add(new(DifferenceKind.Same, offset + x, offset + y));
            }
            if (d > 0)
            {
                if (x > px)
                {
                    x--;
                    steps.Add(new(DifferenceKind.OnlyFirst, offset + x, offset + y));
                }
                else
                {
                    y--;
                    steps.Add(new(DifferenceKind.OnlySecond, offset + x, offset + y));
                }
            }
        }
        steps.Reverse(from, steps.Count - from);
    }
}
