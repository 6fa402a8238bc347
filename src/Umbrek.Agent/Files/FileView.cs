using System.Net.WebSockets;
using System.Threading.Channels;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Sessions;
using Umbrek.Core.Access;
using Umbrek.Wire;
using Umbrek.Wire.Files;
using Umbrek.Wire.Links;

namespace Umbrek.Agent.Files;

/// <param name="Refusal">Why there is nothing to see; null where there is.</param>
public sealed record FilesAdmission(string? Refusal, FilesWish Wish);

/// <summary>Shows technicians the files of this host, and lets them read them.</summary>
public sealed class FileView(IHostPlatform platform, ChannelGate gate, AgentLog log)
{
    /// <summary>More at once are not served.</summary>
    public const int Most = 16;

    private const int MostAsked = 256;
    private const int MostReports = 1000;
    private static readonly TimeSpan LastWords = TimeSpan.FromSeconds(5);
    private const string What = "a look at files";

    private readonly Channel<FileReport> reports = Channel.CreateBounded<FileReport>(new BoundedChannelOptions(MostReports) { FullMode = BoundedChannelFullMode.Wait });
    private int open;

    /// <summary>What was read.</summary>
    public ChannelReader<FileReport> Reports => reports.Reader;

    /// <summary>Decides about an order when it comes.</summary>
    public FilesAdmission Admit(FilesOrder? order)
    {
        if (order is not { Wish: not null })
        {
            return new FilesAdmission("The order to show files was empty.", new FilesWish());
        }
        var wish = order.Wish;
        return new FilesAdmission(gate.Admit(HostAct.ReadFiles, "its files to be read", order.Sealed, ref wish, LinkJson.Default.FilesWish), wish);
    }

    /// <summary>The host's end of the channel, until the technician goes.</summary>
    public async Task ServeAsync(WebSocket socket, ChannelOrder order, FilesAdmission admission, CancellationToken cancel)
    {
        var frames = new FileFrames(socket);
        var refusal = admission.Refusal;
        using var gone = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        if (Interlocked.Increment(ref open) > Most)
        {
            refusal ??= $"{Most} technicians read files of this host already, the most it lets in.";
        }
        try
        {
            var told = Task.CompletedTask;
            refusal ??= await gate.MayBeginAsync(order, HostAct.ReadFiles, What, n => told = SayAsync(frames, new FileWord(Notice: n), gone.Token), gone.Token).ConfigureAwait(false);
            await told.ConfigureAwait(false);
            if (refusal is not null)
            {
                log.Warning($"{What} for {order.Technician} refused: {refusal}");
                await SayAsync(frames, new FileWord(Refusal: refusal), cancel).ConfigureAwait(false);
                await frames.CloseAsync(cancel).ConfigureAwait(false);
                return;
            }
            log.Info($"{What} for {order.Technician}");
            try
            {
                await AnswerAsync(frames, new TransferCount(order.ChannelId, reports.Writer.WriteAsync), gone).ConfigureAwait(false);
            }
            finally
            {
                gate.TellEnd(order.Technician, What);
            }
            await frames.CloseAsync(cancel).ConfigureAwait(false);
        }
        finally
        {
            Interlocked.Decrement(ref open);
        }
    }

    private static async Task SayAsync(FileFrames frames, FileWord word, CancellationToken cancel)
    {
        await frames.WriteAsync(word, cancel).ConfigureAwait(false);
        await frames.FlushAsync(cancel).ConfigureAwait(false);
    }

    /// <summary>Hears while it answers, so that whoever goes is not read to.</summary>
    private async Task AnswerAsync(FileFrames frames, TransferCount count, CancellationTokenSource gone)
    {
        var asked = Channel.CreateBounded<FileAsk>(MostAsked);
        var hearing = HearAsync(frames, asked.Writer, gone);
        try
        {
            var answers = new FileAnswers(frames, platform.Files(), count);
            while (await asked.Reader.WaitToReadAsync(gone.Token).ConfigureAwait(false))
            {
                while (asked.Reader.TryRead(out var ask))
                {
                    await answers.AnswerAsync(ask, gone.Token).ConfigureAwait(false);
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

    private static async Task HearAsync(FileFrames frames, ChannelWriter<FileAsk> asked, CancellationTokenSource gone)
    {
        try
        {
            while (await frames.HearAsync(gone.Token).ConfigureAwait(false) is { } ask)
            {
                await asked.WriteAsync(ask, gone.Token).ConfigureAwait(false);
            }
        }
        finally
        {
            asked.TryComplete();
            await gone.CancelAsync().ConfigureAwait(false);
        }
    }
}
