namespace Umbrek.Wire.Shell;

/// <summary>What went over one channel of a shell, kept to be looked at again.</summary>
/// <param name="ShellId">A shell that one comes back to is recorded anew, so that several may be of one; null while it has not begun.</param>
/// <param name="CommandText">What runs in it, as a person would read it.</param>
/// <param name="User">The system user; null while it has not begun.</param>
/// <param name="IsTerminal">False: a command with pipes.</param>
/// <param name="HasKeys">What was typed is in it as well.</param>
/// <param name="Continues">It begins in the middle of a shell, to which somebody came back.</param>
/// <param name="EndedAt">Null while it goes on.</param>
/// <param name="Bytes">Of its text; null while it goes on.</param>
/// <param name="Sha256">Of its text, in hexadecimal digits; null while it goes on.</param>
public sealed record RecordingInfo(
    Guid Id, Guid SessionId, Guid? ShellId, Guid HostId, string HostLabel, string GroupPath, Guid TechnicianId, string Technician, string CommandText, string? User, bool IsTerminal, bool HasKeys, bool Continues,
    DateTimeOffset BeganAt, DateTimeOffset? EndedAt, long? Bytes, string? Sha256)
{
    /// <summary>The media type of its text, which is asciicast v2.</summary>
    public const string MediaType = "application/x-asciicast";
}

/// <summary>Told with a channel that is recorded.</summary>
/// <param name="HasKeys">What is typed is recorded as well.</param>
public sealed record ChannelRecording(Guid Id, bool HasKeys);
