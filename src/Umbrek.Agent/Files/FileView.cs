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

    private const int MostReports = 1000;

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
        Tidy(ledger, log);
        foreach (var file in state.LeftPartsFiles())
        {
            var left = new PartLedger(file, time);
            Tidy(left, log);
            if (left.IsEmpty)
            {
                File.Delete(file);
            }
        }
    }

    internal static void Tidy(PartLedger parts, AgentLog log)
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
        var frames = FileFrames.OfHost(socket, admission.Wish.Packs ? time : null);
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
            using var shown = gate.Show(order, what, null);
            try
            {
                await new FileServing(platform, state, ledger, gate.Policy.FileRoots, reports.Writer.WriteAsync, log).AnswerAsync(frames, admission.Wish.Changes, order.ChannelId, gone).ConfigureAwait(false);
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
}
