using System.IO.Pipelines;
using System.Text;
using Umbrek.Agent.Jobs;
using Umbrek.Agent.Shell;
using Umbrek.Core.Jobs;
using Umbrek.Core.Shell;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Jobs;

namespace Umbrek.Simulation.Shell;

/// <summary>Shells of made-up computers: a line editor before the handful of commands that they know.</summary>
public sealed class SimulatedShellRunner(SimulatedHost host, SimulatedPlatform platform, TimeProvider time) : IShellRunner
{
    public IShellProcess Start(ShellWish wish, string technician)
    {
        var commands = new SimulatedCommandRunner(host, platform, time);
        if (wish.User is not (null or "root") && wish.User != host.Person)
        {
            throw new CommandNotStartedException($"There is no user '{wish.User}' on this host; nothing was run.", 127);
        }
        return wish.Command is { } command
            ? new SimulatedPipes(commands.Start(command), wish.User ?? "root", wish.Terminal is not null)
            : new SimulatedTerminal(host.Name, wish.User ?? "root", commands);
    }
}

/// <summary>One command, with no input.</summary>
internal sealed class SimulatedPipes(IRunningCommand command, string user, bool isTerminal) : IShellProcess
{
    public int Pid => command.Pid;
    public string User => user;
    public IReadOnlyList<(ShellStream Stream, Stream From)> Outputs { get; } = [(ShellStream.Output, command.Stdout), (isTerminal ? ShellStream.Output : ShellStream.Error, command.Stderr)];
    public Stream Input => Stream.Null;
    public Task<RunEnd> Ended => command.Ended;

    public void Resize(TerminalSize size)
    {
        // What it prints does not depend on it.
    }

    public void Signal(ShellSignal signal) => command.Terminate(force: false);

    public void EndInput()
    {
        // It reads none.
    }

    public void HangUp(bool force) => command.Terminate(force);

    public void Dispose() => command.Dispose();
}

/// <summary>A prompt, a line that can be edited, and what its commands print.</summary>
internal sealed class SimulatedTerminal : IShellProcess
{
    private readonly Pipe screen = new();
    private readonly Pipe keys = new();
    private readonly CancellationTokenSource hungUp = new();
    private readonly SimulatedCommandRunner commands;
    private readonly string prompt;
    private readonly List<string> history = [];
    private int historyAt;
    private IRunningCommand? running;

    public SimulatedTerminal(string hostName, string user, SimulatedCommandRunner commands)
    {
        this.commands = commands;
        User = user;
        prompt = $"\e[1m{user}@{hostName}\e[0m:~{(user == "root" ? '#' : '$')} ";
        Outputs = [(ShellStream.Output, screen.Reader.AsStream())];
        Input = keys.Writer.AsStream();
        Ended = ServeAsync();
    }

    public int Pid { get; } = Random.Shared.Next(1000, 30000);
    public string User { get; }
    public IReadOnlyList<(ShellStream Stream, Stream From)> Outputs { get; }
    public Stream Input { get; }
    public Task<RunEnd> Ended { get; }

    public void Resize(TerminalSize size)
    {
        // Its lines are wrapped by whoever shows them.
    }

    public void Signal(ShellSignal signal) => running?.Terminate(force: false);

    public void EndInput() => Input.WriteByte(0x04);

    public void HangUp(bool force) => hungUp.Cancel();

    public void Dispose() => hungUp.Dispose();

    private async Task<RunEnd> ServeAsync()
    {
        await Task.Yield();
        try
        {
            var status = 0;
            while (true)
            {
                await PrintAsync(prompt).ConfigureAwait(false);
                if (await ReadLineAsync().ConfigureAwait(false) is not { } line)
                {
                    await PrintAsync("logout\r\n").ConfigureAwait(false);
                    return new RunEnd(RunOutcome.Exited, status, null);
                }
                var words = line.Trim();
                if (words.Length == 0)
                {
                    continue;
                }
                history.Add(line);
                historyAt = history.Count;
                if (words == "exit" || words.StartsWith("exit ", StringComparison.Ordinal))
                {
                    return new RunEnd(RunOutcome.Exited, int.TryParse(words[4..], out var wanted) ? wanted & 0xff : status, null);
                }
                status = words == "clear" ? await ClearAsync().ConfigureAwait(false) : await RunAsync(words).ConfigureAwait(false);
            }
        }
        catch (OperationCanceledException)
        {
            return new RunEnd(RunOutcome.Signalled, 129, "Ended by signal HUP.");
        }
        finally
        {
            await screen.Writer.CompleteAsync().ConfigureAwait(false);
        }
    }

    private async Task<int> ClearAsync()
    {
        await PrintAsync("\e[H\e[2J").ConfigureAwait(false);
        return 0;
    }

    private async Task<int> RunAsync(string line)
    {
        using var command = commands.Start(new CommandSpec { Line = line });
        running = command;
        try
        {
            var printing = Task.WhenAll(CopyAsync(command.Stdout), CopyAsync(command.Stderr));
            var interrupting = InterruptAsync(command);
            var end = await command.Ended.WaitAsync(hungUp.Token).ConfigureAwait(false);
            await printing.ConfigureAwait(false);
            keys.Reader.CancelPendingRead();
            await interrupting.ConfigureAwait(false);
            return end.ExitStatus ?? 1;
        }
        finally
        {
            running = null;
        }
    }

    /// <summary>While a command runs, Ctrl-C ends it; other keys wait for the prompt.</summary>
    private async Task InterruptAsync(IRunningCommand command)
    {
        while (true)
        {
            var read = await keys.Reader.ReadAsync(hungUp.Token).ConfigureAwait(false);
            if (read.IsCanceled || read.IsCompleted)
            {
                keys.Reader.AdvanceTo(read.Buffer.Start);
                return;
            }
            var interrupt = System.Buffers.BuffersExtensions.PositionOf(read.Buffer, (byte)0x03);
            keys.Reader.AdvanceTo(interrupt is { } at ? read.Buffer.GetPosition(1, at) : read.Buffer.Start, interrupt is { } seen ? read.Buffer.GetPosition(1, seen) : read.Buffer.End);
            if (interrupt is not null)
            {
                await PrintAsync("^C\r\n").ConfigureAwait(false);
                command.Terminate(force: false);
                return;
            }
        }
    }

    private async Task CopyAsync(Stream from)
    {
        using var reader = new StreamReader(from, Encoding.UTF8);
        while (await reader.ReadLineAsync(hungUp.Token).ConfigureAwait(false) is { } line)
        {
            await PrintAsync(line + "\r\n").ConfigureAwait(false);
        }
    }

    private async Task PrintAsync(string text) => await screen.Writer.WriteAsync(Encoding.UTF8.GetBytes(text), hungUp.Token).ConfigureAwait(false);

    /// <returns>Null at the end of input.</returns>
    private async Task<string?> ReadLineAsync()
    {
        var line = new List<byte>();
        while (true)
        {
            var key = await ReadKeyAsync().ConfigureAwait(false);
            switch (key)
            {
                case 0x0d or 0x0a:
                    await PrintAsync("\r\n").ConfigureAwait(false);
                    return Encoding.UTF8.GetString([.. line]);
                case 0x04 when line.Count == 0:
                    return null;
                case 0x03:
                    await PrintAsync("^C\r\n").ConfigureAwait(false);
                    return "";
                case 0x7f or 0x08:
                    await DropAsync(line, 1).ConfigureAwait(false);
                    break;
                case 0x15:
                    await DropAsync(line, line.Count).ConfigureAwait(false);
                    break;
                case 0x0c:
                    await PrintAsync($"\e[H\e[2J{prompt}{Encoding.UTF8.GetString([.. line])}").ConfigureAwait(false);
                    break;
                case 0x1b:
                    await RecallAsync(line).ConfigureAwait(false);
                    break;
                case >= 0x20:
                    line.Add(key);
                    await screen.Writer.WriteAsync(new[] { key }, hungUp.Token).ConfigureAwait(false);
                    break;
            }
        }
    }

    /// <summary>Cursor keys (ECMA-48: ESC [ A, or ESC O A) bring earlier lines back.</summary>
    private async Task RecallAsync(List<byte> line)
    {
        if (await ReadKeyAsync().ConfigureAwait(false) is not ((byte)'[' or (byte)'O'))
        {
            return;
        }
        var step = await ReadKeyAsync().ConfigureAwait(false) switch { (byte)'A' => -1, (byte)'B' => 1, _ => 0 };
        if (step == 0 || historyAt + step < 0 || historyAt + step > history.Count)
        {
            return;
        }
        historyAt += step;
        await DropAsync(line, line.Count).ConfigureAwait(false);
        var text = historyAt == history.Count ? "" : history[historyAt];
        line.AddRange(Encoding.UTF8.GetBytes(text));
        await PrintAsync(text).ConfigureAwait(false);
    }

    /// <summary>Takes letters off the end; a letter may have several bytes.</summary>
    private async Task DropAsync(List<byte> line, int letters)
    {
        for (var i = 0; i < letters && line.Count > 0; i++)
        {
            while (line.Count > 1 && (line[^1] & 0xc0) == 0x80)
            {
                line.RemoveAt(line.Count - 1);
            }
            line.RemoveAt(line.Count - 1);
            await PrintAsync("\b \b").ConfigureAwait(false);
        }
    }

    private async Task<byte> ReadKeyAsync()
    {
        while (true)
        {
            var read = await keys.Reader.ReadAsync(hungUp.Token).ConfigureAwait(false);
            if (read.Buffer.Length > 0)
            {
                var key = read.Buffer.FirstSpan[0];
                keys.Reader.AdvanceTo(read.Buffer.GetPosition(1));
                return key;
            }
            keys.Reader.AdvanceTo(read.Buffer.Start);
            if (read.IsCompleted)
            {
                throw new OperationCanceledException();
            }
        }
    }
}
