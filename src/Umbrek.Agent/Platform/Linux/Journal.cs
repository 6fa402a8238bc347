using System.ComponentModel;
using System.Diagnostics;
using System.Globalization;
using System.Runtime.CompilerServices;
using System.Text;
using System.Text.Json;
using System.Threading.Channels;
using Umbrek.Core.Jobs;
using Umbrek.Wire.Jobs;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>Reads the systemd journal by journalctl(1) with JSON, an entry to a line: first backwards what is there, then onwards from where that began.</summary>
internal static class Journal
{
    private const string Program = "journalctl";

    /// <summary>So many entries are looked at for those that are wanted.</summary>
    private const int MostLooked = 500_000;
    private const int LongestText = 16 * 1024;

    /// <summary>Instead of a text that journalctl leaves out of its JSON, over 4 KiB.</summary>
    private const string TooLong = "(a text of more than 4 KiB; on the host 'journalctl --all' shows it)";

    private static readonly string[] Directories = ["/run/log/journal", "/var/log/journal"];

    public static bool IsThere => Directories.Any(d => Directory.Exists(d) && Directory.EnumerateFiles(d, "*.journal", new EnumerationOptions { RecurseSubdirectories = true, MaxRecursionDepth = 1, IgnoreInaccessible = true }).Any());

    public static async IAsyncEnumerable<IReadOnlyList<LogLine>> ReadAsync(LogWish wish, [EnumeratorCancellation] CancellationToken cancel)
    {
        if (!IsThere)
        {
            throw new IOException("This host keeps no journal; read one of its log files.");
        }
        var (lines, cursor) = await ReadWhatIsThereAsync(wish, cancel).ConfigureAwait(false);
        foreach (var portion in LinuxLogs.Portions(lines))
        {
            yield return portion;
        }
        yield return [];
        if (!wish.Follow)
        {
            yield break;
        }
        using var reading = Start([.. Chosen(wish), "--follow", .. cursor is null ? ["--lines=0"] : (string[])["--no-tail", $"--after-cursor={cursor}"]]);
        var fresh = Channel.CreateBounded<LogLine>(2000);
        var pump = PumpAsync(reading, wish.Filter, fresh.Writer, cancel);
        while (await fresh.Reader.WaitToReadAsync(cancel).ConfigureAwait(false))
        {
            var ready = new List<LogLine>();
            while (ready.Count < 500 && fresh.Reader.TryRead(out var line))
            {
                ready.Add(line);
            }
            foreach (var portion in LinuxLogs.Portions(ready))
            {
                yield return portion;
            }
        }
        await pump.ConfigureAwait(false);
    }

    /// <returns>What is wanted, oldest first, and where the journal's end was.</returns>
    private static async Task<(IReadOnlyList<LogLine> Lines, string? Cursor)> ReadWhatIsThereAsync(LogWish wish, CancellationToken cancel)
    {
        using var reading = Start([.. Chosen(wish), "--reverse"]);
        var found = new List<LogLine>();
        string? cursor = null;
        for (var looked = 0; looked < MostLooked && await reading.ReadAsync(cancel).ConfigureAwait(false) is { } text; looked++)
        {
            if (Read(text, out var at) is not { } line)
            {
                continue;
            }
            cursor ??= at;
            if (found.Count >= wish.Lines)
            {
                break;
            }
            if (wish.Filter.Takes(line))
            {
                found.Add(line);
            }
        }
        found.Reverse();
        return (found, cursor);
    }

    private static async Task PumpAsync(Reading reading, LogFilter filter, ChannelWriter<LogLine> to, CancellationToken cancel)
    {
        try
        {
            while (await reading.ReadAsync(cancel).ConfigureAwait(false) is { } text)
            {
                if (Read(text, out _) is { } line && filter.Takes(line))
                {
                    await to.WriteAsync(line, cancel).ConfigureAwait(false);
                }
            }
            to.Complete(new IOException("The journal can't be followed any further. Look again."));
        }
        catch (Exception e) when (e is OperationCanceledException or IOException)
        {
            to.TryComplete(e);
        }
    }

    /// <summary>What journalctl can leave out itself.</summary>
    private static IEnumerable<string> Chosen(LogWish wish)
    {
        yield return "--no-pager";
        yield return "--quiet";
        yield return "--output=json";
        yield return "--output-fields=MESSAGE,PRIORITY,SYSLOG_IDENTIFIER,SYSLOG_PID,_COMM,_PID";
        if (wish.Service is { } service)
        {
            yield return $"--unit={LinuxServiceList.NameOf(service)}.service";
        }
        if (wish.Least is { } least)
        {
            yield return $"--priority={(int)least}";
        }
        if (wish.Since is { } since)
        {
            yield return string.Create(CultureInfo.InvariantCulture, $"--since=@{since.ToUnixTimeSeconds()}");
        }
        if (wish.Until is { } until)
        {
            yield return string.Create(CultureInfo.InvariantCulture, $"--until=@{until.ToUnixTimeSeconds() + 1}");
        }
    }

    /// <summary>systemd.journal-fields(7); a text that is no UTF-8 is an array of bytes, one that is too large null.</summary>
    internal static LogLine? Read(string json, out string? cursor)
    {
        cursor = null;
        try
        {
            using var entry = JsonDocument.Parse(json);
            string? Of(string field) => entry.RootElement.TryGetProperty(field, out var value) ? Text(value) : null;
            cursor = Of("__CURSOR");
            return new LogLine(
                long.TryParse(Of("__REALTIME_TIMESTAMP"), CultureInfo.InvariantCulture, out var microseconds) ? DateTimeOffset.UnixEpoch.AddMicroseconds(microseconds) : null,
                int.TryParse(Of("PRIORITY"), CultureInfo.InvariantCulture, out var priority) && priority is >= 0 and <= 7 ? (LogSeverity)priority : null,
                Of("SYSLOG_IDENTIFIER") ?? Of("_COMM"),
                int.TryParse(Of("_PID") ?? Of("SYSLOG_PID"), CultureInfo.InvariantCulture, out var pid) ? pid : null,
                Of("MESSAGE") is { } text ? text.Length > LongestText ? text[..LongestText] : text : entry.RootElement.TryGetProperty("MESSAGE", out _) ? TooLong : "");
        }
        catch (JsonException)
        {
            return null;
        }
    }

    private static string? Text(JsonElement value) => value.ValueKind switch
    {
        JsonValueKind.String => value.GetString(),
        JsonValueKind.Array when value.EnumerateArray().All(b => b.ValueKind == JsonValueKind.Number) => Encoding.UTF8.GetString([.. value.EnumerateArray().Select(b => (byte)b.GetInt32())]),
        JsonValueKind.Array => Text(value.EnumerateArray().FirstOrDefault()),
        _ => null,
    };

    private static Reading Start(IReadOnlyList<string> arguments)
    {
        try
        {
            return new Reading(Process.Start(new ProcessStartInfo(Program, arguments) { RedirectStandardInput = true, RedirectStandardOutput = true, StandardOutputEncoding = Encoding.UTF8 })!);
        }
        catch (Win32Exception e)
        {
            throw new IOException($"{Program} can't be run: {e.Message}.", e);
        }
    }

    /// <summary>A journalctl that is read line by line, and ended when nobody reads it any more.</summary>
    private sealed class Reading : IDisposable
    {
        private readonly Process process;

        public Reading(Process process)
        {
            this.process = process;
            process.StandardInput.Close();
        }

        public async Task<string?> ReadAsync(CancellationToken cancel) => await process.StandardOutput.ReadLineAsync(cancel).ConfigureAwait(false);

        public void Dispose()
        {
            try
            {
                process.Kill();
            }
            catch (Exception e) when (e is InvalidOperationException or Win32Exception)
            {
                // It has ended by itself.
            }
            process.Dispose();
        }
    }
}
