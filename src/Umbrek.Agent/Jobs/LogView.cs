using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform;
using Umbrek.Agent.Sessions;
using Umbrek.Core.Access;
using Umbrek.Core.Files;
using Umbrek.Core.Jobs;
using Umbrek.Wire;
using Umbrek.Wire.Jobs;
using Umbrek.Wire.Links;
using Umbrek.Wire.Sessions;

namespace Umbrek.Agent.Jobs;

/// <summary>Reads logs of this host.</summary>
public interface ILogReader
{
    /// <summary>Which there are.</summary>
    LogSources Sources();

    /// <summary>Lines as they are wanted, oldest first, in portions; an empty portion once, when everything that was there is read.</summary>
    /// <exception cref="IOException">The log can't be read; the message says why.</exception>
    IAsyncEnumerable<IReadOnlyList<LogLine>> ReadAsync(LogWish wish, CancellationToken cancel);
}

/// <param name="Refusal">Why there is nothing to see; null where there is.</param>
public sealed record LogAdmission(string? Refusal, LogWish Wish);

/// <summary>Shows technicians logs of this host for as long as they look.</summary>
public sealed class LogView(IHostPlatform platform, ChannelGate gate, AgentLog log)
{
    /// <summary>More at once do not look.</summary>
    public const int Most = 16;

    private readonly HostSpeaks speaks = new(gate, log, Most);

    /// <summary>Decides about an order when it comes.</summary>
    public LogAdmission Admit(LogOrder? order)
    {
        if (order is not { Wish: not null })
        {
            return new LogAdmission("The order to show a log was empty.", new LogWish());
        }
        var wish = order.Wish;
        var refusal = gate.Admit(HostAct.ReadFiles, "its logs to be read", order.Sealed, ref wish, LinkJson.Default.LogWish);
        return new LogAdmission(refusal ?? wish.Check(), wish);
    }

    /// <summary>The host's end of the channel, until either side goes.</summary>
    public Task ServeAsync(WordFrames<LogWord> frames, ChannelOrder order, LogAdmission admission, CancellationToken cancel) => speaks.ServeAsync(
        frames, order, HostAct.ReadFiles, $"a look into {admission.Wish.Name}", admission.Refusal, notice => new LogWord(Notice: notice), problem => new LogWord(Problem: problem), gone => TellAsync(frames, admission.Wish, gone), cancel);

    private async Task TellAsync(WordFrames<LogWord> frames, LogWish wish, CancellationToken gone)
    {
        var roots = gate.Policy.FileRoots;
        var reader = platform.Logs(roots);
        bool IsLetInto(string file) => roots is null || FileRoots.Find(roots, new FileName(file)) is not null;
        var sources = reader.Sources();
        await frames.SendAsync(new LogWord(sources with { Files = [.. sources.Files.Where(f => IsLetInto(f.Path))] }), gone).ConfigureAwait(false);
        try
        {
            if (wish.File is { } file && !IsLetInto(file))
            {
                throw new IOException($"{file} does not lie in what this host lets technicians into: {FileRoots.Words(roots!)}.");
            }
            await foreach (var lines in reader.ReadAsync(wish, gone).ConfigureAwait(false))
            {
                // A technician who reads slowly holds the log back, and with it what reads it.
                await frames.SendAsync(lines.Count == 0 ? new LogWord(CaughtUp: true) : new LogWord(Lines: lines), gone).ConfigureAwait(false);
            }
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            await frames.SendAsync(new LogWord(Problem: e.Message), gone).ConfigureAwait(false);
        }
    }
}
