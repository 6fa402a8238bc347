using System.Text.Json.Serialization;
using Umbrek.Core.Health;

namespace Umbrek.Wire.Health;

/// <summary>Who is told of which alerts, how and when.</summary>
/// <param name="Place">The group's path whose hosts it is about, with everything below; null is everything.</param>
/// <param name="On">Only hosts of this selection.</param>
/// <param name="About">Null is about every subsystem.</param>
/// <param name="Team">Its members get mail about hosts that they may see.</param>
/// <param name="Addresses">Mail addresses that are told of all that the notice is about.</param>
/// <param name="AfterSeconds">How long nobody has taken an alert up before it is told: 0 tells at once, more is an escalation.</param>
/// <param name="DigestAt">Times of day at which one mail tells all that is open; null tells at once.</param>
/// <param name="Quiet">Quiet hours, like <c>mon-fri 18:00-07:00, sat-sun</c>.</param>
/// <param name="Zone">Time zone of the quiet hours and the times of day.</param>
/// <param name="CriticalAlways">Critical alerts are told in quiet hours too.</param>
/// <param name="TellsEnd">That an alert is over is told to whoever was told of it.</param>
/// <param name="Waiting">Deliveries that are on their way; <paramref name="Failed"/> were given up.</param>
/// <param name="Trouble">Why nothing of it arrives, as far as it is known.</param>
public sealed record NoticeInfo(
    Guid Id, string Name, Guid? GroupId, string? Place, string? On, Severity AtLeast, IReadOnlyList<Subsystem>? About, NoticeWay Way, Guid? TeamId, string? Team, IReadOnlyList<string> Addresses, string? Url,
    double AfterSeconds, IReadOnlyList<string>? DigestAt, string? Quiet, string Zone, bool CriticalAlways, bool TellsEnd, bool Off, int Waiting, int Failed, DateTimeOffset? LastArrivedAt, string? Trouble, string CreatedBy, long Version);

/// <summary>A notice as somebody wants it; <see cref="NoticeInfo"/> says what each part means.</summary>
public sealed record NewNotice(
    string Name, NoticeWay Way, Severity AtLeast = Severity.Warning, Guid? GroupId = null, string? On = null, IReadOnlyList<Subsystem>? About = null, Guid? TeamId = null, IReadOnlyList<string>? Addresses = null, string? Url = null,
    double AfterSeconds = 0, IReadOnlyList<string>? DigestAt = null, string? Quiet = null, string? Zone = null, bool CriticalAlways = true, bool TellsEnd = true, bool Off = false);

/// <param name="Secret">What the receiver checks signatures with, in base 64; shown this once, null for mail.</param>
public sealed record NoticeMade(NoticeInfo Notice, string? Secret);

/// <summary>One mail, or one call of a web hook.</summary>
/// <param name="Body">The mail's text, or the event; only when one delivery is asked for.</param>
public sealed record DeliveryInfo(Guid Id, Guid NoticeId, string Notice, NoticeWay Way, string To, string Subject, string? Body, DeliveryState State, int Attempts, DateTimeOffset CreatedAt, DateTimeOffset? NextAt, DateTimeOffset? DoneAt, string? Problem);

public enum DeliveryActKind
{
    /// <summary>Try it again now.</summary>
    Resend,

    /// <summary>Forget it.</summary>
    Drop,
}

/// <param name="Ids">Null is every one of the notice that was given up.</param>
public sealed record DeliveryAct(DeliveryActKind Act, IReadOnlyList<Guid>? Ids = null, Guid? NoticeId = null);

public sealed record DeliveriesChanged(int Count);

public enum MailSecurity
{
    /// <summary>In clear: only on the way within one machine.</summary>
    None,

    /// <summary>STARTTLS (RFC 3207), refused when the server has none.</summary>
    StartTls,

    /// <summary>TLS from the beginning (RFC 8314).</summary>
    Tls,
}

/// <summary>Through which server mail goes out.</summary>
/// <param name="Server">Null while nobody has said.</param>
/// <param name="HasPassword">One is kept; it is never shown.</param>
/// <param name="Console">Address under which people open the console, for links; null leaves links out.</param>
public sealed record MailSettings(string? Server, int Port, MailSecurity Security, string? User, bool HasPassword, string? From, string? Console, long Version);

/// <param name="Password">Null leaves the one that is kept as it is, an empty one removes it.</param>
public sealed record MailSettingsWish(string? Server, int Port, MailSecurity Security, string? User, string? Password, string? From, string? Console);

/// <summary>What a web hook gets, in the structured JSON form of CloudEvents 1.0.</summary>
/// <param name="Type">umbrek.alert.raised, umbrek.alert.unattended (an escalation), umbrek.alert.cleared, umbrek.alert.dismissed or umbrek.notice.tried.</param>
/// <param name="Subject">The alert's id.</param>
/// <param name="Data">The alert; null for a trial.</param>
public sealed record HookEvent(
    [property: JsonPropertyName("specversion")] string SpecVersion, string Id, string Source, string Type, string? Subject, DateTimeOffset Time,
    [property: JsonPropertyName("datacontenttype")] string DataContentType, AlertInfo? Data)
{
    public const string ContentType = "application/cloudevents+json";
}

/// <summary>A time in which alerts of hosts make no noise: they are raised and shown, and nobody is told of them before it is over.</summary>
/// <param name="Place">The group's path, or the host's label; null is everything.</param>
/// <param name="On">Only hosts of this selection.</param>
/// <param name="Starts">In local time of the zone, like 2026-11-29T22:00.</param>
/// <param name="Rule">A recurrence rule (RFC 5545 §3.3.10), like FREQ=WEEKLY;BYDAY=SU; null is once.</param>
/// <param name="From">Beginning of the present or next time; null when there is none any more.</param>
public sealed record MaintenanceInfo(
    Guid Id, string Name, Guid? GroupId, Guid? HostId, string? Place, string? On, string Starts, string Zone, int Minutes, string? Rule, string? Note, bool Now, DateTimeOffset? From, DateTimeOffset? To, int Hosts, string CreatedBy, long Version);

/// <param name="Starts">Null is now, which <paramref name="Rule"/> can't go with.</param>
public sealed record NewMaintenance(string Name, int Minutes, Guid? GroupId = null, Guid? HostId = null, string? On = null, string? Starts = null, string? Zone = null, string? Rule = null, string? Note = null);
