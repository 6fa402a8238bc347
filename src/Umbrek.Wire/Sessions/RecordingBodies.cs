namespace Umbrek.Wire.Sessions;

/// <summary>What was recorded.</summary>
public enum RecordingKind
{
    /// <summary>A shell, as asciicast v2.</summary>
    Shell,

    /// <summary>A desktop, as RFB with times.</summary>
    Desktop,
}

/// <summary>What went over one channel of a shell or a desktop, kept to be looked at again.</summary>
/// <param name="ShellId">A shell that one comes back to is recorded anew, so that several may be of one; null of a desktop, and while it has not begun.</param>
/// <param name="CommandText">What runs in it, as a person would read it; of a desktop, whether it was controlled or watched.</param>
/// <param name="User">The system user; of a desktop, who was logged in. Null while it has not begun, and where nobody was.</param>
/// <param name="IsTerminal">Of a shell: false where it was a command with pipes.</param>
/// <param name="HasKeys">What was typed is in it as well.</param>
/// <param name="Continues">It begins in the middle of a shell, to which somebody came back.</param>
/// <param name="EndedAt">Null while it goes on.</param>
/// <param name="Bytes">Of its content; null while it goes on.</param>
/// <param name="Sha256">Of its content, in hexadecimal digits; null while it goes on.</param>
public sealed record RecordingInfo(
    Guid Id, Guid SessionId, RecordingKind Kind, Guid? ShellId, Guid HostId, string HostLabel, string GroupPath, Guid TechnicianId, string Technician, string CommandText, string? User, bool IsTerminal, bool HasKeys, bool Continues,
    DateTimeOffset BeganAt, DateTimeOffset? EndedAt, long? Bytes, string? Sha256)
{
    /// <summary>The media type of a recorded shell, which is asciicast v2.</summary>
    public const string CastType = "application/x-asciicast";

    /// <summary>The media type of a recorded desktop (docs/screen-recording.md).</summary>
    public const string ScreenType = "application/vnd.umbrek.screen";
}

/// <summary>Something that happened in a recording.</summary>
/// <param name="At">Seconds since its beginning.</param>
public sealed record RecordingMark(double At, string Text);

/// <summary>How a film is to be made of a recorded desktop.</summary>
/// <param name="LongestPause">Longer pauses are shortened to so many seconds; null leaves them as they were.</param>
public sealed record NewFilm(double? LongestPause = null);

/// <summary>Whether there is a film of a recorded desktop.</summary>
public enum FilmState
{
    /// <summary>Nobody has had one made, or it was given up.</summary>
    None,
    Making,
    Ready,

    /// <summary>It came to nothing.</summary>
    Failed,
}

/// <summary>A film of a recorded desktop, in WebM.</summary>
/// <param name="Done">How much of the recording is in it, 0 to 1.</param>
/// <param name="Bytes">How large it is; null until it is ready.</param>
/// <param name="Problem">Why there will be none; null where there is or will be one.</param>
public sealed record FilmInfo(Guid RecordingId, FilmState State, double Done, long? Bytes = null, string? Problem = null)
{
    public const string MediaType = "video/webm";
}

/// <summary>Told with a channel that is recorded.</summary>
/// <param name="HasKeys">What is typed is recorded as well.</param>
public sealed record ChannelRecording(Guid Id, bool HasKeys);
