using System.Net.WebSockets;
using System.Text.Json.Serialization;
using Umbrek.Core.Access;
using Umbrek.Core.Jobs;
using Umbrek.Wire.Sessions;

namespace Umbrek.Wire.Jobs;

/// <summary>A look into a log of a host.</summary>
/// <param name="File">Path of a text file; null is the system's journal.</param>
/// <param name="Service">Only what this service wrote to the journal.</param>
/// <param name="Text">Only lines that hold it, letters of either case.</param>
/// <param name="Least">Only lines that are at least as grave.</param>
/// <param name="Lines">Most lines of those that are there already; the newest count. It must be there: nothing else that is sealed has it.</param>
/// <param name="Follow">Whether lines are wanted as they come.</param>
public sealed record LogWish(
    [property: JsonRequired] int Lines = LogWish.Usual, string? File = null, string? Service = null, string? Text = null, LogSeverity? Least = null, DateTimeOffset? Since = null, DateTimeOffset? Until = null, bool Follow = false)
{
    public const int Usual = 200;
    public const int Most = 10_000;
    private const int LongestPath = 4096;
    private const int LongestText = 500;

    public string? Check() =>
        Lines is < 0 or > Most ? $"From 0 to {Most} lines are shown, not {Lines}."
        : File is not null && Service is not null ? "A service's lines stand in the journal; leave out the service, or the file."
        : File is { } file && (!file.StartsWith('/') || file.Length > LongestPath || file.Contains('\0')) ? "Name the log by its whole path, such as /var/log/syslog."
        : Service is { } service && new ServiceWish(service, ServiceAct.Show).Check() is { } wrong ? wrong
        : Text is { } text && (text.Length > LongestText || text.AsSpan().ContainsAny('\n', '\r')) ? $"Look for one line of at most {LongestText} characters."
        : Least is { } least && !Enum.IsDefined(least) ? "There is no such severity."
        : Since >= Until ? "The end lies before the beginning; turn them round."
        : Until is not null && Follow ? "What comes has no end yet; leave out the end, or do not follow."
        : null;

    [JsonIgnore]
    public LogFilter Filter => new(Text, Least, Since, Until);

    /// <summary>Which log, in words.</summary>
    [JsonIgnore]
    public string Name => File ?? (Service is null ? "the journal" : $"the journal of {Service}");
}

/// <summary>The same, as the agent gets it.</summary>
public sealed record LogOrder(LogWish Wish, SealedOrder? Sealed = null);

/// <summary>A text file that looks like a log.</summary>
public sealed record LogFile(string Path, long Bytes, DateTimeOffset ChangedAt);

/// <summary>What logs a host has.</summary>
/// <param name="Journal">Whether it keeps a journal.</param>
/// <param name="Files">Those that changed last, first.</param>
public sealed record LogSources(bool Journal, IReadOnlyList<LogFile> Files);

/// <summary>What the host says on a channel of kind <c>logs</c>: text messages, each with some of these. The technician's side says nothing; it closes the channel.</summary>
/// <param name="Sources">Which logs there are; in the first message.</param>
/// <param name="Lines">Lines, oldest first.</param>
/// <param name="CaughtUp">Everything that was there is told; what follows is new.</param>
/// <param name="Notice">A sentence for the technician, while it goes on.</param>
/// <param name="Problem">Why there is nothing to see, in a sentence; the last message.</param>
public sealed record LogWord(LogSources? Sources = null, IReadOnlyList<LogLine>? Lines = null, bool CaughtUp = false, string? Notice = null, string? Problem = null)
{
    public const int MaxBytes = 32 << 20;

    public static WordFrames<LogWord> Frames(WebSocket socket) => new(socket, LinkJson.Default.LogWord, MaxBytes);
}
