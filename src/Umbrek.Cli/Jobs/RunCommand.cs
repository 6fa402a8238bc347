using System.CommandLine;
using System.Runtime.InteropServices;
using System.Text;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary><c>umbrek run</c>: a command on one host or many, with its output as it comes.</summary>
public static class RunCommand
{
    public static Command Run(ClientContext client)
    {
        var on = SelectionArgument.Option(client, "--on");
        var shell = new Option<string?>("--shell") { Description = "Program that is given the command with -c; /bin/sh when left out.", HelpName = "program" };
        var directory = new Option<string?>("--in-directory") { Description = "Absolute directory to run in.", HelpName = "directory" };
        var timeout = new Option<string?>("--time-out") { Description = "End the command after this time, for example 90s or 2h; no limit when left out.", HelpName = "time" };
        var expires = new Option<string?>("--expires") { Description = "How long a run waits for a host that is away; 1d when left out.", HelpName = "time" };
        var detach = new Option<bool>("--detach") { Description = "Start the job, print its id and return." };
        var wait = new Option<bool>("--wait") { Description = "Stay until hosts that are away have run it too." };
        var plain = new Option<bool>("--plain") { Description = "Print the output without the host's name before each line." };
        var secrets = new HostSecretOptions();
        var words = new Argument<string[]>("command") { Description = "One word is a line for the shell; several are a program and its arguments, run without a shell.", Arity = ArgumentArity.OneOrMore };
        var command = ClientCommands.Named("run", "Runs a command on hosts and shows what they answer.",
            "umbrek run --on 'in \"Brindle Moor Observatory\"' -- df -h\n  umbrek run --on 'quay-ticket-*' -- 'systemctl is-active cups || echo stopped'");
        command.Add([on, shell, directory, timeout, expires, detach, wait, plain, .. secrets.WithVault, words]);
        command.SetAction(async (parsed, cancel) =>
        {
            var typed = parsed.GetRequiredValue(words);
            var asLine = typed.Length == 1 || parsed.GetValue(shell) is not null;
            var spec = new CommandSpec
            {
                Line = asLine ? string.Join(' ', typed) : null,
                Arguments = asLine ? null : typed,
                Shell = parsed.GetValue(shell),
                WorkingDirectory = parsed.GetValue(directory),
                TimeoutSeconds = Seconds(parsed.GetValue(timeout)),
            };
            var wish = new NewJob(parsed.GetRequiredValue(on), spec, (long?)Seconds(parsed.GetValue(expires)));
            using var api = client.State.Open();
            var doors = secrets.AreGiven(parsed) ? await secrets.OpenAsync(client, api, parsed, wish.Selection, cancel).ConfigureAwait(false) : [];
            wish = wish with { Seals = [.. doors.Select(d => d.Seal(spec))], UsesVault = secrets.UsesVault(parsed) };
            var job = await api.PostAsync("jobs", wish, WireJson.Default.NewJob, WireJson.Default.JobInfo, cancel, Guid.NewGuid().ToString()).ConfigureAwait(false);
            // A host takes the order and then hears that the session is over: nothing overtakes on its link.
            foreach (var door in doors)
            {
                await door.EndAsync(api, cancel).ConfigureAwait(false);
            }
            if (parsed.GetValue(detach))
            {
                Listing.PrintOne(client.Format(parsed), job, WireJson.Default.JobInfo, ("Job", $"{job.Id}"), ("Runs", $"{job.Runs.Total}"), ("Follow it", $"umbrek job show --follow {Words.ShortId(job.Id)}"));
                return ExitCodes.Done;
            }
            return await FollowAsync(client, parsed, job.Id, parsed.GetValue(wait), !parsed.GetValue(plain), cancel).ConfigureAwait(false);
        });
        return command;
    }

    /// <summary>Shows a job until there is nothing more to wait for.</summary>
    public static async Task<int> FollowAsync(ClientContext client, ParseResult parsed, Guid jobId, bool waitForAway, bool prefix, CancellationToken cancel)
    {
        var format = client.Format(parsed);
        using var leave = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        using var interrupt = PosixSignalRegistration.Create(PosixSignal.SIGINT, c =>
        {
            c.Cancel = true;
            leave.Cancel();
        });
        var watch = new JobWatch(client.State.Require(), client.Time);
        var printer = new OutputPrinter(Console.Out, Console.Error, prefix);
        var collected = new Dictionary<Guid, (StringBuilder Stdout, StringBuilder Stderr)>();
        try
        {
            await watch.FollowAsync(
                jobId,
                (_, output) =>
                {
                    if (format == OutputFormat.Table)
                    {
                        printer.Print(watch.Runs, output);
                    }
                    else
                    {
                        Collect(collected, output);
                    }
                },
                w => !waitForAway && w.Job is { Runs: { Sent: 0, Running: 0 } } && w.Runs.Count == w.Job.Runs.Total && w.Runs.Values.All(r => r.State.IsFinal() || r.State == RunState.Waiting),
                leave.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            await Console.Error.WriteLineAsync($"\nThe job goes on without you. Follow it: umbrek job show --follow {Words.ShortId(jobId)}   End it: umbrek job cancel {Words.ShortId(jobId)}").ConfigureAwait(false);
            return ExitCodes.LeftRunning;
        }
        var runs = watch.Runs.Values.OrderBy(r => r.HostLabel, StringComparer.OrdinalIgnoreCase).ToList();
        if (format == OutputFormat.Table)
        {
            printer.Finish(watch.Runs);
            Sum(watch.Job!, runs);
        }
        else
        {
            Listing.Print(format, runs.ConvertAll(r => RunResult.From(r, collected.GetValueOrDefault(r.Id))), RunResultJson.Default.ListRunResult, "",
                new("Host", r => r.Host), new("State", r => r.State), new("Exit", r => $"{r.ExitStatus}"), new("Reason", r => r.Reason ?? ""), new("Stdout", r => r.Stdout), new("Stderr", r => r.Stderr));
        }
        return runs.Any(r => r.State.IsFinal() && r.State != RunState.Succeeded) ? ExitCodes.RunsFailed
            : runs.Any(r => !r.State.IsFinal()) ? ExitCodes.RunsWait
            : ExitCodes.Done;
    }

    private static void Sum(JobInfo job, List<RunInfo> runs)
    {
        foreach (var run in runs.Where(r => r.State.IsFinal() && r.State != RunState.Succeeded))
        {
            Console.Error.WriteLine($"{run.HostLabel} of {run.GroupPath}: {Words.Of(run)}{(run.Reason is { } reason ? $" – {TerminalText.Neutralise(reason)}" : "")}");
        }
        var waiting = runs.Count(r => r.State == RunState.Waiting);
        if (waiting > 0)
        {
            var away = waiting == 1 ? $"{runs.First(r => r.State == RunState.Waiting).HostLabel} is away; its run waits" : $"{waiting} of {runs.Count} hosts are away; their runs wait";
            Console.Error.WriteLine($"{away} until {Words.Iso(job.ExpiresAt)} and {(waiting == 1 ? "is sent when it returns" : "are sent when they return")}. Look later: umbrek job show {Words.ShortId(job.Id)}");
        }
        if (runs.Count > 1)
        {
            Console.Error.WriteLine($"{runs.Count} hosts: {Words.Of(job.Runs)}");
        }
    }

    private static void Collect(Dictionary<Guid, (StringBuilder Stdout, StringBuilder Stderr)> collected, IReadOnlyList<OutputPiece> output)
    {
        foreach (var piece in output)
        {
            if (!collected.TryGetValue(piece.RunId, out var texts))
            {
                collected[piece.RunId] = texts = (new(), new());
            }
            (piece.Stream == RunEventKind.Stderr ? texts.Stderr : texts.Stdout).Append(Encoding.UTF8.GetString(piece.Data));
        }
    }

    private static double? Seconds(string? text) =>
        text is null ? null : (Units.ParseSpan(text) ?? throw new ClientException($"'{text}' is no length of time; write it like 90s, 15min or 2h.", ExitCodes.WrongUse)).TotalSeconds;
}
