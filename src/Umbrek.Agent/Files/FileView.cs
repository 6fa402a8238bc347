using System.Buffers;
using System.Net.WebSockets;
using System.Threading.Channels;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Sessions;
using Umbrek.Core.Access;
using Umbrek.Core.Files;
using Umbrek.Wire;
using Umbrek.Wire.Files;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Files;

using Frames = FileFrames<FileWord, FileAsk>;

/// <param name="Refusal">Why there is nothing to see; null where there is.</param>
public sealed record FilesAdmission(string? Refusal, FilesWish Wish);

/// <summary>Shows technicians the files of this host, and lets them read and change them.</summary>
public sealed class FileView(IHostPlatform platform, StateDirectory state, ChannelGate gate, TimeProvider time, AgentLog log)
{
    /// <summary>More at once are not served.</summary>
    public const int Most = 16;

    /// <summary>Words, and messages of bytes, that are heard before those before them are answered: a few MiB at most.</summary>
    private const int MostHeard = 64;
    private const int MostReports = 1000;
    private static readonly TimeSpan LastWords = TimeSpan.FromSeconds(5);

    private readonly Channel<FileReport> reports = Channel.CreateBounded<FileReport>(new BoundedChannelOptions(MostReports) { FullMode = BoundedChannelFullMode.Wait });
    private readonly PartLedger ledger = new(state.PartsFile, time);
    private int open;

    /// <summary>What was read and changed.</summary>
    public ChannelReader<FileReport> Reports => reports.Reader;

    /// <summary>Decides about an order when it comes.</summary>
    public FilesAdmission Admit(FilesOrder? order)
    {
        if (order is not { Wish: not null })
        {
            return new FilesAdmission("The order to show files was empty.", new FilesWish());
        }
        // What was sealed is for one act alone: whichever it is, it is admitted as what it says.
        var (act, wish) = (order.Wish.Act(), order.Wish);
        var refusal = gate.Admit(act, act == HostAct.WriteFiles ? "its files to be changed" : "its files to be read", order.Sealed, ref wish, LinkJson.Default.FilesWish);
        return new FilesAdmission(refusal ?? (wish.Act() == act ? null : "What was sealed is not what was asked for."), wish);
    }

    /// <summary>Removes what was being written and nobody has gone on with for long.</summary>
    public void Tidy()
    {
        Tidy(ledger);
        foreach (var file in state.LeftPartsFiles())
        {
            var left = new PartLedger(file, time);
            Tidy(left);
            if (left.IsEmpty)
            {
                File.Delete(file);
            }
        }
    }

    private void Tidy(PartLedger parts)
    {
        foreach (var part in parts.Left())
        {
            try
            {
                File.Delete(part);
                log.Info($"{part} was removed: it was left half written more than {PartLedger.Kept.Days} days ago");
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                log.Warning($"{part} was left half written and can't be removed: {e.Message}");
            }
            parts.Ended(part);
        }
    }

    /// <summary>The host's end of the channel, until the technician goes.</summary>
    public async Task ServeAsync(WebSocket socket, ChannelOrder order, FilesAdmission admission, CancellationToken cancel)
    {
        var frames = FileFrames.OfHost(socket);
        var (act, what) = admission.Wish.Changes ? (HostAct.WriteFiles, "changes to files") : (HostAct.ReadFiles, "a look at files");
        var refusal = admission.Refusal;
        using var gone = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        if (Interlocked.Increment(ref open) > Most)
        {
            refusal ??= $"{Most} technicians read files of this host already, the most it lets in.";
        }
        try
        {
            var told = Task.CompletedTask;
            refusal ??= await gate.MayBeginAsync(order, act, what, n => told = frames.SayAsync(new FileWord(Notice: n), gone.Token), gone.Token).ConfigureAwait(false);
            await told.ConfigureAwait(false);
            if (refusal is not null)
            {
                log.Warning($"{what} for {order.Technician} refused: {refusal}");
                await frames.SayAsync(new FileWord(Refusal: refusal), cancel).ConfigureAwait(false);
                await frames.CloseAsync(cancel).ConfigureAwait(false);
                return;
            }
            log.Info($"{what} for {order.Technician}");
            try
            {
                await AnswerAsync(frames, admission.Wish, order.ChannelId, gone).ConfigureAwait(false);
            }
            finally
            {
                gate.TellEnd(order.Technician, what);
            }
            await frames.CloseAsync(cancel).ConfigureAwait(false);
        }
        finally
        {
            Interlocked.Decrement(ref open);
        }
    }

    /// <summary>Hears while it answers, so that whoever goes is not read to.</summary>
    private async Task AnswerAsync(Frames frames, FilesWish wish, Guid channelId, CancellationTokenSource gone)
    {
        var heard = Channel.CreateBounded<FileHeard>(MostHeard);
        var hearing = HearAsync(frames, heard.Writer, gone);
        var roots = gate.Policy.FileRoots;
        var files = platform.Files(roots);
        (IHostFiles, IFileChanges) Within(FileName folder)
        {
            var narrower = FileRoots.Intersect(roots, [folder.Text]);
            return (platform.Files(narrower), platform.FileChanges(state, ledger, narrower));
        }
        var count = new TransferCount(channelId, wish.Changes ? FileDeed.Write : FileDeed.Read, reports.Writer.WriteAsync);
        using var changer = wish.Changes ? new FileChanger(frames, files, platform.FileChanges(state, ledger, roots), count, Within) : null;
        try
        {
            var answers = new FileAnswers(frames, files, count, changer);
            while (await heard.Reader.WaitToReadAsync(gone.Token).ConfigureAwait(false))
            {
                while (heard.Reader.TryRead(out var next))
                {
                    using (next)
                    {
                        await (next.Ask is { } ask ? answers.AnswerAsync(ask, gone.Token) : answers.TakeAsync(next.Data, gone.Token).AsTask()).ConfigureAwait(false);
                    }
                }
                await frames.FlushAsync(gone.Token).ConfigureAwait(false);
            }
        }
        catch (Exception e) when ((e is OperationCanceledException or WebSocketException) && hearing.IsCompleted)
        {
            // The technician has gone in the middle of an answer.
        }
        finally
        {
            await gone.CancelAsync().ConfigureAwait(false);
            await hearing.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
            await TellLastAsync(count).ConfigureAwait(false);
        }
    }

    private async Task TellLastAsync(TransferCount count)
    {
        using var limit = new CancellationTokenSource(LastWords);
        try
        {
            await count.EndAsync(limit.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            log.Warning($"{MostReports} transfers could not be told to the service yet, and the last one is lost with them");
        }
    }

    private static async Task HearAsync(Frames frames, ChannelWriter<FileHeard> heard, CancellationTokenSource gone)
    {
        try
        {
            while (await frames.ReceiveAsync(gone.Token).ConfigureAwait(false) is { } message)
            {
                await heard.WriteAsync(message.Word is { } ask ? new FileHeard(ask) : FileHeard.Copy(message.Data.Span), gone.Token).ConfigureAwait(false);
            }
        }
        finally
        {
            heard.TryComplete();
            await gone.CancelAsync().ConfigureAwait(false);
        }
    }

    /// <summary>What a technician's side said: a word, or bytes of a file in a buffer that is lent.</summary>
    private readonly struct FileHeard(FileAsk? ask, byte[]? buffer = null, int length = 0) : IDisposable
    {
        public FileAsk? Ask => ask;

        public ReadOnlyMemory<byte> Data => buffer.AsMemory(0, length);

        public static FileHeard Copy(ReadOnlySpan<byte> data)
        {
            var buffer = ArrayPool<byte>.Shared.Rent(data.Length);
            data.CopyTo(buffer);
            return new FileHeard(null, buffer, data.Length);
        }

        public void Dispose()
        {
            if (buffer is not null)
            {
                ArrayPool<byte>.Shared.Return(buffer);
            }
        }
    }
}
