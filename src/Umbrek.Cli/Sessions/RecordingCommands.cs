using System.CommandLine;
using System.Globalization;
using System.Runtime.CompilerServices;
using System.Security.Cryptography;
using System.Text;
using Microsoft.Win32.SafeHandles;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Shell;
using Umbrek.Core.Desktop;
using Umbrek.Core.Estate;
using Umbrek.Core.Shell;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Sessions;

namespace Umbrek.Cli.Sessions;

/// <summary><c>umbrek recording</c>: shells and desktops that were recorded, to be looked at again.</summary>
public static class RecordingCommands
{
    /// <summary>Gives a terminal back as a shell expects it, whatever the recording left: its main screen, a cursor, no mouse, no colours (xterm control sequences).</summary>
    private const string AsBefore = "\e[?1049l\e[?1000l\e[?1002l\e[?1003l\e[?1006l\e[?2004l\e[?25h\e[!p\e[0m";

    private static readonly TimeSpan FilmEvery = TimeSpan.FromMilliseconds(500);

    public static Command Recording(ClientContext client)
    {
        var command = ClientCommands.Named("recording", "Shells and desktops that were recorded, where the host policy says so.", "umbrek recording list\n  umbrek recording watch 70f4c2e1 --pace 4");
        command.Add(List(client), Watch(client), Marks(client), Save(client), Delete(client));
        return command;
    }

    private static Command List(ClientContext client)
    {
        var host = new Option<string?>("--host") { Description = "Only what was recorded on this host.", HelpName = "name" };
        var technician = new Option<string?>("--technician") { Description = "Only those of technicians in whose name this stands.", HelpName = "name" };
        var most = new Option<int>("--most") { Description = "How many, newest first.", DefaultValueFactory = _ => 50 };
        var command = ClientCommands.Named("list", "Lists recordings, newest first: your own, and all of places that you administer.", "umbrek recording list --host quay-ticket-01");
        command.Add(host, technician, most);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var filter = parsed.GetValue(host) is { } name ? $"&host={(await HostCommands.FindAsync(api, name, cancel).ConfigureAwait(false)).Id}" : "";
            filter += parsed.GetValue(technician) is { } who ? $"&technician={Uri.EscapeDataString(who)}" : "";
            var page = await api.GetAsync($"recordings?limit={parsed.GetValue(most)}{filter}", WireJson.Default.PageRecordingInfo, cancel).ConfigureAwait(false);
            var now = client.Time.GetUtcNow();
            Listing.Print(client.Format(parsed), page.Items, WireJson.Default.ListRecordingInfo, "There is no such recording. Shells and desktops are recorded where the host policy says so: umbrek policy set PLACE --record screen",
                new("Id", r => Words.ShortId(r.Id), Machine: r => $"{r.Id}"),
                new("Began", r => Words.Ago(r.BeganAt, now), Machine: r => Words.Iso(r.BeganAt)),
                new("Lasted", r => r.EndedAt is { } end ? Units.Span(end - r.BeganAt) : "goes on", Machine: r => r.EndedAt is { } end ? (end - r.BeganAt).TotalSeconds.ToString("0.###", CultureInfo.InvariantCulture) : ""),
                new("Technician", r => r.Technician),
                new("Host", r => r.HostLabel),
                new("Customer", r => GroupPath.Customer(r.GroupPath)),
                new("Runs", r => r.Continues ? $"{r.CommandText}, gone on with" : r.CommandText, Machine: r => r.CommandText),
                new("As", r => r.User ?? ""),
                new("Holds", r => r.HasKeys ? "screen and keys" : "screen"),
                new("Size", r => r.Bytes is { } bytes ? Units.Bytes(bytes) : "", Machine: r => $"{r.Bytes}"));
            return ExitCodes.Done;
        });
        return command;
    }

    private static Command Watch(ClientContext client)
    {
        var id = IdArgument();
        var pace = new Option<double>("--pace") { Description = "How many times as fast as it went; 2 is double.", HelpName = "times", DefaultValueFactory = _ => 1 };
        var pause = new Option<string?>("--longest-pause") { Description = "Longer pauses are shortened to this; 3s when left out, 'any' leaves them.", HelpName = "time" };
        var atOnce = new Option<bool>("--at-once") { Description = "Writes all of it out without waiting, as where the output is no terminal." };
        var command = ClientCommands.Named("watch", "Shows a recorded shell as it went.", "umbrek recording watch 70f4c2e1 --pace 4\n\nWhile it goes: space stops it and goes on, f is faster, s slower, q leaves.");
        command.Add(id, pace, pause, atOnce);
        command.SetAction(async (parsed, cancel) =>
        {
            if (parsed.GetValue(pace) is not (>= CastClock.Slowest and <= CastClock.Fastest))
            {
                throw new ClientException($"The pace goes from {CastClock.Slowest.ToString(CultureInfo.InvariantCulture)} to {CastClock.Fastest}.", ExitCodes.WrongUse);
            }
            var longest = parsed.GetValue(pause) switch
            {
                null => TimeSpan.FromSeconds(3),
                "any" => (TimeSpan?)null,
                var text => Units.ParseSpan(text) ?? throw new ClientException($"'{text}' is no length of time; write it like 500ms, 3s or 1min, or 'any'.", ExitCodes.WrongUse),
            };
            using var api = client.State.Open();
            var info = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            if (info.Kind == RecordingKind.Desktop)
            {
                throw new ClientException($"A desktop can't be shown in a terminal. Watch it in the console, under Sessions, or have a film of it: umbrek recording save {Words.ShortId(info.Id)} desktop.webm");
            }
            using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}recordings/{info.Id}/content");
            using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            using var lines = new StreamReader(await response.Content.ReadAsStreamAsync(cancel).ConfigureAwait(false));
            try
            {
                var header = CastReader.ReadHeader(await lines.ReadLineAsync(cancel).ConfigureAwait(false) ?? throw new InvalidDataException("It is empty."));
                var screen = new RawOutput(1);
                if (parsed.GetValue(atOnce) || !RawTerminal.IsThere)
                {
                    await foreach (var happened in ReadAsync(lines, cancel).ConfigureAwait(false))
                    {
                        if (happened.Kind == CastKind.Output)
                        {
                            screen.Write(Encoding.UTF8.GetBytes(happened.Text));
                        }
                    }
                    return ExitCodes.Done;
                }
                var clock = new CastClock(longest);
                clock.GoAt(parsed.GetValue(pace));
                return await ShowAsync(client, info, header, clock, ReadAsync(lines, cancel), screen, cancel).ConfigureAwait(false);
            }
            catch (InvalidDataException e)
            {
                throw new ClientException($"The recording can't be read: {e.Message}");
            }
        });
        return command;
    }

    private static async Task<int> ShowAsync(ClientContext client, RecordingInfo info, CastHeader header, CastClock clock, IAsyncEnumerable<CastEvent> events, RawOutput screen, CancellationToken cancel)
    {
        var where = $"{info.HostLabel} of {GroupPath.Customer(info.GroupPath)}";
        void Say(string sentence) => screen.Write(Encoding.UTF8.GetBytes($"\r\n\e[0;7m recorded: {where} \e[0m {TerminalText.Neutralise(sentence)}\r\n"));
        using var leaving = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        using var raw = RawTerminal.Take();
        Say($"{info.Technician}, {Words.Iso(info.BeganAt)}, {info.CommandText}. Space stops it and goes on, f is faster, s slower, q leaves.");
        var (own, its) = (RawTerminal.Size, header.Size);
        if (own.Columns < its.Columns || own.Rows < its.Rows)
        {
            Say($"It was {its.Columns} by {its.Rows} characters large and your terminal is {own.Columns} by {own.Rows}: make it larger to see it as it was.");
        }
        var show = new CastShow(clock, happened =>
        {
            if (happened.Kind == CastKind.Output)
            {
                screen.Write(Encoding.UTF8.GetBytes(happened.Text));
            }
            else if (happened.Kind == CastKind.Marker)
            {
                Say($"{happened.Text}.");
            }
        }, client.Time);
        _ = ReadKeysAsync(show, Say, leaving);
        var whole = true;
        try
        {
            await show.RunAsync(events, leaving.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            whole = false;
        }
        finally
        {
            screen.Write(Encoding.UTF8.GetBytes(AsBefore));
            if (whole)
            {
                Say(info.EndedAt is null ? "That is all so far; it goes on." : "That is all.");
            }
            raw.Dispose();
        }
        return ExitCodes.Done;
    }

    private static async Task ReadKeysAsync(CastShow show, Action<string> say, CancellationTokenSource leaving)
    {
        await Task.Yield();
        await using var keys = new FileStream(new SafeFileHandle(0, ownsHandle: false), FileAccess.Read, bufferSize: 0);
        var buffer = new byte[64];
        try
        {
            while (!leaving.IsCancellationRequested && await Task.Run(() => keys.Read(buffer)).ConfigureAwait(false) is var got and > 0)
            {
                foreach (var key in buffer.Take(got))
                {
                    switch (key)
                    {
                        case (byte)' ' when show.Hold():
                            say("It stands; space goes on.");
                            break;
                        case (byte)'f' or (byte)'s':
                            say($"{show.Change(key == 'f' ? 2 : 0.5).ToString("0.###", CultureInfo.InvariantCulture)} times as fast as it went.");
                            break;
                        case (byte)'q' or 3:
                            await leaving.CancelAsync().ConfigureAwait(false);
                            return;
                    }
                }
            }
        }
        catch (Exception e) when (e is IOException or ObjectDisposedException)
        {
            // The terminal is gone, or it is over.
        }
    }

    private static Command Save(ClientContext client)
    {
        var id = IdArgument();
        var file = new Argument<string?>("file") { Description = "Where to; '-' is standard output. Named by its id when left out. What ends with .webm becomes a film, of a desktop.", Arity = ArgumentArity.ZeroOrOne };
        var pause = new Option<string?>("--longest-pause") { Description = "In a film, longer pauses are shortened to this; 'any', and when left out, leaves them.", HelpName = "time" };
        var command = ClientCommands.Named("save", "Writes a recording to a file: a shell as asciicast v2, a desktop as RFB with times, or as a film in WebM.",
            "umbrek recording save 70f4c2e1 tide.cast\n  umbrek recording save 81c0aa02 counter.webm --longest-pause 2s");
        command.Add(id, file, pause);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var info = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            var name = parsed.GetValue(file) ?? $"{info.Id}.{(info.Kind == RecordingKind.Desktop ? "screen" : "cast")}";
            var longest = parsed.GetValue(pause) is { } text && text != "any"
                ? Units.ParseSpan(text) ?? throw new ClientException($"'{text}' is no length of time; write it like 500ms, 3s or 1min, or 'any'.", ExitCodes.WrongUse)
                : (TimeSpan?)null;
            if (name.EndsWith(".webm", StringComparison.OrdinalIgnoreCase))
            {
                return await SaveFilmAsync(client, parsed, api, info, name, longest, cancel).ConfigureAwait(false);
            }
            if (longest is not null)
            {
                throw new ClientException("--longest-pause is for a film: name a file that ends with .webm.", ExitCodes.WrongUse);
            }
            if (name == "-")
            {
                await using var stdout = Console.OpenStandardOutput();
                await FetchAsync(api, info, stdout, cancel).ConfigureAwait(false);
                return ExitCodes.Done;
            }
            var bytes = await WholeFile.WriteAsync(name, to => FetchAsync(api, info, to, cancel)).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), $"{name}: {Units.Bytes(bytes)}{(info.EndedAt is null ? " so far; it goes on" : ", unchanged since it was recorded")}.", info, WireJson.Default.RecordingInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    /// <summary>Has a film made, says how far it has come, and fetches it; whoever stops here gives it up there too.</summary>
    private static async Task<int> SaveFilmAsync(ClientContext client, ParseResult parsed, ApiClient api, RecordingInfo info, string name, TimeSpan? longestPause, CancellationToken stop)
    {
        using var leaving = new Leaving(stop);
        var cancel = leaving.Token;
        var film = await api.PostAsync($"recordings/{info.Id}/film", new NewFilm(longestPause?.TotalSeconds), WireJson.Default.NewFilm, WireJson.Default.FilmInfo, cancel).ConfigureAwait(false);
        var shows = !Console.IsErrorRedirected;
        try
        {
            while (film.State == FilmState.Making)
            {
                if (shows)
                {
                    Terminal.Progress($"Making a film of it: {film.Done.ToString("P0", CultureInfo.InvariantCulture)}");
                }
                await Task.Delay(FilmEvery, client.Time, cancel).ConfigureAwait(false);
                film = await api.GetAsync($"recordings/{info.Id}/film", WireJson.Default.FilmInfo, cancel).ConfigureAwait(false);
            }
        }
        catch (OperationCanceledException)
        {
            using var parting = new CancellationTokenSource(TimeSpan.FromSeconds(5));
            await api.ActAsync(HttpMethod.Delete, $"recordings/{info.Id}/film", parting.Token).ConfigureAwait(false);
            return Leaving.Say("The film is given up.");
        }
        finally
        {
            if (shows)
            {
                Terminal.Progress("");
            }
        }
        if (film.State != FilmState.Ready)
        {
            throw new ClientException(film.Problem ?? "Somebody has given the film up while it was made.");
        }
        var bytes = await WholeFile.WriteAsync(name, async to =>
        {
            using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}recordings/{info.Id}/film/content");
            using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            await using var from = await response.Content.ReadAsStreamAsync(cancel).ConfigureAwait(false);
            await from.CopyToAsync(to, cancel).ConfigureAwait(false);
        }).ConfigureAwait(false);
        Listing.Say(client.Format(parsed), $"{name}: {Units.Bytes(bytes)}, a film in WebM.", film, WireJson.Default.FilmInfo);
        return ExitCodes.Done;
    }

    private static Command Marks(ClientContext client)
    {
        var id = IdArgument();
        var command = ClientCommands.Named("marks", "Lists what happened in a recording, and when: screens, clipboards, typing, keyboards that were taken.", "umbrek recording marks 81c0aa02");
        command.Add(id);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var info = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}recordings/{info.Id}/content");
            using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
            await using var content = await response.Content.ReadAsStreamAsync(cancel).ConfigureAwait(false);
            try
            {
                var marks = info.Kind == RecordingKind.Desktop ? await ScreenMarksAsync(content, cancel).ConfigureAwait(false) : await CastMarksAsync(content, cancel).ConfigureAwait(false);
                Listing.Print(client.Format(parsed), marks, WireJson.Default.ListRecordingMark, "Nothing is marked in it.",
                    new("At", m => TimeSpan.FromSeconds(m.At).ToString(m.At < 3600 ? @"mm\:ss" : @"h\:mm\:ss", CultureInfo.InvariantCulture), Machine: m => m.At.ToString("0.###", CultureInfo.InvariantCulture)),
                    new("What", m => TerminalText.Line(m.Text)));
                return ExitCodes.Done;
            }
            catch (InvalidDataException e)
            {
                throw new ClientException($"The recording can't be read: {e.Message}");
            }
        });
        return command;
    }

    private static async Task<List<RecordingMark>> ScreenMarksAsync(Stream content, CancellationToken cancel)
    {
        var tape = new TapeReader(content);
        await tape.ReadHeaderAsync(cancel).ConfigureAwait(false);
        var marks = new List<RecordingMark>();
        while (await tape.ReadAsync(cancel).ConfigureAwait(false) is { } entry)
        {
            if (TapeWords.Of(entry) is { } words)
            {
                marks.Add(new RecordingMark(entry.At.TotalSeconds, words));
            }
        }
        return marks;
    }

    private static async Task<List<RecordingMark>> CastMarksAsync(Stream content, CancellationToken cancel)
    {
        using var lines = new StreamReader(content);
        CastReader.ReadHeader(await lines.ReadLineAsync(cancel).ConfigureAwait(false) ?? throw new InvalidDataException("It is empty."));
        var marks = new List<RecordingMark>();
        await foreach (var happened in ReadAsync(lines, cancel).ConfigureAwait(false))
        {
            if (happened.Kind == CastKind.Marker)
            {
                marks.Add(new RecordingMark(happened.At.TotalSeconds, happened.Text));
            }
        }
        return marks;
    }

    private static async Task FetchAsync(ApiClient api, RecordingInfo info, Stream to, CancellationToken cancel)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, $"{ApiClient.Base}recordings/{info.Id}/content");
        using var response = await api.SendRawAsync(request, cancel).ConfigureAwait(false);
        await using var from = await response.Content.ReadAsStreamAsync(cancel).ConfigureAwait(false);
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        var buffer = new byte[64 * 1024];
        while (await from.ReadAsync(buffer, cancel).ConfigureAwait(false) is > 0 and var got)
        {
            hash.AppendData(buffer, 0, got);
            await to.WriteAsync(buffer.AsMemory(0, got), cancel).ConfigureAwait(false);
        }
        if (info.Sha256 is { } told && told != Convert.ToHexStringLower(hash.GetCurrentHash()))
        {
            throw new ClientException("What came is not what was recorded: the file on the service was changed, or is broken.");
        }
    }

    private static Command Delete(ClientContext client)
    {
        var id = IdArgument();
        var yes = new Option<bool>("--yes") { Description = "Says that you are sure; otherwise you are asked." };
        var command = ClientCommands.Named("delete", "Removes a recording for good; the audit log says who did.", "umbrek recording delete 70f4c2e1");
        command.Add(id, yes);
        command.SetAction(async (parsed, cancel) =>
        {
            using var api = client.State.Open();
            var info = await FindAsync(api, parsed.GetRequiredValue(id), cancel).ConfigureAwait(false);
            Prompt.Confirm($"Remove for good what {info.Technician} did on {info.HostLabel} of {GroupPath.Customer(info.GroupPath)} on {Words.Iso(info.BeganAt)}", parsed.GetValue(yes));
            await api.ActAsync(HttpMethod.Delete, $"recordings/{info.Id}", cancel).ConfigureAwait(false);
            Listing.Say(client.Format(parsed), "It is removed.", info, WireJson.Default.RecordingInfo);
            return ExitCodes.Done;
        });
        return command;
    }

    private static Argument<string> IdArgument() => new("id") { Description = "The recording's id, or the last characters of it." };

    private static async Task<RecordingInfo> FindAsync(ApiClient api, string id, CancellationToken cancel)
    {
        if (Guid.TryParse(id, out var whole))
        {
            return await api.GetAsync($"recordings/{whole}", WireJson.Default.RecordingInfo, cancel).ConfigureAwait(false);
        }
        var page = await api.GetAsync("recordings?limit=1000", WireJson.Default.PageRecordingInfo, cancel).ConfigureAwait(false);
        return ShortIds.Find(page.Items, r => r.Id, id, "recording", "umbrek recording list");
    }

    /// <summary>The events of a recording; one that goes on ends with its last whole line.</summary>
    private static async IAsyncEnumerable<CastEvent> ReadAsync(StreamReader lines, [EnumeratorCancellation] CancellationToken cancel)
    {
        var line = await lines.ReadLineAsync(cancel).ConfigureAwait(false);
        while (line is not null)
        {
            var next = await lines.ReadLineAsync(cancel).ConfigureAwait(false);
            CastEvent? happened;
            try
            {
                happened = CastReader.ReadEvent(line);
            }
            catch (InvalidDataException) when (next is null)
            {
                yield break;
            }
            if (happened is { } known)
            {
                yield return known;
            }
            line = next;
        }
    }
}
