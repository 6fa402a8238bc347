using System.Collections.Concurrent;
using System.Diagnostics;
using System.Runtime.CompilerServices;
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

    /// <summary>The tree that holds all of the project.</summary>
    public static string Root { get; } = FindRoot();

    /// <summary>Where the programs are: out/bin, or what UMBREK_BIN says.</summary>
    public static string Bin { get; } = Environment.GetEnvironmentVariable("UMBREK_BIN") is { Length: > 0 } given ? given : Path.Combine(Root, "out", "bin");

    /// <summary>The console as it was built.</summary>
    public static string Console { get; } = Path.Combine(Root, "out", "console");

    /// <summary>The agents that a service hands out, a folder for each system.</summary>
    public static string Agents { get; } = Environment.GetEnvironmentVariable("UMBREK_AGENTS") is { Length: > 0 } named ? named : Path.Combine(Root, "out", "agents");

    /// <summary>The client; UMBREK_CLIENT names the one that is compiled ahead of time.</summary>
    private static string Client { get; } = Environment.GetEnvironmentVariable("UMBREK_CLIENT") is { Length: > 0 } named ? named : Path.Combine(Bin, "umbrek");

    public static string PathOf(string program) => program switch
    {
        "umbrek-agent" => Path.Combine(Agents, "linux-x64", program),
        "umbrek" => Client,
        _ => Path.Combine(Bin, program),
    };

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
    public static async Task<(int Status, string Stdout, string Stderr)> RunAsync(string program, IReadOnlyList<string> arguments, string? input = null, IReadOnlyDictionary<string, string>? environment = null, int seconds = 180)
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

    public Task UntilSaidAsync(string text, int seconds = Wait.DefaultSeconds) => Wait.UntilAsync(
        () => Lines.Any(l => l.Contains(text, StringComparison.Ordinal)) || (HasExited ? throw new InvalidOperationException($"it ended:\n{string.Join('\n', Lines)}") : false),
        $"'{text}'", seconds);

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

    /// <summary>
    /// A shell that starts tests in the background has them ignore SIGINT and SIGQUIT, and what they start would inherit that
    /// (execve(2)): programs that are to be interrupted start with the defaults.
    /// </summary>
#pragma warning disable CA2255 // Here the library is the program.
    [ModuleInitializer]
    internal static void DefaultSignals()
    {
        _ = Default(2, 0);
        _ = Default(3, 0);
    }
#pragma warning restore CA2255

    [LibraryImport("libc", EntryPoint = "signal")]
    private static partial nint Default(int signal, nint handler);

    private static string FindRoot()
    {
        for (var directory = new DirectoryInfo(AppContext.BaseDirectory); directory is not null; directory = directory.Parent)
        {
            if (File.Exists(Path.Combine(directory.FullName, "Umbrek.slnx")))
            {
                return directory.FullName;
            }
        }
        throw new DirectoryNotFoundException("The tree with Umbrek.slnx, which holds out/bin, was not found.");
    }
}

/// <summary>Waits for something to become true, by asking often; never by hoping that a time is long enough.</summary>
internal static class Wait
{
    public const int DefaultSeconds = 20;

    /// <summary>What a whole service may take until it is ready: three to five seconds of processor, of which others take their part.</summary>
    public const int StartSeconds = 60;

    public static Task UntilAsync(Func<bool> done, string what, int seconds = DefaultSeconds) => UntilAsync(() => Task.FromResult(done()), what, seconds);

    public static async Task UntilAsync(Func<Task<bool>> done, string what, int seconds = DefaultSeconds)
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
