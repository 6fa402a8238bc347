using System.Collections.Concurrent;
using System.Diagnostics;
using System.Runtime.InteropServices;

namespace Umbrek.Simulation.Demo;

/// <summary>One of the other programs, run from the directory that this one stands in.</summary>
public sealed partial class ChildProgram : IAsyncDisposable
{
    private readonly Process process;
    private readonly TaskCompletionSource ready = new(TaskCreationOptions.RunContinuationsAsynchronously);

    private ChildProgram(Process process, string? readyLine)
    {
        this.process = process;
        process.EnableRaisingEvents = true;
        process.Exited += (_, _) => ready.TrySetException(new InvalidOperationException($"{process.StartInfo.FileName} ended (status {process.ExitCode}):\n{string.Join('\n', Lines)}"));
        process.OutputDataReceived += (_, e) => Heard(e.Data, readyLine);
        process.ErrorDataReceived += (_, e) => Heard(e.Data, null);
    }

    public ConcurrentQueue<string> Lines { get; } = new();
    public bool HasExited => process.HasExited;

    /// <summary>Where the built programs are: out/bin, seen from this program.</summary>
    public static string Find(string program)
    {
        foreach (var directory in new[] { Environment.GetEnvironmentVariable("UMBREK_BIN"), Path.Combine(AppContext.BaseDirectory, "..", "..", "bin"), Path.Combine(AppContext.BaseDirectory, "..", "..", "..", "..", "bin"), AppContext.BaseDirectory })
        {
            if (directory is not null && File.Exists(Path.Combine(directory, program)))
            {
                return Path.GetFullPath(Path.Combine(directory, program));
            }
        }
        throw new FileNotFoundException($"{program} is not built; run make build.");
    }

    /// <summary>Starts a program and waits for the line that says it is ready.</summary>
    public static async Task<ChildProgram> StartAsync(string program, string? readyLine, CancellationToken cancel, params string[] arguments)
    {
        var start = new ProcessStartInfo(Find(program)) { RedirectStandardOutput = true, RedirectStandardError = true, RedirectStandardInput = true };
        foreach (var argument in arguments)
        {
            start.ArgumentList.Add(argument);
        }
        var child = new ChildProgram(new Process { StartInfo = start }, readyLine);
        child.process.Start();
        child.process.BeginOutputReadLine();
        child.process.BeginErrorReadLine();
        if (readyLine is not null)
        {
            await child.ready.Task.WaitAsync(TimeSpan.FromSeconds(60), cancel).ConfigureAwait(false);
        }
        return child;
    }

    /// <summary>The rest of the first line that starts with this word.</summary>
    public string? Said(string word) => Lines.FirstOrDefault(l => l.StartsWith(word + " ", StringComparison.Ordinal))?[(word.Length + 1)..];

    public async ValueTask DisposeAsync()
    {
        if (!process.HasExited)
        {
            const int sigTerm = 15;
            _ = Kill(process.Id, sigTerm);
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(15));
            await process.WaitForExitAsync(limit.Token).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            if (!process.HasExited)
            {
                process.Kill(entireProcessTree: true);
            }
        }
        process.Dispose();
    }

    private void Heard(string? line, string? readyLine)
    {
        if (line is null)
        {
            return;
        }
        Lines.Enqueue(line);
        while (Lines.Count > 500)
        {
            Lines.TryDequeue(out _);
        }
        if (line == readyLine)
        {
            ready.TrySetResult();
        }
    }

    [LibraryImport("libc", EntryPoint = "kill")]
    private static partial int Kill(int pid, int signal);
}
