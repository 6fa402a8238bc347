using Microsoft.AspNetCore.Http.Connections;
using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Client;
using Microsoft.Extensions.DependencyInjection;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Jobs;
using Umbrek.Core.Links;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Jobs;

namespace Umbrek.Cli.Jobs;

/// <summary>
/// Follows a job live. A broken line is taken up again where it was: output that was seen is passed over by its sequence.
/// </summary>
public sealed class JobWatch(SignedIn who, TimeProvider time)
{
    private readonly Dictionary<Guid, long> seen = [];

    public JobInfo? Job { get; private set; }
    public Dictionary<Guid, RunInfo> Runs { get; } = [];

    /// <param name="changed">Called with the runs that changed and the new output.</param>
    /// <param name="enough">True when there is nothing more to wait for, though runs are open.</param>
    public async Task FollowAsync(Guid jobId, Action<IReadOnlyList<RunInfo>, IReadOnlyList<OutputPiece>> changed, Func<JobWatch, bool> enough, CancellationToken cancel)
    {
        for (var attempt = 0; ; attempt++)
        {
            await using var connection = Connect();
            try
            {
                await connection.StartAsync(cancel).ConfigureAwait(false);
                await foreach (var change in connection.StreamAsync<JobChanges>("Job", jobId, cancel).ConfigureAwait(false))
                {
                    attempt = 0;
                    Take(change, changed);
                    if (change.Finished || (change.CaughtUp && enough(this)))
                    {
                        return;
                    }
                }
            }
            catch (HubException e) when (e.Message.Contains(LiveProblems.AccessChanged, StringComparison.Ordinal))
            {
                // Whether it may still be seen shows at once.
                continue;
            }
            catch (HubException e)
            {
                throw new ClientException(e.Message);
            }
            catch (Exception e) when (e is HttpRequestException or IOException or System.Net.WebSockets.WebSocketException or InvalidOperationException or TaskCanceledException && !cancel.IsCancellationRequested)
            {
                if (attempt == 0)
                {
                    await Console.Error.WriteLineAsync($"The line to {who.Service.Authority} broke; the job goes on. Trying again …").ConfigureAwait(false);
                }
                if (attempt > 30)
                {
                    throw new ClientException($"{who.Service.Authority} does not come back. Look later: umbrek job show {jobId}");
                }
            }
            await Task.Delay(Backoff.Delay(attempt, Random.Shared.NextDouble()), time, cancel).ConfigureAwait(false);
        }
    }

    private void Take(JobChanges change, Action<IReadOnlyList<RunInfo>, IReadOnlyList<OutputPiece>> changed)
    {
        Job = change.Job;
        foreach (var run in change.Runs)
        {
            Runs[run.Id] = run;
        }
        var fresh = change.Output.Where(p => p.Sequence > seen.GetValueOrDefault(p.RunId, -1)).ToList();
        foreach (var piece in fresh)
        {
            seen[piece.RunId] = piece.Sequence;
        }
        changed(change.Runs, fresh);
    }

    private HubConnection Connect()
    {
        var builder = new HubConnectionBuilder().WithUrl(new Uri(ApiClient.Root(who.Service), "live"), HttpTransportType.WebSockets, options =>
        {
            options.SkipNegotiation = true;
            options.Headers["Authorization"] = $"Bearer {who.Token}";
            if (who.NewPin() is { } pin)
            {
                options.WebSocketConfiguration = socket => socket.RemoteCertificateValidationCallback = pin.Validate;
            }
        });
        builder.Services.Configure<JsonHubProtocolOptions>(o => o.PayloadSerializerOptions = new(WireJson.Default.Options));
        return builder.Build();
    }
}

/// <summary>Cuts output into lines and marks each with its host, so that many hosts can be read at once.</summary>
public sealed class OutputPrinter(TextWriter stdout, TextWriter stderr, bool prefix)
{
    private readonly Dictionary<(Guid Run, RunEventKind Stream), List<byte>> partial = [];
    private int width;

    public void Print(IReadOnlyDictionary<Guid, RunInfo> runs, IEnumerable<OutputPiece> pieces)
    {
        width = Math.Min(28, runs.Values.Select(r => r.HostLabel.Length).DefaultIfEmpty().Max());
        foreach (var piece in pieces)
        {
            if (!partial.TryGetValue((piece.RunId, piece.Stream), out var line))
            {
                partial[(piece.RunId, piece.Stream)] = line = [];
            }
            foreach (var b in piece.Data)
            {
                if (b == (byte)'\n')
                {
                    Write(runs[piece.RunId], piece.Stream, line);
                }
                else
                {
                    line.Add(b);
                }
            }
        }
    }

    /// <summary>Prints what was left without a line end.</summary>
    public void Finish(IReadOnlyDictionary<Guid, RunInfo> runs)
    {
        foreach (var ((run, stream), line) in partial.Where(p => p.Value.Count > 0))
        {
            Write(runs[run], stream, line);
        }
    }

    private void Write(RunInfo run, RunEventKind stream, List<byte> line)
    {
        var text = System.Text.Encoding.UTF8.GetString([.. line]).TrimEnd('\r');
        line.Clear();
        var mark = stream == RunEventKind.Stderr ? "!" : "|";
        (stream == RunEventKind.Stderr ? stderr : stdout).WriteLine(prefix ? $"{run.HostLabel.PadRight(width)} {mark} {Core.Text.TerminalText.Neutralise(text)}" : text);
    }
}
