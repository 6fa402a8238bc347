using System.Globalization;
using System.Text.RegularExpressions;
using Ical.Net.CalendarComponents;
using Ical.Net.DataTypes;
using Ical.Net.Evaluation;
using Ical.Net.Serialization;
using Umbrek.Service.Storage;

namespace Umbrek.Service.Health;

/// <summary>One time of a maintenance window.</summary>
public readonly record struct MaintenanceTime(DateTimeOffset From, DateTimeOffset To);

/// <summary>When a maintenance window is: once, or by a recurrence rule (RFC 5545 §3.3.10) in the local time of its zone.</summary>
public sealed partial class MaintenanceTimes
{
    public const int MostMinutes = 7 * 24 * 60;
    public const string StartsFormat = "yyyy-MM-dd'T'HH:mm";

    /// <summary>So many steps in which a rule names no time, and it names none at all.</summary>
    private const int EmptySteps = 400;
    private static readonly EvaluationOptions Patience = new() { MaxUnmatchedIncrementsLimit = EmptySteps };

    private readonly CalendarEvent entry;
    private readonly DateTimeOffset? endedAt;
    private Around known = new(DateTimeOffset.MinValue, DateTimeOffset.MinValue, null, null, null);

    /// <param name="From">What is said holds from then until <paramref name="Until"/>.</param>
    private sealed record Around(DateTimeOffset From, DateTimeOffset Until, MaintenanceTime? Now, MaintenanceTime? Next, DateTimeOffset? LastEnd);

    public MaintenanceTimes(MaintenanceRow row)
    {
        entry = new CalendarEvent
        {
            Uid = $"{row.Id}",
            Summary = row.Name,
            Description = row.Note,
            DtStart = new CalDateTime(DateTime.ParseExact(row.Starts, StartsFormat, CultureInfo.InvariantCulture), row.Zone),
            Duration = Duration.FromTimeSpanExact(TimeSpan.FromMinutes(row.Minutes)),
            RecurrenceRule = row.Rule is { } rule ? new RecurrenceRule(rule) : null,
        };
        endedAt = row.EndedAt;
    }

    /// <summary>The time that goes on; one that begins before another ends makes it longer.</summary>
    public MaintenanceTime? Now(DateTimeOffset now) => At(now).Now;

    /// <summary>The next that has not begun.</summary>
    public MaintenanceTime? Next(DateTimeOffset now) => At(now).Next;

    /// <summary>When the last one ended, as far back as the longest window.</summary>
    public DateTimeOffset? LastEnd(DateTimeOffset now) => At(now).LastEnd;

    public string ToCalendar()
    {
        var calendar = new Ical.Net.Calendar { ProductId = "-//Umbrek//maintenance//EN" };
        calendar.Events.Add(entry);
        return new CalendarSerializer().SerializeToString(calendar)!;
    }

    /// <summary>
    /// Reads a recurrence rule strictly: what the calendar's own reader lets through may name a moment every second, or none for ever.
    /// </summary>
    /// <returns>The rule as it is kept, or null with <paramref name="problem"/> set.</returns>
    public static string? ReadRule(string text, out string problem)
    {
        problem = "";
        var seen = new HashSet<string>(StringComparer.Ordinal);
        var parts = new List<string>();
        foreach (var part in text.Trim().ToUpperInvariant().Split(';'))
        {
            if (Part().Match(part) is not { Success: true } match || !seen.Add(part[..part.IndexOf('=', StringComparison.Ordinal)]))
            {
                problem = $"'{part}' can't be read in a recurrence rule. Write it like FREQ=WEEKLY;BYDAY=SU, with a frequency of DAILY, WEEKLY, MONTHLY or YEARLY, and INTERVAL, COUNT, UNTIL, BYDAY, BYMONTHDAY, BYMONTH, BYSETPOS or WKST.";
                return null;
            }
            parts.Add(part);
        }
        if (!seen.Contains("FREQ") || (seen.Contains("COUNT") && seen.Contains("UNTIL")))
        {
            problem = seen.Contains("FREQ") ? "A recurrence rule ends by COUNT or by UNTIL, not by both." : "A recurrence rule says how often: FREQ=DAILY, WEEKLY, MONTHLY or YEARLY.";
            return null;
        }
        return string.Join(';', parts);
    }

    private Around At(DateTimeOffset now)
    {
        var before = known;
        return before.From <= now && now < before.Until ? before : known = Find(now);
    }

    private Around Find(DateTimeOffset now)
    {
        var from = now - TimeSpan.FromMinutes(MostMinutes) - TimeSpan.FromDays(1);
        MaintenanceTime? current = null;
        MaintenanceTime? next = null;
        DateTimeOffset? last = null;
        try
        {
            foreach (var occurrence in entry.GetOccurrences(new CalDateTime(from.UtcDateTime, "UTC"), Patience))
            {
                var begin = new DateTimeOffset(occurrence.Period.StartTime.AsUtc, TimeSpan.Zero);
                var end = begin + TimeSpan.FromMinutes(Minutes);
                if (endedAt is { } ended)
                {
                    if (begin >= ended)
                    {
                        break;
                    }
                    end = end < ended ? end : ended;
                }
                if (begin > now)
                {
                    next = new MaintenanceTime(begin, end);
                    break;
                }
                if (end <= now)
                {
                    last = last > end ? last : end;
                }
                else
                {
                    current = current is { } c ? new MaintenanceTime(c.From, c.To > end ? c.To : end) : new MaintenanceTime(begin, end);
                }
            }
        }
        catch (EvaluationLimitExceededException)
        {
            // It names no time any more.
        }
        DateTimeOffset?[] turns = [current?.To, next?.From];
        // Not for ever: whoever asks for a moment long past or far ahead asks anew.
        return new Around(now, turns.OfType<DateTimeOffset>().Append(now.AddDays(1)).Min(), current, next, last);
    }

    private double Minutes => entry.Duration!.Value.ToTimeSpan(entry.DtStart!).TotalMinutes;

    [GeneratedRegex("^(FREQ=(DAILY|WEEKLY|MONTHLY|YEARLY)|INTERVAL=[1-9][0-9]{0,2}|COUNT=[1-9][0-9]{0,3}|UNTIL=[0-9]{8}(T[0-9]{6}Z?)?|BYDAY=([+-]?[1-5]?[0-9]?(MO|TU|WE|TH|FR|SA|SU))(,[+-]?[1-5]?[0-9]?(MO|TU|WE|TH|FR|SA|SU)){0,13}|BYMONTHDAY=-?([1-9]|[12][0-9]|3[01])(,-?([1-9]|[12][0-9]|3[01])){0,30}|BYMONTH=([1-9]|1[0-2])(,([1-9]|1[0-2])){0,11}|BYSETPOS=-?[1-9][0-9]?(,-?[1-9][0-9]?){0,9}|WKST=(MO|TU|WE|TH|FR|SA|SU))$")]
    private static partial Regex Part();
}
