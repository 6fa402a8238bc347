using System.IO.Pipelines;
using System.Text;
using Umbrek.Agent.Files;
using Umbrek.Agent.Jobs;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Simulation.Estate;
using Umbrek.Simulation.Health;

namespace Umbrek.Simulation.Jobs;

/// <summary>
/// A handful of commands as a simulated host would answer them: enough to show output, errors, differences and long work.
/// Anything else is answered as a shell answers an unknown name.
/// </summary>
/// <param name="runDirectory">Of the run; what an agent does itself may need its order.</param>
public sealed class SimulatedCommandRunner(SimulatedHost host, SimulatedPlatform platform, TimeProvider time, string? runDirectory = null) : ICommandRunner
{
    public IRunningCommand Start(CommandSpec command)
    {
        if (command.User is { } user && user != "root")
        {
            throw new CommandNotStartedException($"There is no user '{user}' on this host; nothing was run.", 126);
        }
        if (command.Action is { Deliver: not null })
        {
            return new SimulatedAct((say, stop) => DeliveryActs.RunAsync(new RunDirectory(runDirectory!), platform, say, time, stop));
        }
        if (command.Action is { } action)
        {
            using var said = new StringWriter();
            var (text, status) = action switch
            {
                { Service: { } service } => platform.Kept.Do(service, time.GetUtcNow()),
                { Power: { } power } => (null, new PowerActs(platform.Power, said).Do(power)),
                { Wake: { } wake } => (null, platform.Waking(said).Do(wake)),
                _ => platform.Running.Do(action, time.GetUtcNow()),
            };
            text ??= said.ToString().TrimEnd('\n');
            return new Shell(host, platform, time, [.. text.Split('\n').Select(l => new List<string> { "echo", l }), ["exit", $"{status}"]]);
        }
        if (command.Script is { } script)
        {
            return new Shell(host, platform, time, Split(string.Join('\n', script.Split('\n').Where(l => !l.TrimStart().StartsWith('#'))), command.Environment));
        }
        if (command.Arguments is { } exact)
        {
            if (!Shell.Knows(exact[0]))
            {
                throw new CommandNotStartedException($"There is no program '{exact[0]}' on this host; nothing was run.", 127);
            }
            return new Shell(host, platform, time, [[.. exact]]);
        }
        return new Shell(host, platform, time, Split(command.Line!, command.Environment));
    }

    /// <summary>Commands of a line, parted by ';', '&amp;&amp;' and line ends; quotes keep words together, and variables are put in but in single ones.</summary>
    private static List<List<string>> Split(string line, IReadOnlyDictionary<string, string>? environment)
    {
        var commands = new List<List<string>> { new() };
        var word = new StringBuilder();
        char quote = '\0';
        void EndWord()
        {
            if (word.Length > 0)
            {
                commands[^1].Add(word.ToString());
                word.Clear();
            }
        }
        for (var at = 0; at < line.Length; at++)
        {
            var c = line[at];
            if (c == '$' && quote != '\'' && VariableAt(line, at) is { Length: > 0 } name)
            {
                word.Append(environment?.GetValueOrDefault(name));
                at += name.Length;
            }
            else if (quote != '\0')
            {
                if (c == quote)
                {
                    quote = '\0';
                }
                else
                {
                    word.Append(c);
                }
            }
            else if (c is '\'' or '"')
            {
                quote = c;
            }
            else if (c is ';' or '\n')
            {
                EndWord();
                commands.Add([]);
            }
            else if (char.IsWhiteSpace(c))
            {
                EndWord();
            }
            else
            {
                word.Append(c);
            }
        }
        EndWord();
        return [.. commands.SelectMany(SplitAnd).Where(c => c.Count > 0)];
    }

    /// <summary>The name behind a dollar sign.</summary>
    private static string VariableAt(string line, int dollar) =>
        string.Concat(line.Skip(dollar + 1).TakeWhile((c, i) => char.IsAsciiLetter(c) || c == '_' || (i > 0 && char.IsAsciiDigit(c))));

    private static IEnumerable<List<string>> SplitAnd(List<string> words)
    {
        while (words.IndexOf("&&") is var at && at >= 0)
        {
            yield return words[..at];
            words = words[(at + 1)..];
        }
        yield return words;
    }

    private sealed class Shell : IRunningCommand
    {
        private static readonly HashSet<string> Known =
            new(["echo", "uname", "hostname", "uptime", "whoami", "id", "date", "df", "free", "sleep", "true", "false", "exit", "systemctl", "cat"], StringComparer.Ordinal);

        private readonly SimulatedHost host;
        private readonly SimulatedPlatform platform;
        private readonly TimeProvider time;
        private readonly Pipe stdout = new();
        private readonly Pipe stderr = new();
        private readonly CancellationTokenSource ended = new();

        public Shell(SimulatedHost host, SimulatedPlatform platform, TimeProvider time, List<List<string>> commands)
        {
            this.host = host;
            this.platform = platform;
            this.time = time;
            Stdout = stdout.Reader.AsStream();
            Stderr = stderr.Reader.AsStream();
            Ended = RunAsync(commands);
        }

        public int Pid { get; } = Random.Shared.Next(1000, 30000);
        public string User => "root";
        public Stream Stdout { get; }
        public Stream Stderr { get; }
        public Task<RunEnd> Ended { get; }

        public static bool Knows(string program) => Known.Contains(program);

        public void Terminate(bool force) => ended.Cancel();

        public void Dispose() => ended.Dispose();

        private async Task<RunEnd> RunAsync(List<List<string>> commands)
        {
            await Task.Yield();
            var status = 0;
            try
            {
                foreach (var words in commands)
                {
                    if (words[0] == "exit")
                    {
                        status = words.Count > 1 && int.TryParse(words[1], out var wanted) ? wanted & 0xff : status;
                        break;
                    }
                    status = await RunOneAsync(words).ConfigureAwait(false);
                }
                return new RunEnd(RunOutcome.Exited, status, null);
            }
            catch (OperationCanceledException)
            {
                return new RunEnd(RunOutcome.Signalled, 143, "Ended by signal TERM.");
            }
            finally
            {
                await stdout.Writer.CompleteAsync().ConfigureAwait(false);
                await stderr.Writer.CompleteAsync().ConfigureAwait(false);
            }
        }

        private async Task<int> RunOneAsync(List<string> words)
        {
            var toStderr = words.Remove(">&2") || words.Remove("1>&2");
            if (words[0] == "sleep")
            {
                var seconds = words.Count > 1 && double.TryParse(words[1], out var s) ? s : 0;
                await Task.Delay(TimeSpan.FromSeconds(Math.Clamp(seconds, 0, 1e6)), time, ended.Token).ConfigureAwait(false);
                return 0;
            }
            var (text, status) = Answer(words);
            if (text is not null)
            {
                await (toStderr || status == 127 ? stderr : stdout).Writer.WriteAsync(Encoding.UTF8.GetBytes(text + "\n"), ended.Token).ConfigureAwait(false);
            }
            return status;
        }

        private (string? Text, int Status) Answer(List<string> words)
        {
            var now = time.GetUtcNow();
            var health = SimulatedHealth.At(host, now);
            var disk = health.FileSystems[0];
            var rest = words.Skip(1).ToList();
            return words[0] switch
            {
                "echo" => (string.Join(' ', rest), 0),
                "true" => (null, 0),
                "false" => (null, 1),
                "hostname" => (host.Name, 0),
                "whoami" => ("root", 0),
                "id" => (rest.Contains("-un") ? "root" : "uid=0(root) gid=0(root) groups=0(root)", 0),
                "date" => (now.ToString("ddd MMM d HH:mm:ss 'UTC' yyyy"), 0),
                "uname" when rest is ["-r"] => (platform.Kernel, 0),
                "uname" => rest.Count == 0 ? ("Linux", 0) : ($"Linux {host.Name} {platform.Kernel} #1 SMP Debian x86_64 GNU/Linux", 0),
                "uptime" => ($" {now:HH:mm:ss} up {Units.Span(now - SimulatedHealth.BootedAt(host, now))},  {(host.Person is null ? 0 : 1)} user,  load average: {health.Load1:0.00}, {health.Load5:0.00}, {health.Load15:0.00}", 0),
                "df" => ($"Filesystem      Size  Used Avail Use% Mounted on\n/dev/sda1      {Size(disk.TotalBytes)} {Size(disk.UsedBytes)} {Size(disk.AvailableBytes)}  {disk.UsedPercent,2:0}% /", 0),
                "free" => ($"               total        used        free\nMem:      {Units.Bytes(health.MemoryTotalBytes),10}  {Units.Bytes(health.MemoryTotalBytes - health.MemoryAvailableBytes),10}  {Units.Bytes(health.MemoryAvailableBytes),10}", 0),
                "cat" when rest is ["/etc/hostname"] => (host.Name, 0),
                "cat" => ($"cat: {rest.FirstOrDefault()}: No such file or directory", 1),
                "systemctl" when rest is ["is-active", var unit] => platform.PrinterFailed && IsPrinter(unit) ? ("failed", 3) : ("active", 0),
                "systemctl" when rest is ["start" or "restart", var unit] => StartUnit(unit),
                "systemctl" => ("Use: systemctl is-active|start|restart UNIT", 1),
                _ => ($"sh: 1: {words[0]}: not found", 127),
            };
        }

        private static bool IsPrinter(string unit) => unit.StartsWith("ticket-print", StringComparison.Ordinal);

        private (string?, int) StartUnit(string unit)
        {
            if (IsPrinter(unit))
            {
                platform.StartPrinter();
            }
            return (null, 0);
        }

        private static string Size(long bytes) => $"{bytes / (double)(1L << 30),4:0}G";
    }
}
