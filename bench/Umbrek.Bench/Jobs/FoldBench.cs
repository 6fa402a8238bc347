using System.Diagnostics;
using System.Security.Cryptography;
using System.Text;
using Umbrek.Bench.Hosting;
using Umbrek.Core.Jobs;

namespace Umbrek.Bench.Jobs;

/// <summary>Folding what ten thousand hosts put out, a hundred lines each, beside one pass of SHA-256 over the same bytes.</summary>
internal static class FoldBench
{
    private const int Hosts = 10_000;
    private const int Lines = 100;

    public static void Run()
    {
        var outputs = Enumerable.Range(0, Hosts).Select(Output).ToList();
        Console.WriteLine($"-- folding {Hosts} answers of {Lines} lines, {outputs.Sum(o => (long)o.Length) / 1e6:0} MB");
        foreach (var (what, mask, folds) in new[]
        {
            ("exactly", AnswerMask.None, Hosts),
            ("times, names and addresses passed over", AnswerMasks.Usual, 5),
            ("numbers too", AnswerMasks.Usual | AnswerMask.Numbers, 3),
        })
        {
            var ours = new List<double>();
            var reference = new List<double>();
            for (var i = 0; i < 5; i++)
            {
                reference.Add(Time(() => outputs.ForEach(o => SHA256.HashData(o))));
                ours.Add(Time(() =>
                {
                    var found = Fold(outputs, mask);
                    if (found != folds)
                    {
                        throw new InvalidOperationException($"{found} folds, not {folds}");
                    }
                }));
            }
            Figures.Line($"fold, {what}", Figures.Median(ours), Figures.Median(reference), "ms", "under 1000 ms");
        }
    }

    private static int Fold(List<byte[]> outputs, AnswerMask mask)
    {
        using var digest = new AnswerDigest(mask);
        return AnswerFold.Fold(outputs.Select((output, i) =>
        {
            digest.Begin([NameOf(i)]);
            digest.Add(RunEventKind.Stdout, output);
            return new Answer(Guid.NewGuid(), NameOf(i), RunState.Succeeded, 0, null, digest.End());
        })).Count;
    }

    private static string NameOf(int host) => $"host-{host:00000}";

    /// <summary>Like a log: a time, the host's name, an address and words; one host of three thousand says something else, and figures come in two kinds.</summary>
    private static byte[] Output(int host)
    {
        var text = new StringBuilder();
        for (var line = 0; line < Lines; line++)
        {
            text.Append($"2026-11-26T{host % 24:00}:{line % 60:00}:07Z {NameOf(host)} service[{line}]: 10.{host / 65536}.{host / 256 % 256}.{host % 256} connected, {(host % 2 == 0 ? 17 : 23)} open\n");
        }
        if (host % 3333 == 17)
        {
            text.Append($"kernel: odd one {(host == 17 ? "out" : "in")}\n");
        }
        return Encoding.UTF8.GetBytes(text.ToString());
    }

    private static double Time(Action act)
    {
        var from = Stopwatch.GetTimestamp();
        act();
        return Stopwatch.GetElapsedTime(from).TotalMilliseconds;
    }
}
