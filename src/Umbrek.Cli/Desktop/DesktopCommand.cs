using System.CommandLine;
using System.Net;
using System.Net.Sockets;
using System.Net.WebSockets;
using Umbrek.Cli.Access;
using Umbrek.Cli.Estate;
using Umbrek.Cli.Hosting;
using Umbrek.Cli.Output;
using Umbrek.Cli.Sessions;
using Umbrek.Core.Desktop;
using Umbrek.Core.Estate;
using Umbrek.Core.Text;
using Umbrek.Wire;
using Umbrek.Wire.Api;
using Umbrek.Wire.Desktop;
using Umbrek.Wire.Estate;
using Umbrek.Wire.Sessions;

namespace Umbrek.Cli.Desktop;

/// <summary><c>umbrek desktop</c>: a host's screen for any viewer that speaks RFB, or a picture of it.</summary>
public static class DesktopCommand
{
    private static readonly TimeSpan SnapshotWithin = TimeSpan.FromSeconds(30);
    private const int Piece = 64 * 1024;
    private static readonly DesktopAsk NothingAsked = new();

    public static Command Desktop(ClientContext client)
    {
        var host = new Argument<string>("host") { Description = "Label or system name of the host." };
        var list = new Option<bool>("--list") { Description = "Lists the screens that there are." };
        var listen = new Option<string?>("--listen") { Description = "Gives a viewer that speaks RFB (RFC 6143) the screen at this address of this computer: 127.0.0.1:5900. Only programs of your own user are let in.", HelpName = "address" };
        var snapshot = new Option<string?>("--snapshot") { Description = "Writes a picture of the screen into this file, as PNG, and ends; '-' is standard output.", HelpName = "file" };
        var record = new Option<string?>("--record") { Description = "Records what a viewer at --listen sees into this file, as RFB with times; without --listen looks on itself, until it is stopped.", HelpName = "file" };
        var watch = new Option<bool>("--watch") { Description = "Looks on and touches nothing; a snapshot, and a recording without a viewer, always do." };
        var screen = new Option<string?>("--screen") { Description = "Which screen; the one where somebody is when left out.", HelpName = "name" };
        var take = new Option<bool>("--take-input") { Description = "Takes the keyboards and mice of the host away from the people there as long as a viewer is there; they are told." };
        var hide = new Option<bool>("--hide-screen") { Description = "Hides the screen from the people there behind a message as long as a viewer is there, and takes their keyboards and mice." };
        var lockAfter = new Option<bool>("--lock-after") { Description = "Locks the screen when the viewer leaves." };
        var reason = new Option<string?>("--reason") { Description = "What it is for; shown with the session.", HelpName = "text" };
        var secrets = new HostSecretOptions();
        var command = ClientCommands.Named("desktop", "Shows the desktop of a host: to a viewer of your own, or as a picture.",
            "umbrek desktop quay-ticket-03 --snapshot counter.png\n  umbrek desktop quay-ticket-03 --listen 127.0.0.1:5903\n  umbrek desktop quay-ticket-03 --listen 127.0.0.1:5903 --watch\n  umbrek desktop quay-ticket-03 --record counter.screen\n  umbrek desktop quay-ticket-03 --list");
        command.Add([host, list, listen, snapshot, record, watch, screen, take, hide, lockAfter, reason, .. secrets.WithVault]);
        command.SetAction(async (parsed, cancel) =>
        {
            var (port, file, tape) = (parsed.GetValue(listen), parsed.GetValue(snapshot), parsed.GetValue(record));
            var shows = parsed.GetValue(list);
            if ((port is null && tape is null ? 0 : 1) + (file is null ? 0 : 1) + (shows ? 1 : 0) != 1)
            {
                throw new ClientException("Say what to do with the desktop: --listen 127.0.0.1:5900 for a viewer, --snapshot FILE.png for a picture, --record FILE.screen for a recording, or --list. The console shows it without any of them.", ExitCodes.WrongUse);
            }
            var ask = new DesktopAsk(parsed.GetValue(take) ? true : null, Hide: parsed.GetValue(hide) ? true : null, Lock: parsed.GetValue(lockAfter) ? true : null);
            if (ask != NothingAsked && (port is null || parsed.GetValue(watch)))
            {
                throw new ClientException($"{(ask.TakeInput is not null ? "--take-input" : ask.Hide is not null ? "--hide-screen" : "--lock-after")} goes with --listen, and not with --watch: whoever only looks on takes nothing away.", ExitCodes.WrongUse);
            }
            var address = port is null ? null : ReadAddress(port);
            using var api = client.State.Open();
            var found = await HostCommands.FindAsync(api, parsed.GetRequiredValue(host), cancel).ConfigureAwait(false);
            if (shows)
            {
                return await ListAsync(client, parsed, api, found, cancel).ConfigureAwait(false);
            }
            var wish = new DesktopWish(!parsed.GetValue(watch) && port is not null, parsed.GetValue(screen));
            if (wish.Check() is { } problem)
            {
                throw new ClientException(problem, ExitCodes.WrongUse);
            }
            (string Name, string Text)? secret = secrets.AreGiven(parsed) ? secrets.Read(parsed, $"{found.Label} of {GroupPath.Customer(found.GroupPath)}") : null;
            async Task<DesktopVisit> Open(CancellationToken stop) => await DesktopVisit.OpenAsync(client, api, found, wish, secret, secrets.UsesVault(parsed), parsed.GetValue(reason), stop).ConfigureAwait(false);
            if (file is not null)
            {
                return await SnapshotAsync(client, parsed, found, file, Open, cancel).ConfigureAwait(false);
            }
            using var recording = tape is null ? null : LocalTape.Create(tape, found, client.Time);
            return address is null
                ? await RecordAsync(found, recording!, Open, cancel).ConfigureAwait(false)
                : await ListenAsync(found, wish, address, ask, recording, Open, cancel).ConfigureAwait(false);
        });
        return command;
    }

    private static IPEndPoint ReadAddress(string text)
    {
        var full = text.Contains(':', StringComparison.Ordinal) ? text : $"127.0.0.1:{text}";
        if (!IPEndPoint.TryParse(full, out var address) || address.Port == 0 && !full.EndsWith(":0", StringComparison.Ordinal))
        {
            throw new ClientException($"'{text}' is no address to listen at; write 127.0.0.1:5900.", ExitCodes.WrongUse);
        }
        return IPAddress.IsLoopback(address.Address) ? address
            : throw new ClientException($"{address.Address} is an address that others get at, and a viewer gives no password here. Listen at 127.0.0.1.", ExitCodes.WrongUse);
    }

    private static async Task<int> ListAsync(ClientContext client, ParseResult parsed, ApiClient api, HostSummary host, CancellationToken cancel)
    {
        var screens = (await api.GetAsync($"hosts/{host.Id}/screens", WireJson.Default.PageScreenInfo, cancel).ConfigureAwait(false)).Items;
        Listing.Print(client.Format(parsed), [.. screens], WireJson.Default.ListScreenInfo, $"{host.Label} has no screen. One is given to it when somebody comes to control it, if its host policy and what is installed there let it.",
            new("Screen", s => TerminalText.Line(s.Name)),
            new("Of", s => s.IsGiven ? "technicians: the host was given it" : s.Person is null ? "nobody logged in" : TerminalText.Line(s.Person), Machine: s => s.Person ?? ""),
            new("Shown", s => s.Problem is null ? "yes" : $"no: {TerminalText.Line(s.Problem)}"));
        return ExitCodes.Done;
    }

    private static async Task<int> SnapshotAsync(ClientContext client, ParseResult parsed, HostSummary host, string file, Func<CancellationToken, Task<DesktopVisit>> open, CancellationToken cancel)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        limit.CancelAfter(SnapshotWithin);
        ScreenImage image;
        string screen;
        try
        {
            await using var visit = await open(limit.Token).ConfigureAwait(false);
            using var viewer = new RfbViewer(visit.Line);
            await viewer.BeginAsync(shared: true, limit.Token).ConfigureAwait(false);
            await viewer.TakeAsync([RfbEncoding.Zrle, RfbEncoding.Raw], limit.Token).ConfigureAwait(false);
            await viewer.AskAsync(incremental: false, limit.Token).ConfigureAwait(false);
            while (await viewer.HearAsync(limit.Token).ConfigureAwait(false) != RfbHeard.Picture)
            {
            }
            (image, screen) = (viewer.Image, visit.Line.Opened.Screen);
        }
        catch (Exception e) when (e is RfbException or EndOfStreamException or InvalidDataException)
        {
            throw new ClientException($"{host.Label} shows its screen in a way that can't be read: {e.Message}");
        }
        catch (OperationCanceledException) when (!cancel.IsCancellationRequested)
        {
            throw new ClientException($"{host.Label} has sent no picture within {SnapshotWithin.TotalSeconds:0} s.");
        }
        if (file == "-")
        {
            using var output = Console.OpenStandardOutput();
            PngWriter.Write(image, output);
            return ExitCodes.Done;
        }
        try
        {
            using var to = File.Create(file);
            PngWriter.Write(image, to);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new ClientException($"The picture can't be written to {file}: {e.Message}");
        }
        await Console.Error.WriteLineAsync($"{file}: the screen {TerminalText.Line(screen)} of {host.Label}, {host.GroupPath}, {image.Width} x {image.Height}.").ConfigureAwait(false);
        return ExitCodes.Done;
    }

    private static async Task<int> ListenAsync(HostSummary host, DesktopWish wish, IPEndPoint address, DesktopAsk ask, LocalTape? recording, Func<CancellationToken, Task<DesktopVisit>> open, CancellationToken stop)
    {
        using var leaving = new Leaving(stop);
        var cancel = leaving.Token;
        using var listener = new TcpListener(address);
        try
        {
            listener.Start();
        }
        catch (SocketException e)
        {
            throw new ClientException($"Nothing can listen at {address}: {e.Message}. Take another port.");
        }
        var where = $"{host.Label} of {GroupPath.Customer(host.GroupPath)}";
        await Console.Error.WriteLineAsync($"A viewer at {listener.LocalEndpoint} {(wish.Control ? "controls" : "watches")} {where}. Ctrl-C ends it.").ConfigureAwait(false);
        var visits = new List<Task>();
        try
        {
            while (true)
            {
                var viewer = await listener.AcceptTcpClientAsync(cancel).ConfigureAwait(false);
                visits.RemoveAll(v => v.IsCompleted);
                visits.Add(ServeAsync(viewer, where, ask, recording, open, cancel));
            }
        }
        catch (OperationCanceledException)
        {
            // Asked to end.
        }
        await Task.WhenAll(visits).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        if (recording is not null)
        {
            await Console.Error.WriteLineAsync(recording.Said).ConfigureAwait(false);
        }
        return ExitCodes.Done;
    }

    /// <summary>Looks on without a viewer, and records what there is to be seen, until it is stopped or the screen is gone.</summary>
    private static async Task<int> RecordAsync(HostSummary host, LocalTape recording, Func<CancellationToken, Task<DesktopVisit>> open, CancellationToken stop)
    {
        using var leaving = new Leaving(stop);
        var cancel = leaving.Token;
        try
        {
            await using var visit = await open(cancel).ConfigureAwait(false);
            await using var line = recording.Take(visit.Line) ?? throw new InvalidOperationException("The recording is taken.");
            using var viewer = new RfbViewer(line);
            await Console.Error.WriteLineAsync($"Recording the screen {TerminalText.Line(visit.Line.Opened.Screen)} of {host.Label}, {host.GroupPath}. Ctrl-C ends it.").ConfigureAwait(false);
            await viewer.BeginAsync(shared: true, cancel).ConfigureAwait(false);
            await viewer.TakeAsync([RfbEncoding.CopyRect, RfbEncoding.Zrle, RfbEncoding.Tight, RfbEncoding.Cursor, RfbEncoding.PointerPosition, RfbEncoding.ExtendedDesktopSize, RfbEncoding.DesktopSize, RfbEncoding.BestQuality], cancel).ConfigureAwait(false);
            await viewer.AskAsync(incremental: false, cancel).ConfigureAwait(false);
            while (true)
            {
                if (await viewer.HearAsync(cancel).ConfigureAwait(false) == RfbHeard.Picture)
                {
                    await viewer.AskAsync(incremental: true, cancel).ConfigureAwait(false);
                }
            }
        }
        catch (Exception e) when (e is EndOfStreamException or WebSocketException)
        {
            await Console.Error.WriteLineAsync($"{host.Label} shows its screen no more.").ConfigureAwait(false);
        }
        catch (RfbException e)
        {
            throw new ClientException($"{host.Label} shows its screen in a way that can't be read: {e.Message}");
        }
        catch (IOException e)
        {
            throw new ClientException($"The recording can't be written: {e.Message}");
        }
        catch (OperationCanceledException)
        {
            // Asked to end.
        }
        await Console.Error.WriteLineAsync(recording.Said).ConfigureAwait(false);
        return ExitCodes.Done;
    }

    /// <summary>One viewer from its coming to its going; what goes wrong with it is said and ends no other.</summary>
    private static async Task ServeAsync(TcpClient viewer, string where, DesktopAsk ask, LocalTape? recording, Func<CancellationToken, Task<DesktopVisit>> open, CancellationToken cancel)
    {
        using (viewer)
        {
            try
            {
                if (!LocalPeer.IsOwn(viewer.Client))
                {
                    await Console.Error.WriteLineAsync("Another user of this computer came to the port and was not let in.").ConfigureAwait(false);
                    return;
                }
                viewer.NoDelay = true;
                await using var visit = await open(cancel).ConfigureAwait(false);
                await Console.Error.WriteLineAsync($"A viewer has come to {where}, screen {TerminalText.Line(visit.Line.Opened.Screen)}.").ConfigureAwait(false);
                using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
                var stream = viewer.GetStream();
                await using var taped = recording?.Take(visit.Line);
                if (recording is not null && taped is null)
                {
                    await Console.Error.WriteLineAsync($"Another viewer is recorded already; this one is not.").ConfigureAwait(false);
                }
                Stream line = taped is null ? visit.Line : taped;
                var up = CopyAsync(stream, line, over.Token);
                var down = CopyAsync(line, stream, over.Token);
                var told = ask == NothingAsked ? Task.CompletedTask : HoldAsync(visit.Line, where, ask, over.Token);
                await Task.WhenAny(up, down).ConfigureAwait(false);
                await over.CancelAsync().ConfigureAwait(false);
                await Task.WhenAll(up, down, told).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                await Console.Error.WriteLineAsync($"The viewer has gone from {where}{(visit.Line.Why is { } why ? $": {TerminalText.Neutralise(why)}" : ".")}").ConfigureAwait(false);
            }
            catch (Exception e) when (e is ClientException or ApiException or UnreachableException or WebSocketException or IOException or RfbException)
            {
                await Console.Error.WriteLineAsync($"{where}: {TerminalText.Neutralise(e.Message)}").ConfigureAwait(false);
            }
            catch (OperationCanceledException)
            {
                // Asked to end.
            }
        }
    }

    private static async Task HoldAsync(DesktopStream line, string where, DesktopAsk ask, CancellationToken cancel)
    {
        var hold = await line.AskAsync(ask, cancel).ConfigureAwait(false);
        var says = new List<string>();
        if (hold.IsTaken)
        {
            says.Add("the people there have no keyboard and no mouse until the viewer goes; they are told.");
        }
        if (hold.IsHidden)
        {
            says.Add("the screen is hidden from them until then.");
        }
        if (hold.Locks)
        {
            says.Add("the screen is locked when the viewer goes.");
        }
        if (hold.Problem is { } problem)
        {
            says.Add($"not all of that could be: {TerminalText.Neutralise(problem)}");
        }
        foreach (var one in says)
        {
            await Console.Error.WriteLineAsync($"{where}: {one}").ConfigureAwait(false);
        }
    }

    private static async Task CopyAsync(Stream from, Stream to, CancellationToken cancel)
    {
        var buffer = new byte[Piece];
        while (await from.ReadAsync(buffer, cancel).ConfigureAwait(false) is > 0 and var got)
        {
            await to.WriteAsync(buffer.AsMemory(0, got), cancel).ConfigureAwait(false);
        }
    }
}
