using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Files;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Jobs;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>Looking back at jobs.</summary>
public static class JobCommands
{
    public static Command Job(ClientContext client)
    {
        var command = ClientCommands.Named("job", "What was sent to hosts, and what came of it.", "umbrek job list");
        command.Add(List(client), Show(client), StepCommand.Steps(client), AnswerCommands.Answers(client), AnswerCommands.Compare(client), AnswerCommands.Search(client), Output(client), AnswerCommands.Fetch(client), Again(client), Cancel(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var most = new Option<int>("--most") { Description = "How many, newest first.", DefaultValueFactory = _ => 50 };
        var host = new Option<string?>("--host") { Description = "Only jobs that ran on this host." };
        var command = ClientCommands.Named("list", "Lists jobs, newest first.", "umbrek job list --host quay-ticket-01");
        command.Add(most, host);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var filter = parsed.GetValue(host) is { } name ? $"&host={(await HostCommands.FindAsync(api, name, cancel).ConfigureAwait(false)).Id}" : "";
            var page = await api.GetAsync($"jobs?limit={parsed.GetValue(most)}{filter}", WireJson.Default.PageJobInfo, cancel).ConfigureAwait(false);
            var now = client.Time.GetUtcNow();
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListJobInfo, "No job has been made yet. Run something: umbrek run --on HOST -- COMMAND",
                new("Id", j => Words.ShortId(j.Id), Machine: j => $"{j.Id}"),
                new("Made", j => Words.Ago(j.CreatedAt, now), Machine: j => Words.Iso(j.CreatedAt)),
                new("By", j => j.CreatedBy),
                new("Command", j => Cut(j.CommandText), Machine: j => j.CommandText),
                new("On", j => j.Selection),
                new("Runs", j => Words.Of(j.Runs)));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Show(ClientContext client)
    {
        var id = IdArgument();
        var follow = new Option<bool>("--follow") { Description = "Show its output and stay until it has ended." };
        var command = ClientCommands.Named("show", "Shows a job and how it stands on each host.", "umbrek job show 8fda0d97");
        command.Add(id, follow);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var job = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            if (parsed.GetValue(follow))
            {
                return await RunCommand.FollowAsync(client, parsed, job.Id, true, true, cancel).ConfigureAwait(false);
            }
            var detail = await api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, cancel).ConfigureAwait(false);
            if (client.Format(parsed) == OutputFormat.Csv)
            {
                PrintRuns(OutputFormat.Csv, detail);
                return ExitCodes.Done;
            }
            Listing.PrintOne(client.Format(parsed), detail, WireJson.Default.JobDetail,
                ("Job", $"{job.Id}"), (job.Command.Steps is not null ? "Runbook" : job.Script is null ? "Command" : "Script", job.CommandText), ("On", job.Selection), ("Made", $"{Words.Iso(job.CreatedAt)} by {job.CreatedBy}"),
                ("How", How(job.Command, job.Pace)), ("Again of", job.AgainOf is { } of ? Words.ShortId(of) : null), ("Cancelled", job.CancelledAt is null ? null : $"{Words.Iso(job.CancelledAt)} by {job.CancelledBy}"), ("Runs", Words.Of(job.Runs)));
            if (client.Format(parsed) == OutputFormat.Table)
            {
                Console.Out.WriteLine();
                PrintRuns(OutputFormat.Table, detail);
            }
            return ExitCodes.Done;
        });
        return command;
    }

    private static void PrintRuns(OutputFormat format, JobDetail detail) => Listing.Print(format, detail.Runs, WireJson.Default.ListRunInfo, "", [
        new("Host", r => r.HostLabel),
        new("Group", r => r.GroupPath),
        new("State", Words.Of),
        .. detail.Job.Command.Steps is { } steps ? (Column<RunInfo>[])[new("Steps", r => StepCommand.Place(r, steps))] : [],
        new("Took", r => r is { StartedAt: { } from, EndedAt: { } to } ? Took(to - from) : "", Right: true),
        new("Output", r => r.OutputGone ? "not kept" : Units.Bytes(r.StdoutBytes + r.StderrBytes), Right: true, Machine: r => $"{r.StdoutBytes + r.StderrBytes}"),
        new("Reason", r => r.Reason ?? "")]);

    private static Command Output(ClientContext client)
    {
        var id = IdArgument();
        var host = new Option<string?>("--host") { Description = "The host whose output is wanted; needed when there is more than one." };
        var stream = new Option<string?>("--stream") { Description = "stdout or stderr; both when left out." };
        stream.AcceptOnlyFromAmong("stdout", "stderr");
        var command = ClientCommands.Named("output", "Writes one host's output, byte for byte as the command wrote it.", "umbrek job output 8fda0d97 --host quay-ticket-01 > ticket-01.txt");
        command.Add(id, host, stream);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var job = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var runs = (await api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, cancel).ConfigureAwait(false)).Runs;
            var run = RunOf(runs, parsed.GetValue(host), job);
            using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}runs/{run.Id}/output?stream={parsed.GetValue(stream)}");
            using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            await using var stdout = Console.OpenStandardOutput();
            await response.Content.CopyToAsync(stdout, cancel).ConfigureAwait(false);
            return ExitCodes.Done;
        });
        return command;
    }

    /// <summary>The run on the host of this name; the only one when none is said.</summary>
    internal static RunInfo RunOf(IReadOnlyList<RunInfo> runs, string? host, JobInfo job)
    {
        var found = host is null ? runs : [.. runs.Where(r => string.Equals(r.HostLabel, host, StringComparison.OrdinalIgnoreCase) || string.Equals(r.SystemName, host, StringComparison.OrdinalIgnoreCase))];
        return found switch
        {
            [var run] => run,
            _ when host is null => throw new ClientException($"The job ran on {runs.Count} hosts; say which with --host.", ExitCodes.NothingMatched),
            [] => throw new ClientException($"The job has no run on '{TerminalText.Line(host)}'. 'umbrek job show {Words.ShortId(job.Id)}' lists its hosts.", ExitCodes.NothingMatched),
            _ => throw new ClientException($"{found.Count} hosts of the job are called '{TerminalText.Line(host)}': {string.Join(", ", found.Select(r => $"{r.SystemName} in {r.GroupPath}"))}. Name it by what only one is called.", ExitCodes.NothingMatched),
        };
    }

    private static Command Again(ClientContext client)
    {
        var id = IdArgument();
        var all = new Option<bool>("--everywhere") { Description = "On all its hosts, not only where it ended in trouble." };
        var existing = new Option<string?>("--existing") { Description = "Of a job that puts files somewhere: what becomes of those in the way, this time: keep, replace, replace-older or rename.", HelpName = "way" };
        existing.AcceptOnlyFromAmong("keep", "replace", "replace-older", "rename");
        var follow = new FollowOptions();
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("again", "Runs a job's command again where it failed, timed out, was refused, expired or was interrupted.", "umbrek job again 8fda0d97");
        command.Add([id, all, existing, .. follow.All, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var job = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var runs = (await api.GetAsync($"jobs/{job.Id}", WireJson.Default.JobDetail, cancel).ConfigureAwait(false)).Runs.Where(r => parsed.GetValue(all) || r.State.IsTrouble()).ToList();
            var wish = new NewJobAgain(parsed.GetValue(all) ? [.. runs.Select(r => r.Id)] : null, follow.Expires(parsed), Existing: parsed.GetValue(existing) is { } way ? TransferOptions.ReadExisting(way) : null);
            return await AgainAsync(client, parsed, api, job, runs, wish, secrets, follow, cancel).ConfigureAwait(false);
        });
        return command;
    }

    /// <summary>Does a job again, with access keys proven where they are given, and follows it.</summary>
    internal static async Task<int> AgainAsync(ClientContext client, ParseResult parsed, ApiClient api, JobInfo job, List<RunInfo> runs, NewJobAgain wish, HostSecretOptions secrets, FollowOptions follow, CancellationToken cancel)
    {
        var hosts = runs.Select(r => r.HostId).ToHashSet();
        var command = wish.CommandOf(job.Command) ?? throw new ClientException("The job puts no files anywhere, so there are none in its way; leave --existing out.", ExitCodes.WrongUse);
        var doors = secrets.AreGiven(parsed) ? await secrets.OpenAsync(client, api, parsed, job.Selection, command.Act, cancel, h => hosts.Contains(h.Id)).ConfigureAwait(false) : [];
        wish = wish with { Seals = [.. doors.Select(d => d.Seal(command))], UsesVault = secrets.UsesVault(parsed) };
        var again = await api.PostAsync($"jobs/{job.Id}/again", wish, WireJson.Default.NewJobAgain, WireJson.Default.JobInfo, cancel, Guid.NewGuid().ToString()).ConfigureAwait(false);
        foreach (var door in doors)
        {
            await door.EndAsync(api, cancel).ConfigureAwait(false);
        }
        return await follow.FollowAsync(client, parsed, api, again, cancel, alwaysFolded: command.Action?.Deliver is not null).ConfigureAwait(false);
    }

    private static Command Cancel(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("cancel", "Ends every run of a job that has not ended.", "umbrek job cancel 8fda0d97");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var job = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var cancelled = await api.ActAsync($"jobs/{job.Id}/cancel", WireJson.Default.JobInfo, cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"Cancelling '{Cut(job.CommandText)}' on {job.Runs.Total - job.Runs.Ended} hosts. How it stands: umbrek job show {Words.ShortId(job.Id)}", cancelled, WireJson.Default.JobInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    internal static Argument<string> IdArgument() => new("id") { Description = "The job's id, or the last characters of it." };

    internal static async Task<JobInfo> FindAsync(ApiClient api, string id, CancellationToken cancel)
    {
        if (Guid.TryParse(id, out var whole))
        {
            return (await api.GetAsync($"jobs/{whole}", WireJson.Default.JobDetail, cancel).ConfigureAwait(false)).Job;
        }
        var page = await api.GetAsync("jobs?limit=1000", WireJson.Default.PageJobInfo, cancel).ConfigureAwait(false);
        return ShortIds.Find(page.Items, j => j.Id, id, "job", "umbrek job list");
    }

    /// <summary>What was said about how it runs, in a line; null when nothing was.</summary>
    internal static string? How(CommandSpec command, RunPace? pace)
    {
        var said = new List<string?>
        {
            command.User is { } user ? $"as {user}" : null,
            command.Shell is { } shell ? $"read by {shell}" : null,
            command.WorkingDirectory is { } directory ? $"in {directory}" : null,
            command.Environment is { Count: > 0 } set ? $"with {string.Join(", ", set.Select(e => e.Value.Length is 0 or > 40 ? e.Key : $"{e.Key}={e.Value}"))}" : null,
            command.Input is { } input ? $"with {Units.Bytes(input.Length)} of input" : null,
            command.Niceness is { } niceness ? $"niceness {niceness}" : null,
            command.TimeoutSeconds is { } seconds ? $"time-out {Units.Span(TimeSpan.FromSeconds(seconds))}" : null,
            command.OutputLimitBytes is { } limit ? $"output up to {Units.Bytes(limit)}" : null,
            pace?.AtOnce is { } atOnce ? $"{atOnce} at once" : null,
            pace is { OnePerGroup: true } ? "one of each group at once" : null,
            pace?.StopAfterFailures is { } failures ? $"stops after {failures} {(failures == 1 ? "failure" : "failures")}" : null,
        };
        var line = string.Join(", ", said.OfType<string>());
        return line.Length == 0 ? null : line;
    }

    internal static string Took(TimeSpan span) => span.TotalSeconds < 10 ? $"{span.TotalSeconds:0.0} s" : Units.Span(span);

    private static string Cut(string text)
    {
        var line = text.ReplaceLineEndings(" ");
        return line.Length <= 40 ? line : line[..39] + "…";
    }
}
