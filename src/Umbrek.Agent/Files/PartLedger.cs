using System.Globalization;
using Umbrek.Agent.Hosting;

namespace Umbrek.Agent.Files;

/// <summary>
/// Remembers what files come into until they are whole, so that one that nobody goes on with is removed after a while, and only one at
/// a time writes into each. One line is added for each that is begun (+) and for each that has ended (-).
/// </summary>
/// <param name="file">Of one process at a time.</param>
public sealed class PartLedger(string file, TimeProvider time)
{
    /// <summary>So long somebody may go on with what was broken off.</summary>
    public static readonly TimeSpan Kept = TimeSpan.FromDays(7);

    private const int TidyAfter = 4096;

    private readonly Lock guard = new();
    private readonly Dictionary<string, PartHold> open = new(StringComparer.Ordinal);
    private Dictionary<string, DateTimeOffset>? begun;
    private int lines;

    /// <summary>Nothing is half written.</summary>
    public bool IsEmpty
    {
        get
        {
            lock (guard)
            {
                return Begun().Count == 0;
            }
        }
    }

    /// <summary>Takes a part for one who writes into it. Whoever did so before does no more: his line has broken, as a rule, and that is seen here later than there.</summary>
    /// <param name="part">Its whole path.</param>
    public PartHold Take(string part)
    {
        lock (guard)
        {
            if (open.Remove(part, out var before))
            {
                before.Lose();
            }
            var hold = open[part] = new PartHold(this, part);
            if (Begun().TryAdd(part, time.GetUtcNow()))
            {
                Add($"+{begun![part].ToUnixTimeSeconds()} {Escape(part)}");
            }
            return hold;
        }
    }

    /// <summary>It is whole, or gone.</summary>
    public void Ended(string part)
    {
        lock (guard)
        {
            if (Begun().Remove(part))
            {
                Add($"-0 {Escape(part)}");
            }
        }
    }

    /// <summary>Those that were begun longer ago than they are kept, and that nobody writes into.</summary>
    public IReadOnlyList<string> Left()
    {
        lock (guard)
        {
            var before = time.GetUtcNow() - Kept;
            return [.. Begun().Where(b => b.Value < before && !open.ContainsKey(b.Key)).Select(b => b.Key)];
        }
    }

    private Dictionary<string, DateTimeOffset> Begun()
    {
        if (begun is not null)
        {
            return begun;
        }
        begun = new Dictionary<string, DateTimeOffset>(StringComparer.Ordinal);
        foreach (var line in File.Exists(file) ? File.ReadAllLines(file) : [])
        {
            var space = line.IndexOf(' ', StringComparison.Ordinal);
            // The last line may have been cut off with the power.
            if (space > 1 && long.TryParse(line.AsSpan(1, space - 1), NumberStyles.None, CultureInfo.InvariantCulture, out var at) && at < 1L << 36)
            {
                var part = Uri.UnescapeDataString(line[(space + 1)..]);
                if (line[0] == '+')
                {
                    begun[part] = DateTimeOffset.FromUnixTimeSeconds(at);
                }
                else
                {
                    begun.Remove(part);
                }
            }
        }
        lines = TidyAfter;
        return begun;
    }

    private void Add(string line)
    {
        if (++lines > TidyAfter)
        {
            StateDirectory.WriteWhole(file, System.Text.Encoding.UTF8.GetBytes(string.Concat(begun!.Select(b => $"+{b.Value.ToUnixTimeSeconds()} {Escape(b.Key)}\n"))));
            lines = 0;
            return;
        }
        File.AppendAllText(file, line + "\n");
    }

    private static string Escape(string part) => part.Replace("%", "%25", StringComparison.Ordinal).Replace("\n", "%0A", StringComparison.Ordinal);

    internal void Release(PartHold hold)
    {
        lock (guard)
        {
            if (open.GetValueOrDefault(hold.Part) == hold)
            {
                open.Remove(hold.Part);
            }
        }
    }
}

/// <summary>A part is somebody's to write into, until he is done or another takes it.</summary>
public sealed class PartHold(PartLedger ledger, string part) : IDisposable
{
    private readonly Lock guard = new();
    private bool isLost;

    public string Part => part;

    /// <summary>Does something with the part, which nobody takes meanwhile.</summary>
    /// <returns>False when another has it, and nothing was done.</returns>
    public bool TryDo(Action act)
    {
        lock (guard)
        {
            if (!isLost)
            {
                act();
            }
            return !isLost;
        }
    }

    public void Dispose() => ledger.Release(this);

    internal void Lose()
    {
        lock (guard)
        {
            isLost = true;
        }
    }
}
