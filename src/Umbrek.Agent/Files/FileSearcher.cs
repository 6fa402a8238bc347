using System.Threading.Channels;
using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

using Frames = FileFrames<FileWord, FileAsk>;

/// <summary>Looks for files, gently: on a thread of its own that gives way to whatever else the host does.</summary>
public sealed class FileSearcher(Frames frames, IHostFiles files, TransferCount count)
{
    /// <summary>More than these nobody looks through.</summary>
    public const int MostFound = 100_000;

    private const int MostProblems = 200;

    /// <summary>How often it is said how far it is: at so many files.</summary>
    private const int SayEvery = 20_000;

    /// <summary>Of a file only so much is looked into.</summary>
    private const long MostRead = 64 << 20;
    private const int WindowBytes = 256 * 1024;

    private static readonly TimeSpan LastWords = TimeSpan.FromSeconds(5);

    private readonly byte[] window = new byte[WindowBytes];
    private long looked;

    /// <param name="FoundOne">Null with no problem: it is a word of how far it is.</param>
    private readonly record struct Word(FileEntry? FoundOne, string? Problem);

    public async Task AnswerAsync(FileSearch search, CancellationToken cancel)
    {
        // What can't be looked at at all is the answer.
        if (files.Look(search.Folder).Kind != FileKind.Folder)
        {
            throw new IOException($"{search.Folder} is no folder; search in one.");
        }
        looked = 0;
        var words = Channel.CreateBounded<Word>(256);
        using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var looking = Task.Factory.StartNew(() => Look(search, words.Writer, over.Token), CancellationToken.None, TaskCreationOptions.LongRunning, TaskScheduler.Default);
        var (found, failed) = (0L, 0L);
        try
        {
            while (await words.Reader.WaitToReadAsync(cancel).ConfigureAwait(false) && found < MostFound)
            {
                while (found < MostFound && words.Reader.TryRead(out var word))
                {
                    (found, failed) = (found + (word.FoundOne is null ? 0 : 1), failed + (word.Problem is null ? 0 : 1));
                    if (word.Problem is null || failed <= MostProblems)
                    {
                        await frames.WriteAsync(word.FoundOne is { } one ? new FileWord(Entries: [one]) : new FileWord(Problem: word.Problem, Count: Volatile.Read(ref looked)), cancel).ConfigureAwait(false);
                    }
                }
                await frames.FlushAsync(cancel).ConfigureAwait(false);
            }
            if (found < MostFound)
            {
                // It has ended by itself; if it broke, the answer is not whole.
                await looking.ConfigureAwait(false);
            }
        }
        finally
        {
            await over.CancelAsync().ConfigureAwait(false);
            await looking.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            using var limit = new CancellationTokenSource(LastWords);
            await count.ChangedAsync(FileDeed.Search, files.PlaceOf(search.Folder), search.Describe(), found, failed, limit.Token).ConfigureAwait(false);
        }
        await frames.WriteAsync(
            new FileWord(Count: looked, Problem: found == MostFound ? $"{MostFound} were found, and the search was ended there; say more of what is wanted." : null, Done: true), cancel).ConfigureAwait(false);
    }

    private void Look(FileSearch search, ChannelWriter<Word> words, CancellationToken over)
    {
        try
        {
            files.GiveWay();
            var text = search.FoldedText();
            foreach (var found in files.Walk(search.Folder))
            {
                over.ThrowIfCancellationRequested();
                if (++looked % SayEvery == 0)
                {
                    Say(words, new Word(null, null), over);
                }
                if (found.Problem is { } problem)
                {
                    Say(words, new Word(null, problem), over);
                }
                else if (search.Takes(found.Entry!))
                {
                    Look(search, found, text, words, over);
                }
            }
        }
        catch (IOException e)
        {
            Say(words, new Word(null, e.Message), over);
        }
        finally
        {
            words.TryComplete();
        }
    }

    private void Look(FileSearch search, FileFound found, byte[] text, ChannelWriter<Word> words, CancellationToken over)
    {
        try
        {
            if (text.Length == 0 || Holds(search.Folder.In(found.Name), text, over))
            {
                Say(words, new Word(found.Entry, null), over);
            }
        }
        catch (IOException e)
        {
            Say(words, new Word(null, e.Message), over);
        }
    }

    /// <summary>Whether a text file has a text in it.</summary>
    private bool Holds(FileName path, byte[] text, CancellationToken over)
    {
        using var source = files.Open(path);
        // The end of a window is looked at with the next: a text may lie across.
        for (var (at, kept) = (0L, 0); at < MostRead;)
        {
            over.ThrowIfCancellationRequested();
            var got = source.Read(at, window.AsSpan(kept));
            if (got == 0)
            {
                return false;
            }
            var seen = window.AsSpan(0, kept + got);
            if (at == 0 && seen.Contains((byte)0))
            {
                return false;
            }
            FileSearch.Fold(seen[kept..]);
            if (seen.IndexOf(text) >= 0)
            {
                return true;
            }
            at += got;
            kept = Math.Min(text.Length - 1, seen.Length);
            seen[^kept..].CopyTo(window);
        }
        return false;
    }

    /// <summary>Waits until there is room: a technician who reads slowly holds the search back.</summary>
    private static void Say(ChannelWriter<Word> words, Word word, CancellationToken over) => words.WriteAsync(word, over).AsTask().GetAwaiter().GetResult();
}
