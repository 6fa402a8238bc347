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
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary><c>umbrek run</c>: a command on one host or many, with its output as it comes.</summary>
public static class RunCommand
{
    public static Command Run(ClientContext client)
    {
        var on = SelectionArgument.Option(client, "--on");
        var how = new RunOptions();
        var follow = new FollowOptions();
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("run", "Runs a command or a script on hosts and shows what they answer.",
            "umbrek run --on 'in \"Brindle Moor Observatory\"' -- df -h\n  umbrek run --on 'quay-ticket-*' -- 'systemctl is-active cups || echo stopped'\n  umbrek run --on all --script tidy.sh --as www-data --at-once 5 --stop-after 2 --fold");
        command.Add([on, .. how.Options, .. follow.All, .. secrets.WithVault, how.Words]);
        command.SetAction(async (parsed, cancel) =>
        {
            var spec = await how.ReadCommandAsync(parsed, cancel).ConfigureAwait(false);
            using var api = client.State.Open();
            return await SendAsync(client, parsed, api, new NewJob(parsed.GetRequiredValue(on), spec, follow.Expires(parsed), Pace: how.Pace.Read(parsed)), spec, secrets, follow, cancel).ConfigureAwait(false);
        });
        return command;
    }

    /// <summary>Makes a job, with access keys proven where they are given, and follows it.</summary>
    /// <param name="then">What is done when runs of it have failed; its status counts, if it has one.</param>
    internal static async Task<int> SendAsync(ClientContext client, ParseResult parsed, ApiClient api, NewJob wish, CommandSpec spec, HostSecretOptions secrets, FollowOptions follow, CancellationToken cancel, bool folded = false, Func<JobInfo, Task<int?>>? then = null)
    {
        var doors = secrets.AreGiven(parsed) ? await secrets.OpenAsync(client, api, parsed, wish.Selection, spec.Act, cancel).ConfigureAwait(false) : [];
        wish = wish with { Seals = [.. doors.Select(d => d.Seal(spec))], UsesVault = secrets.UsesVault(parsed) };
        var job = await api.PostAsync("jobs", wish, WireJson.Default.NewJob, WireJson.Default.JobInfo, cancel, Guid.NewGuid().ToString()).ConfigureAwait(false);
        // A host takes the order and then hears that the session is over: nothing overtakes on its link.
        foreach (var door in doors)
        {
            await door.EndAsync(api, cancel).ConfigureAwait(false);
        }
        var status = await follow.FollowAsync(client, parsed, api, job, cancel, folded).ConfigureAwait(false);
        return status == ExitCodes.RunsFailed && then is not null ? await then(job).ConfigureAwait(false) ?? status : status;
    }

    /// <summary>Shows a job until there is nothing more to wait for.</summary>
    /// <param name="quietly">Nothing is printed but how it ended: whoever asked prints the answers himself.</param>
    public static async Task<int> FollowAsync(ClientContext client, ParseResult parsed, Guid jobId, bool waitForAway, bool prefix, CancellationToken cancel, bool quietly = false)
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
        var waits = new Dictionary<Guid, string>();
        try
        {
            await watch.FollowAsync(
                jobId,
                (runs, output) =>
                {
                    SayWhatWaits(runs, waits);
                    if (quietly)
                    {
                        Progress(watch);
                        return;
                    }
                    if (format == OutputFormat.Table)
                    {
                        printer.Print(watch.Runs, output);
                    }
                    else
                    {
                        Collect(collected, output);
                    }
                },
                w => !waitForAway && w.Job is { Runs: { Sent: 0, Running: 0 } } && w.Runs.Count == w.Job.Runs.Total && w.Runs.Values.All(r => r.State.IsFinal() || r is { State: RunState.Waiting, Held: false }),
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
        else if (!quietly)
        {
            Listing.Print(format, runs.ConvertAll(r => RunResult.From(r, collected.GetValueOrDefault(r.Id))), RunResultJson.Default.ListRunResult, "",
                new("Host", r => r.Host), new("State", r => r.State), new("Exit", r => $"{r.ExitStatus}"), new("Reason", r => r.Reason ?? ""), new("Stdout", r => r.Stdout), new("Stderr", r => r.Stderr));
        }
        return runs.Any(r => r.State.IsFinal() && r.State != RunState.Succeeded) ? ExitCodes.RunsFailed
            : runs.Any(r => !r.State.IsFinal()) ? ExitCodes.RunsWait
            : ExitCodes.Done;
    }

    /// <summary>What a run waits for at its host, each reason once: a person who is asked, or told and given time.</summary>
    private static void SayWhatWaits(IReadOnlyList<RunInfo> runs, Dictionary<Guid, string> said)
    {
        foreach (var run in runs.Where(r => r is { State: RunState.Sent or RunState.Running, Reason: not null } && said.GetValueOrDefault(r.Id) != r.Reason))
        {
            said[run.Id] = run.Reason!;
            Console.Error.WriteLine($"{run.HostLabel} of {run.GroupPath}: {run.Reason}");
        }
    }

    /// <summary>How far it is, on a line of its own that the next one takes the place of.</summary>
    private static void Progress(JobWatch watch)
    {
        if (!Console.IsErrorRedirected)
        {
            var runs = watch.Job!.Runs;
            var fetched = watch.Job.Command.Action?.Deliver is { Bytes: > 0 } deliver
                ? $", {Units.Bytes(watch.Runs.Values.Sum(r => Math.Min(r.FetchedBytes ?? (r.State == RunState.Succeeded ? deliver.Bytes : 0), deliver.Bytes)))} of {Units.Bytes(deliver.Bytes * (double)runs.Total)} are there"
                : "";
            Terminal.Progress(runs.Ended == runs.Total ? "" : $"{runs.Ended} of {runs.Total} have ended{(runs.Waiting > 0 ? $", {runs.Waiting} wait" : "")}{fetched} …");
        }
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
}
