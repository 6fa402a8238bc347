using System.Security.Cryptography;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Files;
using Umbrek.Core.Links;
using Umbrek.Core.Text;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <summary>Fetches files of a host, over as many lines as it takes.</summary>
/// <param name="patience">So long it is tried to find a line that broke; each byte that comes begins it anew.</param>
/// <param name="arrivalOf">Where a file comes to.</param>
internal sealed class Fetch(HostFilesDoor door, TimeSpan patience, TimeProvider time, Func<FetchItem, IArrival> arrivalOf)
{
    /// <summary>So many files are asked for before the first has come: the line is never idle, and none is asked for twice.</summary>
    private const int Ahead = 64;

    private readonly Dictionary<FetchItem, IArrival> outputs = [];
    private TransferProgress? progress;
    private FetchPlan? plan;
    private bool somethingCame;

    /// <summary>What could not be fetched.</summary>
    public List<string> Problems { get; } = [];

    public TimeSpan Took => progress?.Took ?? TimeSpan.Zero;

    /// <param name="makePlan">Asked once.</param>
    public async Task<FetchPlan> RunAsync(Func<HostFiles, Task<FetchPlan>> makePlan, CancellationToken cancel)
    {
        var since = time.GetTimestamp();
        for (var attempt = 0; ; attempt++)
        {
            try
            {
                await using var files = await door.OpenAsync(cancel).ConfigureAwait(false);
                if (plan is null)
                {
                    plan = await makePlan(files).ConfigureAwait(false);
                    progress = new TransferProgress($"{door.Host.Label}", plan.Bytes, time);
                    MakeFolders(plan);
                }
                await MoveAsync(files, plan, cancel).ConfigureAwait(false);
                progress!.Clear();
                Finish(plan);
                return plan;
            }
            catch (LineBrokenException e)
            {
                progress?.Clear();
                if (somethingCame)
                {
                    // At once: most lines are there again as soon as they have gone.
                    (somethingCame, attempt, since) = (false, -1, time.GetTimestamp());
                    continue;
                }
                if (time.GetElapsedTime(since) > patience)
                {
                    throw new ClientException($"{e.Message} What has come is kept; the same command goes on from there.");
                }
                if (attempt == 0)
                {
                    await Console.Error.WriteLineAsync($"{e.Message} Going on as soon as {door.Host.Label} can be reached again.").ConfigureAwait(false);
                }
                await Task.Delay(Backoff.Delay(attempt, RandomNumberGenerator.GetInt32(1 << 20) / (double)(1 << 20)), time, cancel).ConfigureAwait(false);
            }
        }
    }

    private static void MakeFolders(FetchPlan plan)
    {
        foreach (var (_, target) in plan.Folders)
        {
            // Whatever a host says, nothing is written through a link that lies here.
            if (new DirectoryInfo(target) is { Exists: true, LinkTarget: not null })
            {
                throw new ClientException($"'{target}' is a link here; a folder of the host would be written through it. Move it away. Nothing was fetched.");
            }
            if (OperatingSystem.IsWindows())
            {
                Directory.CreateDirectory(target);
            }
            else
            {
                Directory.CreateDirectory(target, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
            }
        }
    }

    /// <summary>Links, and then times and modes of folders from within outwards: what is written in one changes its time.</summary>
    private void Finish(FetchPlan plan)
    {
        foreach (var (link, target) in plan.Links)
        {
            if (new FileInfo(link) is var here && here.LinkTarget == target)
            {
                continue;
            }
            if (Path.Exists(link) || here.LinkTarget is not null)
            {
                Problems.Add($"'{link}' is here already, and is not the link to {target} that the host has.");
                continue;
            }
            File.CreateSymbolicLink(link, target);
        }
        foreach (var (entry, target) in plan.Folders.AsEnumerable().Reverse())
        {
            Directory.SetLastWriteTimeUtc(target, entry.ChangedAt.UtcDateTime);
            if (!OperatingSystem.IsWindows())
            {
                File.SetUnixFileMode(target, (UnixFileMode)entry.Mode & FileArrival.Plain);
            }
        }
    }

    private async Task MoveAsync(HostFiles files, FetchPlan plan, CancellationToken cancel)
    {
        do
        {
            var left = plan.Groups.Select(g => new FetchGroup(g.Path, g.Items.FindAll(i => !i.IsDone))).Where(g => g.Items.Count > 0).ToList();
            using var window = new SemaphoreSlim(Ahead);
            using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            var arrivals = left.SelectMany(g => g.Items).ToDictionary(i => i, ArrivalOf);
            var asking = AskAsync(files, left, arrivals, window, over.Token);
            try
            {
                foreach (var group in left)
                {
                    await files.NextAsync(cancel).ConfigureAwait(false);
                    foreach (var item in group.Items)
                    {
                        await ReceiveAsync(files, item, arrivals[item], cancel).ConfigureAwait(false);
                        window.Release();
                    }
                }
            }
            finally
            {
                await over.CancelAsync().ConfigureAwait(false);
                await asking.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                foreach (var arrival in arrivals.Values.Except(outputs.Values))
                {
                    arrival.Dispose();
                }
            }
        }
        while (plan.Groups.Exists(g => g.Items.Exists(i => !i.IsDone)));
    }

    private IArrival ArrivalOf(FetchItem item)
    {
        if (!outputs.TryGetValue(item, out var arrival))
        {
            arrival = arrivalOf(item);
            if (arrival is OutputArrival)
            {
                outputs[item] = arrival;
            }
        }
        return arrival;
    }

    private static async Task AskAsync(HostFiles files, List<FetchGroup> groups, Dictionary<FetchItem, IArrival> arrivals, SemaphoreSlim window, CancellationToken over)
    {
        foreach (var group in groups)
        {
            await files.AskAsync(new FileAsk(Transfer: group.Path), over).ConfigureAwait(false);
            foreach (var item in group.Items)
            {
                await window.WaitAsync(over).ConfigureAwait(false);
                var version = item.Entry.Version ?? "";
                await files.AskAsync(new FileAsk(Read: new FileRead(item.Path, arrivals[item].HereOf(version), version)), over).ConfigureAwait(false);
            }
        }
    }

    private async Task ReceiveAsync(HostFiles files, FetchItem item, IArrival arrival, CancellationToken cancel)
    {
        while (true)
        {
            var message = await files.NextAsync(cancel).ConfigureAwait(false);
            somethingCame = true;
            switch (message.Word)
            {
                case null:
                    arrival.Data(message.Data.Span);
                    progress!.Add(message.Data.Length, came: true);
                    break;
                case { Problem: { } problem }:
                    item.IsDone = true;
                    arrival.Drop();
                    Problems.Add(problem);
                    return;
                case { Entry: { } entry }:
                    arrival.Begin(entry, message.Word.From ?? 0);
                    progress!.Add(message.Word.From ?? 0, came: false);
                    break;
                case { Zeros: { } zeros }:
                    arrival.Zeros(zeros);
                    progress!.Add(zeros, came: false);
                    break;
                case { Done: true, Sha256: { } sha256 }:
                    if (arrival.End(sha256))
                    {
                        (item.IsDone, item.Sha256) = (true, sha256);
                        if (message.Word.Changed)
                        {
                            progress!.Clear();
                            await Console.Error.WriteLineAsync($"{TerminalText.Line(item.Path.Text)} changed while it was read; what is here is what was read.").ConfigureAwait(false);
                        }
                    }
                    else if (item.WasTried)
                    {
                        item.IsDone = true;
                        Problems.Add($"{item.Path} did not arrive as the host has read it, twice: the hashes differ. Nothing of it is kept.");
                    }
                    item.WasTried = true;
                    return;
                default:
                    throw new ClientException($"{door.Host.Label} sent something else than was asked for.");
            }
        }
    }
}
