using System.Runtime.InteropServices;
using System.Text;
using Microsoft.Win32.SafeHandles;
using Umbrek.Agent.Hosting;

namespace Umbrek.Agent.Platform.Linux.Probes;

/// <summary>How a short program of a check ended.</summary>
/// <param name="Status">Its exit status, or 128 and the signal that ended it.</param>
/// <param name="Output">The beginning of what it wrote, to both.</param>
/// <param name="Bytes">How much it wrote.</param>
internal sealed record ScriptEnd(int Status, string Output, long Bytes);

/// <summary>
/// Runs a short program in a session of its own and listens to its output, of which only the beginning is kept. When it is not wanted any more, all of its
/// process group is ended; what it left running in a session of its own goes on.
/// </summary>
internal static class LinuxScript
{
    private const int MostKept = 64 * 1024;

    /// <summary>What somebody works at goes first.</summary>
    private static readonly string[] Gently = ["nice", "-n", "10"];

    /// <summary>A script as a program: by its first line's interpreter, else by /bin/sh.</summary>
    /// <param name="gently">With less claim to the processors than others have.</param>
    /// <param name="directory">Where it is kept for as long as it runs.</param>
    public static async Task<ScriptEnd> RunTextAsync(string script, string directory, bool gently, CancellationToken cancel)
    {
        var file = Path.Combine(directory, $"check-{Guid.NewGuid():N}");
        await using (var stream = OwnerOnly.CreateFile(file))
        {
            await stream.WriteAsync(Encoding.UTF8.GetBytes(script), cancel).ConfigureAwait(false);
        }
        try
        {
            return await RunAsync([.. gently ? Gently : [], .. Interpreter(script), file], cancel).ConfigureAwait(false);
        }
        finally
        {
            File.Delete(file);
        }
    }

    /// <summary>As the system reads a first line (execve(2)): a program, and all that follows as one argument.</summary>
    internal static string[] Interpreter(string script) =>
        script.StartsWith("#!", StringComparison.Ordinal) && script[2..].Split('\n')[0].Trim() is { Length: > 0 } line
            ? line.Split([' ', '\t'], 2, StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries) : ["/bin/sh"];

    /// <exception cref="IOException">It could not be started.</exception>
    /// <param name="most">How many bytes of its output are kept.</param>
    public static async Task<ScriptEnd> RunAsync(IReadOnlyList<string> arguments, CancellationToken cancel, int most = MostKept)
    {
        var (read, write) = Pipe();
        var error = Spawn.Start(arguments[0], arguments, "/", write, write, out var pid);
        _ = Native.Close(write);
        using var handle = new SafeFileHandle(read, ownsHandle: true);
        if (error != 0)
        {
            throw new IOException($"'{arguments[0]}' could not be started: {Marshal.GetPInvokeErrorMessage(error)}.");
        }
        var ended = Task.Factory.StartNew(() => Wait(pid), CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);
        var listening = Task.Factory.StartNew(() => Listen(handle, ended, most), CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);
        try
        {
            var status = await ended.WaitAsync(cancel).ConfigureAwait(false);
            var (output, bytes) = await listening.ConfigureAwait(false);
            return new ScriptEnd(status, output, bytes);
        }
        catch (OperationCanceledException)
        {
            _ = Native.Kill(-pid, Native.SigKill);
            // The handle is closed behind it.
            await listening.ConfigureAwait(false);
            throw;
        }
    }

    /// <summary>Until its end; what it left running may hold the pipe open for ever, so after its own end only what is there by then.</summary>
    private static (string Output, long Bytes) Listen(SafeFileHandle handle, Task ended, int most)
    {
        var kept = new MemoryStream();
        var buffer = new byte[64 * 1024];
        long bytes = 0;
        long late = 0;
        while (true)
        {
            var over = ended.IsCompleted;
            var count = Native.ReadWithin(handle, buffer, 100);
            if (count == 0 || (over && (count < 0 || late > most)))
            {
                return (Encoding.UTF8.GetString(kept.GetBuffer(), 0, (int)kept.Length), bytes);
            }
            if (count > 0)
            {
                bytes += count;
                // What it left running may go on for ever.
                late += over ? count : 0;
                kept.Write(buffer, 0, (int)Math.Min(count, most - kept.Length));
            }
        }
    }

    private static unsafe (int Read, int Write) Pipe()
    {
        var ends = stackalloc int[2];
        return Native.Pipe2(ends, Native.OpenCloseOnExec) == 0 ? (ends[0], ends[1]) : throw new IOException($"The host has no pipe to spare: {Marshal.GetLastPInvokeErrorMessage()}.");
    }

    private static unsafe int Wait(int pid)
    {
        const int interrupted = 4;
        int status;
        while (Native.WaitPid(pid, &status, 0) < 0)
        {
            if (Marshal.GetLastPInvokeError() != interrupted)
            {
                return 255;
            }
        }
        return (status & 0x7f) is var signal and not 0 ? 128 + signal : (status >> 8) & 0xff;
    }
}
