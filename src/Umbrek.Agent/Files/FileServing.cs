using System.Buffers;
using System.Net.WebSockets;
using System.Threading.Channels;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Core.Files;
using Umbrek.Wire.Files;

namespace Umbrek.Agent.Files;

using Frames = FileFrames<FileWord, FileAsk>;

/// <summary>Serves files to one side that asks, within some roots.</summary>
/// <param name="tell">Told of what was read and changed; waits until there is room for another.</param>
public sealed class FileServing(IHostPlatform platform, StateDirectory state, PartLedger ledger, IReadOnlyList<string>? roots, Func<FileReport, CancellationToken, ValueTask> tell, AgentLog log)
{
    /// <summary>Words, and messages of bytes, that are heard before those before them are answered: a few MiB at most.</summary>
    private const int MostHeard = 64;
    private static readonly TimeSpan LastWords = TimeSpan.FromSeconds(5);

    /// <summary>Hears while it answers, so that whoever goes is not read to.</summary>
    /// <param name="changes">Files are changed, and what is in them is not read.</param>
    public async Task AnswerAsync(Frames frames, bool changes, Guid channelId, CancellationTokenSource gone)
    {
        var heard = Channel.CreateBounded<FileHeard>(MostHeard);
        var hearing = HearAsync(frames, heard.Writer, gone);
        var files = platform.Files(roots);
        (IHostFiles, IFileChanges) Within(FileName folder)
        {
            var narrower = FileRoots.Intersect(roots, [folder.Text]);
            return (platform.Files(narrower), platform.FileChanges(state, ledger, narrower));
        }
        var count = new TransferCount(channelId, changes ? FileDeed.Write : FileDeed.Read, tell);
        using var changer = changes ? new FileChanger(frames, files, platform.FileChanges(state, ledger, roots), count, Within) : null;
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
            log.Warning("too many transfers could not be told to the service yet, and the last one is lost with them");
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
