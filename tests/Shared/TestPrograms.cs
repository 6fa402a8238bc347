using System.Collections.Concurrent;
using System.Diagnostics;
using System.Runtime.InteropServices;

namespace Umbrek.Tests;

/// <summary>The built programs, run as processes.</summary>
internal sealed partial class TestPrograms : IAsyncDisposable
{
    private readonly Process process;

    private TestPrograms(Process process) => this.process = process;

    public int Pid => process.Id;
    public bool HasExited => process.HasExited;
    public int ExitCode => process.ExitCode;
    public ConcurrentQueue<string> Lines { get; } = new();

    /// <summary>out/bin, from wherever the test stands in the tree.</summary>
    public static string Bin { get; } = FindBin();

    public static string PathOf(string program) => Path.Combine(Bin, program);

    public static TestPrograms Start(string program, IReadOnlyList<string> arguments, IReadOnlyDictionary<string, string>? environment = null)
    {
        var start = new ProcessStartInfo(program.Contains('/') ? program : PathOf(program)) { RedirectStandardOutput = true, RedirectStandardError = true, RedirectStandardInput = true };
        foreach (var argument in arguments)
        {
            start.ArgumentList.Add(argument);
        }
        foreach (var (name, value) in environment ?? new Dictionary<string, string>())
        {
            start.Environment[name] = value;
        }
        var started = new TestPrograms(new Process { StartInfo = start });
        started.process.OutputDataReceived += (_, e) => started.Hear(e.Data);
        started.process.ErrorDataReceived += (_, e) => started.Hear(e.Data);
        started.process.Start();
        started.process.BeginOutputReadLine();
        started.process.BeginErrorReadLine();
        return started;
    }

    /// <summary>Runs a program to its end.</summary>
    public static async Task<(int Status, string Stdout, string Stderr)> RunAsync(string program, IReadOnlyList<string> arguments, string? input = null, IReadOnlyDictionary<string, string>? environment = null, int seconds = 300)
    {
        var start = new ProcessStartInfo(program.Contains('/') ? program : PathOf(program), arguments) { RedirectStandardOutput = true, RedirectStandardError = true, RedirectStandardInput = true };
        foreach (var (name, value) in environment ?? new Dictionary<string, string>())
        {
            start.Environment[name] = value;
        }
        using var process = Process.Start(start)!;
        if (input is not null)
        {
            await process.StandardInput.WriteAsync(input);
        }
        process.StandardInput.Close();
        var stdout = process.StandardOutput.ReadToEndAsync();
        var stderr = process.StandardError.ReadToEndAsync();
        using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(seconds));
        await process.WaitForExitAsync(limit.Token);
        return (process.ExitCode, await stdout, await stderr);
    }

    public string? Said(string word) => Lines.FirstOrDefault(l => l.StartsWith(word + " ", StringComparison.Ordinal))?[(word.Length + 1)..];

    public Task UntilSaidAsync(string text) => Wait.UntilAsync(
        () => Lines.Any(l => l.Contains(text, StringComparison.Ordinal)) || (HasExited ? throw new InvalidOperationException($"it ended:\n{string.Join('\n', Lines)}") : false),
        $"'{text}'");

    /// <summary>SIGKILL: no goodbye, no clean-up.</summary>
    public async Task KillAsync()
    {
        _ = Signal(Pid, 9);
        await process.WaitForExitAsync();
    }

    public async Task StopAsync()
    {
        if (!process.HasExited)
        {
            _ = Signal(Pid, 15);
            using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(20));
            await process.WaitForExitAsync(limit.Token);
        }
    }

    public async ValueTask DisposeAsync()
    {
        try
        {
            await StopAsync();
        }
        catch (OperationCanceledException)
        {
            process.Kill(entireProcessTree: true);
        }
        process.Dispose();
    }

    [LibraryImport("libc", EntryPoint = "kill")]
    public static partial int Signal(int pid, int signal);

    private void Hear(string? line)
    {
        if (line is not null)
        {
            Lines.Enqueue(line);
        }
    }

    private static string FindBin()
    {
        if (Environment.GetEnvironmentVariable("UMBREK_BIN") is { Length: > 0 } given)
        {
            return given;
        }
        for (var directory = new DirectoryInfo(AppContext.BaseDirectory); directory is not null; directory = directory.Parent)
        {
            if (File.Exists(Path.Combine(directory.FullName, "Umbrek.slnx")))
            {
                return Path.Combine(directory.FullName, "out", "bin");
            }
        }
        throw new DirectoryNotFoundException("The tree that holds out/bin was not found.");
    }
}

/// <summary>Waits for something to become true, by asking often; never by hoping that a time is long enough.</summary>
internal static class Wait
{
    public static Task UntilAsync(Func<bool> done, string what, int seconds = 180) => UntilAsync(() => Task.FromResult(done()), what, seconds);

    public static async Task UntilAsync(Func<Task<bool>> done, string what, int seconds = 180)
    {
        var began = Stopwatch.GetTimestamp();
        while (!await done())
        {
            if (Stopwatch.GetElapsedTime(began) > TimeSpan.FromSeconds(seconds))
            {
                throw new TimeoutException($"waited {seconds} s for {what}");
            }
            await Task.Delay(20);
        }
    }
}

/// <summary>A directory that goes when the test does; short, for socket paths have few bytes.</summary>
internal sealed class TestDirectory : IDisposable
{
    public string Path { get; } = Directory.CreateTempSubdirectory("ubk").FullName;

    public string In(string name) => System.IO.Path.Combine(Path, name);

    public void Dispose()
    {
        try
        {
            Directory.Delete(Path, recursive: true);
        }
        catch (IOException)
        {
            // A process that is just ending may still write; the system's own cleaning takes the rest.
        }
    }
}
