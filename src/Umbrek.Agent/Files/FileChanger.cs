using Umbrek.Core.Files;
using Umbrek.Core.Text;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

using Frames = FileFrames<FileWord, FileAsk>;

/// <summary>Changes files as one technician asks for it, and puts new ones there.</summary>
/// <param name="within">Files below a folder alone.</param>
public sealed class FileChanger(Frames frames, IHostFiles files, IFileChanges changes, TransferCount count, Func<FileName, (IHostFiles Files, IFileChanges Changes)> within) : IDisposable
{
    /// <summary>How often it is said how far a change is: at so many files.</summary>
    private const int SayEvery = 1000;

    /// <summary>So many problems of one change are said one by one.</summary>
    private const int MostProblems = 200;

    private static readonly TimeSpan LastWords = TimeSpan.FromSeconds(5);

    private readonly FileIntake intake = new(frames, files, changes, count);

    /// <exception cref="IOException">What is in the way, for the technician.</exception>
    public async Task AnswerAsync(FileAsk ask, CancellationToken cancel)
    {
        switch (ask)
        {
            case { Trash: true }:
                await TellTrashAsync(cancel).ConfigureAwait(false);
                break;
            case { Part: { } part }:
                await frames.WriteAsync(new FileWord(From: changes.PartOf(part), Done: true), cancel).ConfigureAwait(false);
                break;
            case { Write: { } write }:
                await intake.BeginAsync(write, cancel).ConfigureAwait(false);
                break;
            case { Zeros: { } zeros }:
                await intake.SkipAsync(zeros, cancel).ConfigureAwait(false);
                break;
            case { Copy: { } copy }:
                await intake.CopyAsync(copy, cancel).ConfigureAwait(false);
                break;
            case { End: { } end }:
                await intake.EndAsync(end, cancel).ConfigureAwait(false);
                break;
            case { Change: { } change }:
                await ChangeAsync(change, cancel).ConfigureAwait(false);
                break;
        }
    }

    /// <summary>Bytes of the file that is being written.</summary>
    public ValueTask TakeAsync(ReadOnlyMemory<byte> data, CancellationToken cancel) => intake.TakeAsync(data, cancel);

    /// <summary>What was asked can't be meant.</summary>
    public void Refused(FileAsk ask)
    {
        if (ask.Write is { } write)
        {
            intake.PassOver(write);
        }
    }

    /// <summary>What was being written stays, to be gone on from.</summary>
    public void Dispose() => intake.Dispose();

    private async Task TellTrashAsync(CancellationToken cancel)
    {
        foreach (var item in changes.Trash())
        {
            // One to a word: a path of odd letters is long in JSON.
            await frames.WriteAsync(new FileWord(Trash: [item]), cancel).ConfigureAwait(false);
            cancel.ThrowIfCancellationRequested();
        }
        await frames.WriteAsync(new FileWord(Done: true), cancel).ConfigureAwait(false);
    }

    private async Task ChangeAsync(FileChange change, CancellationToken cancel)
    {
        switch (change)
        {
            case { Folder: { } path }:
                changes.MakeFolder(path);
                await DoneAsync(FileDeed.Folder, path, null, cancel).ConfigureAwait(false);
                break;
            case { Link: var (path, target) }:
                changes.MakeLink(path, target);
                await DoneAsync(FileDeed.Link, path, $"{target}", cancel).ConfigureAwait(false);
                break;
            case { Move: var (from, to) }:
                var place = files.PlaceOf(from.Folder()).In(from.Last());
                changes.Move(from, to);
                await DoneAsync(FileDeed.Move, place, $"{files.PlaceOf(to.Folder()).In(to.Last())}", cancel).ConfigureAwait(false);
                break;
            case { Delete: { } path }:
                var item = changes.Delete(path);
                await count.ChangedAsync(FileDeed.Delete, item.Path, "the trash", 1, 0, cancel).ConfigureAwait(false);
                await frames.WriteAsync(new FileWord(Trash: [item], Done: true), cancel).ConfigureAwait(false);
                break;
            case { Restore: { } id }:
                var back = changes.Restore(id);
                await DoneAsync(FileDeed.Restore, back, null, cancel).ConfigureAwait(false);
                break;
            case { Erase: { } path }:
                await ManyAsync(FileDeed.Erase, files.PlaceOf(path.Folder()).In(path.Last()), null, changes.Erase(path), cancel).ConfigureAwait(false);
                break;
            case { Empty: { } id }:
                await EmptyAsync(id, cancel).ConfigureAwait(false);
                break;
            case { Pack: { } pack }:
                await ManyAsync(FileDeed.Pack, files.PlaceOf(pack.To.Folder()).In(pack.To.Last()), string.Join(", ", pack.Paths.Select(p => TerminalText.Line(p.Text))), new FilePacker(files, changes).Pack(pack, cancel), cancel).ConfigureAwait(false);
                break;
            case { Unpack: { } unpack }:
                await ManyAsync(FileDeed.Unpack, files.PlaceOf(unpack.Archive), TerminalText.Line(unpack.To.Text), new FileUnpacker(files, changes, within).Unpack(unpack, cancel), cancel).ConfigureAwait(false);
                break;
            case { Set: { } setting }:
                await ManyAsync(FileDeed.Set, files.PlaceOf(setting.Path), Words(setting), changes.Set(setting), cancel).ConfigureAwait(false);
                break;
        }
    }

    private async Task DoneAsync(FileDeed deed, FileName place, string? to, CancellationToken cancel)
    {
        await count.ChangedAsync(deed, deed is FileDeed.Folder or FileDeed.Link ? files.PlaceOf(place.Folder()).In(place.Last()) : place, to, 1, 0, cancel).ConfigureAwait(false);
        await frames.WriteAsync(new FileWord(Done: true), cancel).ConfigureAwait(false);
    }

    private async Task EmptyAsync(string id, CancellationToken cancel)
    {
        if (id.Length > 0)
        {
            await ManyAsync(FileDeed.Empty, new FileName(id), null, changes.Empty(id), cancel).ConfigureAwait(false);
            return;
        }
        var all = changes.Trash().Select(i => i.Id).ToList();
        await ManyAsync(FileDeed.Empty, new FileName("/"), all.Count == 1 ? "1 deleted thing" : $"{all.Count} deleted things", all.SelectMany(changes.Empty), cancel).ConfigureAwait(false);
    }

    /// <summary>A change of many: how far it is, what was in the way, and at its end how many it were. Whatever ends it, what was done by then is told.</summary>
    private async Task ManyAsync(FileDeed deed, FileName place, string? to, IEnumerable<FileFound> all, CancellationToken cancel)
    {
        var (done, failed) = (0L, 0L);
        try
        {
            foreach (var found in all)
            {
                if (found.Problem is { } problem)
                {
                    if (failed++ < MostProblems)
                    {
                        await frames.WriteAsync(new FileWord(Problem: problem, At: found.Name), cancel).ConfigureAwait(false);
                    }
                }
                else if (++done % SayEvery == 0)
                {
                    await frames.WriteAsync(new FileWord(Count: done), cancel).ConfigureAwait(false);
                    await frames.FlushAsync(cancel).ConfigureAwait(false);
                }
                cancel.ThrowIfCancellationRequested();
            }
        }
        finally
        {
            if (done + failed > 0)
            {
                // Told even if the technician has just gone, but for a service that has long been away.
                using var limit = new CancellationTokenSource(LastWords);
                await count.ChangedAsync(deed, place, to, done, failed, limit.Token).ConfigureAwait(false);
            }
        }
        await frames.WriteAsync(new FileWord(Count: done, Problem: failed > MostProblems ? $"{failed - MostProblems} more could not be changed." : null, Done: true), cancel).ConfigureAwait(false);
    }

    private static string Words(FileSetting setting)
    {
        List<string> parts = [];
        if (setting.Mode is { } mode)
        {
            parts.Add($"mode {Convert.ToString(mode, 8).PadLeft(4, '0')}");
        }
        if (setting.Owner is { } owner)
        {
            parts.Add($"owner {TerminalText.Line(owner)}");
        }
        if (setting.Group is { } group)
        {
            parts.Add($"group {TerminalText.Line(group)}");
        }
        if (setting.ChangedAt is { } at)
        {
            parts.Add($"changed at {at:yyyy-MM-ddTHH:mm:ssZ}");
        }
        return string.Join(", ", parts) + (setting.Deep ? ", with all below it" : "");
    }
}
