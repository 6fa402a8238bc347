using Umbrek.Cli.Hosting;
using Umbrek.Core.Files;
using Umbrek.Core.Text;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <summary>Fetches files of a host, over as many lines as it takes.</summary>
/// <param name="arrivalOf">Where a file comes to.</param>
internal sealed class Fetch(HostFilesDoor door, TransferOptions.Chosen how, TimeProvider time, Func<FetchItem, IArrival> arrivalOf, bool shows = true)
{
    /// <summary>So many files are asked for before the first has come: the line is never idle, and none is asked for twice.</summary>
    private const int Ahead = 256;

    private readonly SteadyLine steady = new(door, changes: false, how.Patience, time);
    private readonly Dictionary<FetchItem, IArrival> outputs = [];
    private TransferProgress? progress;
    private FetchPlan? plan;

    /// <summary>What could not be fetched.</summary>
    public List<string> Problems { get; } = [];

    public TimeSpan Took => progress?.Took ?? TimeSpan.Zero;

    /// <param name="makePlan">Asked once.</param>
    public async Task<FetchPlan> RunAsync(Func<HostFiles, Task<FetchPlan>> makePlan, CancellationToken cancel)
    {
        await steady.RunAsync(
            async files =>
            {
                if (plan is null)
                {
                    plan = await makePlan(files).ConfigureAwait(false);
                    progress = new TransferProgress($"{door.Host.Label}", plan.Bytes, time, quiet: !shows);
                    MakeFolders(plan);
                }
                await MoveAsync(files, plan, cancel).ConfigureAwait(false);
            },
            () => progress?.Clear(), cancel).ConfigureAwait(false);
        Finish(plan!);
        return plan!;
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
            progress!.Begin(plan.Groups.Sum(g => g.Items.Where(i => i.IsDone).Sum(i => i.Entry.Bytes)));
            using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
            var asked = new AskedAhead<(FetchItem Item, IArrival Arrival)?>(Ahead);
            var asking = AskAsync(files, plan, asked, over.Token);
            try
            {
                await foreach (var next in asked.ReadAllAsync(cancel).ConfigureAwait(false))
                {
                    if (next is not var (item, arrival))
                    {
                        await files.NextAsync(cancel).ConfigureAwait(false);
                        continue;
                    }
                    try
                    {
                        await ReceiveAsync(files, item, arrival, cancel).ConfigureAwait(false);
                    }
                    finally
                    {
                        Leave(item, arrival);
                    }
                }
                await asking.ConfigureAwait(false);
            }
            finally
            {
                await over.CancelAsync().ConfigureAwait(false);
                await asking.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                foreach (var unheard in asked.TakeLeft())
                {
                    if (unheard is var (item, arrival))
                    {
                        Leave(item, arrival);
                    }
                }
            }
        }
        while (plan.Groups.Exists(g => g.Items.Exists(i => !i.IsDone)));
    }

    /// <summary>An output goes on with what was written when the line breaks; a part is opened again.</summary>
    private IArrival ArrivalOf(FetchItem item) => outputs.TryGetValue(item, out var begun) ? begun : arrivalOf(item);

    private void Leave(FetchItem item, IArrival arrival)
    {
        if (arrival is OutputArrival)
        {
            outputs[item] = arrival;
        }
        else
        {
            arrival.Dispose();
        }
    }

    /// <summary>Asks for what is not here yet, and hands on what was asked for: null for a word that begins a group.</summary>
    private async Task AskAsync(HostFiles files, FetchPlan plan, AskedAhead<(FetchItem, IArrival)?> asked, CancellationToken over)
    {
        Exception? broken = null;
        try
        {
            foreach (var group in plan.Groups)
            {
                var left = group.Items.FindAll(i => !i.IsDone);
                if (left.Count > 0)
                {
                    await asked.AddAsync(null, files.FlushAsync, over).ConfigureAwait(false);
                    await files.FillAsync(new FileAsk(Transfer: group.Path), over).ConfigureAwait(false);
                }
                foreach (var item in left)
                {
                    var (arrival, version) = (ArrivalOf(item), item.Entry.Version ?? "");
                    await asked.AddAsync((item, arrival), files.FlushAsync, over).ConfigureAwait(false);
                    await files.FillAsync(new FileAsk(Read: new FileRead(item.Path, arrival.HereOf(version), version)), over).ConfigureAwait(false);
                }
            }
            await files.FlushAsync(over).ConfigureAwait(false);
        }
        catch (LineBrokenException e)
        {
            broken = e;
            throw;
        }
        finally
        {
            asked.Complete(broken);
        }
    }

    private async Task ReceiveAsync(HostFiles files, FetchItem item, IArrival arrival, CancellationToken cancel)
    {
        var size = 0L;
        while (true)
        {
            var message = await files.NextAsync(cancel).ConfigureAwait(false);
            steady.Moved();
            switch (message.Word)
            {
                case null:
                    arrival.Data(message.Data.Span);
                    progress!.Add(message.Data.Length, came: true);
                    await how.Rate.SpendAsync(message.Data.Length, cancel).ConfigureAwait(false);
                    break;
                case { Problem: { } problem }:
                    item.IsDone = true;
                    arrival.Drop();
                    Problems.Add(problem);
                    return;
                case { Entry: { } entry }:
                    if (message.Word.From is not { } from || from < 0 || from > entry.Bytes)
                    {
                        throw new ClientException($"{door.Host.Label} begins {item.Path} at no place of it.");
                    }
                    size = entry.Bytes;
                    arrival.Begin(entry, from);
                    progress!.Add(from, came: false);
                    break;
                case { Zeros: { } zeros } when zeros > 0 && zeros <= size:
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
