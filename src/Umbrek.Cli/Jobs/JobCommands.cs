using System.CommandLine;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
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
        command.Add(List(client), Show(client), Output(client), Cancel(client));
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
                ("Job", $"{job.Id}"), ("Command", job.CommandText), ("On", job.Selection), ("Made", $"{Words.Iso(job.CreatedAt)} by {job.CreatedBy}"),
                ("Cancelled", job.CancelledAt is null ? null : $"{Words.Iso(job.CancelledAt)} by {job.CancelledBy}"), ("Runs", Words.Of(job.Runs)));
            if (client.Format(parsed) == OutputFormat.Table)
            {
                Console.Out.WriteLine();
                PrintRuns(OutputFormat.Table, detail);
            }
            return ExitCodes.Done;
        });
        return command;
    }

    private static void PrintRuns(OutputFormat format, JobDetail detail) => Listing.Print(format, detail.Runs, WireJson.Default.ListRunInfo, "",
        new("Host", r => r.HostLabel),
        new("Group", r => r.GroupPath),
        new("State", Words.Of),
        new("Took", r => r is { StartedAt: { } from, EndedAt: { } to } ? Took(to - from) : "", Right: true),
        new("Output", r => Units.Bytes(r.StdoutBytes + r.StderrBytes), Right: true, Machine: r => $"{r.StdoutBytes + r.StderrBytes}"),
        new("Reason", r => r.Reason ?? ""));

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
            var wanted = parsed.GetValue(host);
            var found = wanted is null ? runs : [.. runs.Where(r => string.Equals(r.HostLabel, wanted, StringComparison.OrdinalIgnoreCase) || string.Equals(r.SystemName, wanted, StringComparison.OrdinalIgnoreCase))];
            if (found is not [var run])
            {
                throw new ClientException(wanted is null ? $"The job ran on {runs.Count} hosts; say which with --host." : $"The job has no run on '{wanted}'. 'umbrek job show {Words.ShortId(job.Id)}' lists its hosts.", ExitCodes.NothingMatched);
            }
            using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}runs/{run.Id}/output?stream={parsed.GetValue(stream)}");
            using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            await using var stdout = Console.OpenStandardOutput();
            await response.Content.CopyToAsync(stdout, cancel).ConfigureAwait(false);
            return ExitCodes.Done;
        });
        return command;
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

    private static Argument<string> IdArgument() => new("id") { Description = "The job's id, or the last characters of it." };

    private static async Task<JobInfo> FindAsync(ApiClient api, string id, CancellationToken cancel)
    {
        if (Guid.TryParse(id, out var whole))
        {
            return (await api.GetAsync($"jobs/{whole}", WireJson.Default.JobDetail, cancel).ConfigureAwait(false)).Job;
        }
        var page = await api.GetAsync("jobs?limit=1000", WireJson.Default.PageJobInfo, cancel).ConfigureAwait(false);
        return ShortIds.Find(page.Items, j => j.Id, id, "job", "umbrek job list");
    }

    private static string Took(TimeSpan span) => span.TotalSeconds < 10 ? $"{span.TotalSeconds:0.0} s" : Units.Span(span);

    private static string Cut(string text)
    {
        var line = text.ReplaceLineEndings(" ");
        return line.Length <= 40 ? line : line[..39] + "…";
    }
}
