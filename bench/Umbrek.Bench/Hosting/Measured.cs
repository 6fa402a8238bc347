using System.Diagnostics;
using System.Globalization;

namespace Umbrek.Bench.Hosting;

/// <summary>A program under measurement: its memory and processor time as the system counts them.</summary>
internal sealed class Measured : IAsyncDisposable
{
    private const double TicksPerSecond = 100;
    private readonly Process process;
    private readonly TaskCompletionSource ready = new(TaskCreationOptions.RunContinuationsAsynchronously);

    private Measured(Process process) => this.process = process;

    public int Pid => process.Id;

    public List<string> Lines { get; } = [];

    public static async Task<Measured> StartAsync(string program, string readyWord, params string[] arguments)
    {
        var measured = new Measured(new Process { StartInfo = new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true, RedirectStandardError = true } });
        void Hear(string? line)
        {
            if (line is not null)
            {
                lock (measured.Lines)
                {
                    measured.Lines.Add(line);
                }
                if (line.Contains(readyWord, StringComparison.Ordinal))
                {
                    measured.ready.TrySetResult();
                }
            }
        }
        measured.process.OutputDataReceived += (_, e) => Hear(e.Data);
        measured.process.ErrorDataReceived += (_, e) => Hear(e.Data);
        measured.process.Start();
        measured.process.BeginOutputReadLine();
        measured.process.BeginErrorReadLine();
        await measured.ready.Task.WaitAsync(TimeSpan.FromSeconds(60));
        return measured;
    }

    public string Said(string word)
    {
        lock (Lines)
        {
            return Lines.First(l => l.StartsWith(word + " ", StringComparison.Ordinal))[(word.Length + 1)..];
        }
    }

    /// <summary>Resident memory in bytes.</summary>
    public long Resident() => long.Parse(
        File.ReadLines($"/proc/{process.Id}/status").First(l => l.StartsWith("VmRSS", StringComparison.Ordinal)).Split(' ', StringSplitOptions.RemoveEmptyEntries)[1],
        CultureInfo.InvariantCulture) * 1024;

    /// <summary>Processor time so far, in seconds (proc(5): utime and stime).</summary>
    public double ProcessorSeconds()
    {
        var stat = File.ReadAllText($"/proc/{process.Id}/stat");
        var fields = stat[(stat.LastIndexOf(')') + 2)..].Split(' ');
        return (double.Parse(fields[11], CultureInfo.InvariantCulture) + double.Parse(fields[12], CultureInfo.InvariantCulture)) / TicksPerSecond;
    }

    public async ValueTask DisposeAsync()
    {
        process.Kill();
        await process.WaitForExitAsync();
        process.Dispose();
    }
}
