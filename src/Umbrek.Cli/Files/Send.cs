using System.Security.Cryptography;
using Umbrek.Cli.Hosting;
using Umbrek.Core.Files;
using Umbrek.Core.Text;
using Umbrek.Wire.Files;

namespace Umbrek.Cli.Files;

/// <summary>How files are to be on the host.</summary>
/// <param name="Mode">Null: as they are here.</param>
internal sealed record SendAs(int? Mode, string? Owner, string? Group);

/// <summary>Sends files to a host, over as many lines as it takes.</summary>
internal sealed class Send(HostFilesDoor door, TransferOptions.Chosen how, SendAs wanted, TimeProvider time)
{
    /// <summary>So many files are on their way before the first is said to be there: the line is never idle.</summary>
    private const int Ahead = 256;

    /// <summary>Of larger ones it is asked first how much is there already.</summary>
    private const long Small = 1 << 20;

    private readonly SteadyLine steady = new(door, changes: true, how.Patience, time);
    private readonly byte[] buffer = new byte[4 * FileFrames.MaxRecord];
    private TransferProgress? progress;
    private SendPlan? plan;

    /// <summary>What could not be sent.</summary>
    public List<string> Problems { get; } = [];

    public TimeSpan Took => progress?.Took ?? TimeSpan.Zero;

    /// <param name="makePlan">Asked once.</param>
    public async Task<SendPlan> RunAsync(Func<HostFiles, Task<SendPlan>> makePlan, CancellationToken cancel)
    {
        await steady.RunAsync(
            async files =>
            {
                if (plan is null)
                {
                    plan = await makePlan(files).ConfigureAwait(false);
                    progress = new TransferProgress($"{door.Host.Label}", plan.Bytes, time);
                }
                do
                {
                    progress!.Begin(plan.Groups.Sum(g => g.Items.Where(i => i.IsDone).Sum(i => i.Bytes)));
                    await MoveAsync(files, plan, cancel).ConfigureAwait(false);
                }
                while (plan.Groups.Exists(g => g.Items.Exists(i => !i.IsDone)));
            },
            () => progress?.Clear(), cancel).ConfigureAwait(false);
        return plan!;
    }

    private async Task MoveAsync(HostFiles files, SendPlan plan, CancellationToken cancel)
    {
        using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var line = new Line(files);
        var hearing = line.HearAsync(over.Token);
        var saying = SayAllAsync(line, plan, over.Token);
        try
        {
            await Task.WhenAny(saying, hearing).Unwrap().ConfigureAwait(false);
            line.Close();
            await hearing.ConfigureAwait(false);
        }
        finally
        {
            await over.CancelAsync().ConfigureAwait(false);
            // Neither goes on beside the next line.
            await Task.WhenAll(saying, hearing).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    private async Task SayAllAsync(Line line, SendPlan plan, CancellationToken cancel)
    {
        foreach (var group in plan.Groups)
        {
            await line.AskAsync(new FileAsk(Transfer: group.Target), NoteAsync, cancel).ConfigureAwait(false);
            foreach (var (_, target) in plan.Folders.Where(f => IsBelow(group.Target, f.Target)))
            {
                await line.AskAsync(new FileAsk(Change: new FileChange(Folder: target)), NoteAsync, cancel).ConfigureAwait(false);
            }
            foreach (var item in group.Items.FindAll(i => !i.IsDone))
            {
                await SendAsync(line, item, cancel).ConfigureAwait(false);
            }
            await FinishAsync(line, group, plan, cancel).ConfigureAwait(false);
        }
        await line.FlushAsync(cancel).ConfigureAwait(false);
    }

    /// <summary>Links, and then times and modes of folders from within outwards: what is written in one changes its time.</summary>
    private async Task FinishAsync(Line line, SendGroup group, SendPlan plan, CancellationToken cancel)
    {
        foreach (var (link, target) in plan.Links.Where(l => IsBelow(group.Target, l.Link)))
        {
            await line.AskAsync(new FileAsk(Change: new FileChange(Link: new FileLink(link, target))), NoteAsync, cancel).ConfigureAwait(false);
        }
        foreach (var (folder, target) in plan.Folders.Where(f => IsBelow(group.Target, f.Target)).Reverse())
        {
            var mode = OperatingSystem.IsWindows() ? null : (int?)(File.GetUnixFileMode(folder) & FileArrival.Plain);
            await line.AskAsync(new FileAsk(Change: new FileChange(Set: new FileSetting(target, mode, wanted.Owner, wanted.Group, Directory.GetLastWriteTimeUtc(folder)))), NoteAsync, cancel).ConfigureAwait(false);
        }
    }

    private static bool IsBelow(FileName top, FileName path) => path.Text == top.Text || path.Text.StartsWith(top.Text + "/", StringComparison.Ordinal);

    private Task NoteAsync(FileWord word)
    {
        if (word.Problem is { } problem && !Problems.Contains(problem))
        {
            Problems.Add(problem);
        }
        return Task.CompletedTask;
    }

    private async Task SendAsync(Line line, SendItem item, CancellationToken cancel)
    {
        using var handle = Open(item);
        if (handle is null)
        {
            return;
        }
        if (item.Sha256 is not null && (await line.AnswerAsync(new FileAsk(Look: item.Target), cancel).ConfigureAwait(false)).Entry is { } there && there.Bytes == item.Bytes && there.ChangedAt == item.ChangedAt && there.Version != item.OldVersion)
        {
            // It took its place, and the word for it was lost with the line: no other file is given a name unless it is what was sent.
            (item.IsDone, item.IsThere) = (true, true);
            return;
        }
        var from = item.Bytes > Small && !item.WasTried ? Math.Min((await line.AnswerAsync(new FileAsk(Part: new FilePart(item.Target, item.Version)), cancel).ConfigureAwait(false)).From ?? 0, item.Bytes) : 0;
        if (from > item.Held)
        {
            item.Held = from;
            steady.Moved();
        }
        var write = new FileWrite(item.Target, item.Bytes, item.Version, from, item.Replaces, Mode: wanted.Mode ?? item.Mode, Owner: wanted.Owner, Group: wanted.Group, ChangedAt: item.ChangedAt);
        var isOver = false;
        await line.AskAsync(new FileAsk(Write: write), word =>
        {
            isOver = true;
            return EndedAsync(item, word);
        }, cancel).ConfigureAwait(false);
        progress!.Add(from, came: false);
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        var at = 0L;
        var zeros = 0L;
        while (at < item.Bytes && !Volatile.Read(ref isOver))
        {
            var got = RandomAccess.Read(handle, buffer.AsSpan(0, (int)Math.Min(buffer.Length, item.Bytes - at)), at);
            if (got == 0)
            {
                break;
            }
            hash.AppendData(buffer, 0, got);
            for (var part = 0; part < got; part += FileFrames.MaxRecord)
            {
                var bytes = buffer.AsMemory(part, Math.Min(FileFrames.MaxRecord, got - part));
                // What is there already is hashed only.
                bytes = bytes[(int)Math.Clamp(from - at - part, 0, bytes.Length)..];
                if (bytes.Length == FileFrames.MaxRecord && !bytes.Span.ContainsAnyExcept((byte)0))
                {
                    zeros += bytes.Length;
                    continue;
                }
                zeros = await SkipAsync(line, zeros, cancel).ConfigureAwait(false);
                await line.FillAsync(bytes, cancel).ConfigureAwait(false);
                progress.Add(bytes.Length, came: true);
                await how.Rate.SpendAsync(bytes.Length, cancel).ConfigureAwait(false);
            }
            at += got;
        }
        await SkipAsync(line, zeros, cancel).ConfigureAwait(false);
        if (at == item.Bytes && LocalFile.VersionOf(handle) != item.Version)
        {
            progress.Clear();
            await Console.Error.WriteLineAsync($"{TerminalText.Line(item.File)} changed while it was read; what is on the host is what was read.").ConfigureAwait(false);
        }
        var sha256 = at == item.Bytes ? hash.GetHashAndReset() : null;
        item.Sha256 = sha256;
        await line.FillAsync(new FileAsk(End: new FileEnd(sha256)), cancel).ConfigureAwait(false);
    }

    private async Task<long> SkipAsync(Line line, long zeros, CancellationToken cancel)
    {
        if (zeros > 0)
        {
            await line.FillAsync(new FileAsk(Zeros: zeros), cancel).ConfigureAwait(false);
            progress!.Add(zeros, came: false);
        }
        return 0;
    }

    private Microsoft.Win32.SafeHandles.SafeFileHandle? Open(SendItem item)
    {
        try
        {
            return LocalFile.Open(item.File);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            item.IsDone = true;
            Problems.Add(e.Message);
            return null;
        }
    }

    private Task EndedAsync(SendItem item, FileWord word)
    {
        steady.Moved();
        switch (word)
        {
            case { Differs: true } when !item.WasTried:
                // Once more, from its beginning.
                item.WasTried = true;
                item.Sha256 = null;
                break;
            case { Problem: { } problem }:
                item.IsDone = true;
                item.Sha256 = null;
                Problems.Add(problem);
                break;
            default:
                (item.IsDone, item.IsThere) = (true, true);
                break;
        }
        return Task.CompletedTask;
    }

    /// <summary>Questions on one line, and what becomes of their answers: one hears while the other says.</summary>
    private sealed class Line(HostFiles files)
    {
        private readonly AskedAhead<Func<FileWord, Task>> asked = new(Ahead);

        /// <summary>Fills in a question.</summary>
        /// <param name="answered">Told its last word.</param>
        public async Task AskAsync(FileAsk ask, Func<FileWord, Task> answered, CancellationToken cancel)
        {
            await asked.AddAsync(answered, files.FlushAsync, cancel).ConfigureAwait(false);
            await files.FillAsync(ask, cancel).ConfigureAwait(false);
        }

        /// <summary>Asks and waits.</summary>
        public async Task<FileWord> AnswerAsync(FileAsk ask, CancellationToken cancel)
        {
            var answer = new TaskCompletionSource<FileWord>(TaskCreationOptions.RunContinuationsAsynchronously);
            await AskAsync(ask, word =>
            {
                answer.TrySetResult(word);
                return Task.CompletedTask;
            }, cancel).ConfigureAwait(false);
            await files.FlushAsync(cancel).ConfigureAwait(false);
            return await answer.Task.WaitAsync(cancel).ConfigureAwait(false);
        }

        public Task FillAsync(FileAsk ask, CancellationToken cancel) => files.FillAsync(ask, cancel);

        public Task FillAsync(ReadOnlyMemory<byte> data, CancellationToken cancel) => files.FillAsync(data, cancel);

        public Task FlushAsync(CancellationToken cancel) => files.FlushAsync(cancel);

        /// <summary>Nothing more is asked.</summary>
        public void Close() => asked.Complete();

        public async Task HearAsync(CancellationToken cancel)
        {
            await foreach (var answered in asked.ReadAllAsync(cancel).ConfigureAwait(false))
            {
                FileWord? word;
                do
                {
                    word = (await files.NextAsync(cancel).ConfigureAwait(false)).Word ?? throw new ClientException("The host sent something else than was asked for.");
                }
                while (!word.Done);
                await answered(word).ConfigureAwait(false);
            }
        }
    }
}
