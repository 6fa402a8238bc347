using System.Globalization;

namespace Umbrek.Core.Health;

/// <summary>
/// Times of the week in which nobody is to be disturbed, in local time:
/// <code>
/// hours  = period, { ",", period } ;
/// period = days, [ times ] | times ;
/// days   = day, [ "-", day ] ;               (* mon tue wed thu fri sat sun *)
/// times  = hh:mm, "-", hh:mm ;
/// </code>
/// <c>mon-fri 18:00-07:00, sat-sun</c>. Times without days are for every day, days without times are whole days. A period that ends before it begins goes on over
/// midnight and belongs to the day on which it begins.
/// </summary>
public sealed class QuietHours
{
    public const int MostPeriods = 20;
    private const int MinutesOfDay = 24 * 60;
    private static readonly string[] Days = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"];

    private readonly Period[] periods;

    /// <summary>From and To in minutes since midnight; To is after From, past midnight above a day's minutes.</summary>
    private readonly record struct Period(DayOfWeek First, int Count, int From, int To)
    {
        public bool BeginsOn(DayOfWeek day) => ((int)day - (int)First + 7) % 7 < Count;
    }

    private QuietHours(Period[] periods) => this.periods = periods;

    /// <returns>Null with <paramref name="problem"/> set when it can't be read.</returns>
    public static QuietHours? Parse(string text, out string problem)
    {
        problem = "";
        var parts = text.Split(',', StringSplitOptions.TrimEntries);
        if (parts.Length > MostPeriods)
        {
            problem = $"These are {parts.Length} periods; {MostPeriods} are the most.";
            return null;
        }
        var periods = new List<Period>();
        foreach (var part in parts)
        {
            if (Read(part) is not { } period)
            {
                problem = part.Length == 0 ? "There is an empty period between two commas." : $"'{part}' is no period; write it like mon-fri 18:00-07:00, or sat-sun.";
                return null;
            }
            periods.Add(period);
        }
        return new QuietHours([.. periods]);
    }

    public bool IsQuiet(DateTime local) => EndOf(local) is not null;

    /// <summary>When it is no longer quiet, in local time; null when it is not quiet, or quiet for ever.</summary>
    public DateTime? EndsAt(DateTime local)
    {
        var at = local;
        while (EndOf(at) is { } end)
        {
            at = end;
            if (at - local > TimeSpan.FromDays(8))
            {
                return null;
            }
        }
        return at == local ? null : at;
    }

    public override string ToString() => string.Join(", ", periods.Select(p =>
    {
        var days = p.Count == 7 ? "" : p.Count == 1 ? Days[(int)p.First] : $"{Days[(int)p.First]}-{Days[((int)p.First + p.Count - 1) % 7]}";
        var times = p is { From: 0, To: MinutesOfDay } && days.Length > 0 ? "" : $"{Clock(p.From)}-{Clock(p.To > MinutesOfDay ? p.To - MinutesOfDay : p.To)}";
        return days.Length > 0 && times.Length > 0 ? $"{days} {times}" : days + times;
    }));

    /// <summary>The latest end of the periods in which the moment lies.</summary>
    private DateTime? EndOf(DateTime at)
    {
        DateTime? latest = null;
        foreach (var period in periods)
        {
            // One that began the day before may still go on.
            for (var back = 0; back <= 1; back++)
            {
                var day = at.Date.AddDays(-back);
                var (from, to) = (day.AddMinutes(period.From), day.AddMinutes(period.To));
                if (period.BeginsOn(day.DayOfWeek) && from <= at && at < to && !(latest > to))
                {
                    latest = to;
                }
            }
        }
        return latest;
    }

    private static Period? Read(string text)
    {
        var words = text.ToLowerInvariant().Split(' ', StringSplitOptions.RemoveEmptyEntries);
        var (first, count) = (DayOfWeek.Sunday, 7);
        if (words is [] or { Length: > 2 })
        {
            return null;
        }
        if (words[0][0] is >= 'a' and <= 'z')
        {
            var days = words[0].Split('-');
            var from = Array.IndexOf(Days, days[0]);
            var to = Array.IndexOf(Days, days[^1]);
            if (days.Length > 2 || from < 0 || to < 0)
            {
                return null;
            }
            (first, count) = ((DayOfWeek)from, (to - from + 7) % 7 + 1);
            if (words.Length == 1)
            {
                return new Period(first, count, 0, MinutesOfDay);
            }
        }
        else if (words.Length > 1)
        {
            return null;
        }
        return words[^1].Split('-') is [var begin, var end] && Minutes(begin) is { } b && Minutes(end) is { } e && b < MinutesOfDay ? new Period(first, count, b, e > b ? e : e + MinutesOfDay) : null;
    }

    private static int? Minutes(string clock) =>
        clock == "24:00" ? MinutesOfDay
        : TimeOnly.TryParseExact(clock, ["HH:mm", "H:mm"], CultureInfo.InvariantCulture, DateTimeStyles.None, out var at) ? at.Hour * 60 + at.Minute : null;

    private static string Clock(int minutes) => string.Create(CultureInfo.InvariantCulture, $"{minutes / 60:00}:{minutes % 60:00}");
}
