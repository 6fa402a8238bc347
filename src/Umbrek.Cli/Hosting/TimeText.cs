using System.Globalization;

namespace Umbrek.Cli.Hosting;

/// <summary>Times as people type them: a day, or a day and a time, in UTC.</summary>
internal static class TimeText
{
    /// <param name="endOfDay">A day alone means all of it: it is read as the next day's beginning.</param>
    public static DateTimeOffset Read(string text, bool endOfDay = false) =>
        !DateTimeOffset.TryParse(text, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal | DateTimeStyles.AdjustToUniversal, out var time)
            ? throw new ClientException($"'{text}' is no day or time; write it like 2026-11-20 or 2026-11-20T08:30.", ExitCodes.WrongUse)
        : endOfDay && DateOnly.TryParseExact(text.Trim(), "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out _) ? time.AddDays(1)
        : time;
}
