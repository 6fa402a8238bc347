using System.Buffers.Binary;
using System.Globalization;
using System.Net.Sockets;
using System.Runtime.InteropServices;
using System.Text;
using System.Text.Json;
using Umbrek.Agent.Access;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Access;
using Umbrek.Core.Desktop;
using Umbrek.Core.Text;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>
/// Speaks to people on their terminals and on their screens, and takes their answers there; those of terminals come over a Unix socket that is there while somebody is asked. Whoever answers is
/// known by the kernel's word (SO_PEERCRED, unix(7)): root, or a user who is logged in.
/// </summary>
internal sealed class LinuxPeople(StateDirectory state, string program, LinuxPlacards placards, string loginsFile = Logins.File) : IPeopleHere
{
    private const string Agree = "agree";
    private const string Refuse = "refuse";
    private const string End = "end";

    private const int LongestWord = 4096;
    private readonly Lock gate = new();
    private readonly SortedDictionary<int, Asked> open = [];
    private int lastNumber;
    private Socket? listening;

    /// <summary>Something that people here may answer.</summary>
    /// <param name="Text">What they are shown when they ask what is open.</param>
    /// <param name="Fits">Whether a word is an answer to it.</param>
    /// <param name="Take">Takes one from the person named, and says what comes of it.</param>
    private sealed record Asked(string Text, Func<PersonWord, bool> Fits, Func<PersonWord, string, string> Take);

    public IReadOnlyList<string> LoggedIn() => [.. Logins.Read(loginsFile).Select(l => l.Name).Concat(placards.People).Distinct().Order(StringComparer.Ordinal)];

    public void Tell(string text)
    {
        Write(TerminalText.Line(text));
        placards.Say(text);
    }

    public IDisposable Show(PresenceSign sign, Action<string>? end)
    {
        var since = sign.Since.ToLocalTime().ToString("HH:mm", CultureInfo.InvariantCulture);
        if (sign.Hides)
        {
            return placards.Show(
                new Placard(PlacardKind.Cover, $"{sign.Technician} works on this computer and has hidden its screen", [new PlacardLine(null, "Keyboard and mouse have no effect meanwhile."), new PlacardLine(null, $"It has been hidden since {since}, and comes back by itself when the technician leaves.")], []),
                false, (_, _) => { }, sign.Taken);
        }
        var says = sign.TakesInput ? $"{sign.Technician} has taken the keyboard and the mouse of this computer" : $"{sign.Technician} is on this computer";
        List<PlacardLine> lines = [.. sign.TakesInput ? [] : new[] { new PlacardLine(null, sign.What) }, new PlacardLine(null, $"since {since}")];
        return placards.Show(new Placard(PlacardKind.Strip, says, lines, end is null ? [] : [new PlacardButton(End, "End it")]), sign.TakesInput, (_, person) => end?.Invoke(person), sign.Taken);
    }

    public IDisposable HandsOnly() => placards.HandsOnly();

    /// <summary>Asks on terminals and on screens at once: the first answer counts, and the others are told no more.</summary>
    public async Task<ConsentAnswer> AskAsync(ConsentQuestion question, CancellationToken cancel)
    {
        using var over = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        var (onTerminal, onScreen) = (AskOnTerminalsAsync(question, over.Token), AskOnScreensAsync(question, over.Token));
        try
        {
            return await (await Task.WhenAny(onTerminal, onScreen).ConfigureAwait(false)).ConfigureAwait(false);
        }
        finally
        {
            await over.CancelAsync().ConfigureAwait(false);
            await ((Task)Task.WhenAll(onTerminal, onScreen)).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }

    private async Task<ConsentAnswer> AskOnScreensAsync(ConsentQuestion question, CancellationToken cancel)
    {
        var act = HostPolicyWords.Describe(question.Act);
        List<PlacardLine> lines = [new("Wants to", act)];
        if (question.Act is not (HostAct.Watch or HostAct.Control))
        {
            lines.Add(new("That is", question.What));
        }
        if (question.From is not null)
        {
            lines.Add(new("Comes from", question.From));
        }
        if (question.Reason is not null)
        {
            lines.Add(new("Because", question.Reason));
        }
        var placard = new Placard(
            PlacardKind.Question, $"{question.Technician} asks to act on this computer", lines,
            [new PlacardButton(Refuse, "Refuse", IsSafe: true), new PlacardButton(Agree, $"Agree for {Sessions.ConsentDesk.GoodFor.TotalMinutes:0} minutes")], question.Until, question.Silence);
        var (button, person) = await placards.AskAsync(placard, cancel).ConfigureAwait(false);
        return new ConsentAnswer(button == Agree, person);
    }

    private Task<ConsentAnswer> AskOnTerminalsAsync(ConsentQuestion question, CancellationToken cancel)
    {
        var answered = new TaskCompletionSource<ConsentAnswer>(TaskCreationOptions.RunContinuationsAsynchronously);
        var act = HostPolicyWords.Describe(question.Act);
        var asked = new Asked(
            $"{question.Technician} asks to {act}, until {question.Until:HH:mm} UTC: {TerminalText.Line(question.What)}",
            said => said.Agree is not null,
            (said, person) =>
            {
                answered.TrySetResult(new ConsentAnswer(said.Agree!.Value, person));
                return $"{question.Technician} {(said.Agree.Value ? "may" : "may not")} {act} on this computer.";
            });
        return WaitAsync(asked, answered.Task, number => $"""
            {TerminalText.Line(question.Technician)} asks to {act} on this computer:
                {TerminalText.Line(question.What)}
            To agree:   {program} consent agree {number}
            To refuse:  {program} consent refuse {number}
            Without an answer {question.Silence} at {question.Until:HH:mm} UTC. Agreeing counts for {Sessions.ConsentDesk.GoodFor.TotalMinutes:0} minutes.
            """, cancel);
    }

    public async Task<PutOff> WarnAsync(PowerWarning warning, CancellationToken cancel)
    {
        var what = $"{TerminalText.Line(warning.Technician)} {warning.Wish.Announce()} at {warning.At:HH:mm:ss} UTC{(warning.Wish.Message is { } why ? $": {TerminalText.Line(why)}" : ".")}";
        if (warning.Most <= TimeSpan.Zero)
        {
            Write($"{what}\nSave what you work on.");
            using var strip = placards.Show(new Placard(PlacardKind.Strip, what, [], []), false, (_, _) => { }, null);
            await Task.Delay(Timeout.Infinite, cancel).ConfigureAwait(false);
        }
        var answered = new TaskCompletionSource<PutOff>(TaskCreationOptions.RunContinuationsAsynchronously);
        var asked = new Asked(
            $"{what} It can be put off by {Units.Span(warning.Most)}.",
            said => said.PutOffMinutes is not null,
            (said, person) =>
            {
                var by = TimeSpan.FromMinutes(Math.Clamp(said.PutOffMinutes!.Value, 1, Math.Max(1, warning.Most.TotalMinutes)));
                answered.TrySetResult(new PutOff(person, by));
                return $"It is put off by {Units.Span(by < warning.Most ? by : warning.Most)}.";
            });
        var quarter = TimeSpan.FromMinutes(Math.Min(15, Math.Max(1, Math.Floor(warning.Most.TotalMinutes))));
        using var shown = placards.Show(
            new Placard(PlacardKind.Strip, what, [], [new PlacardButton(End, $"Put off by {Units.Span(quarter)}")]), false, (_, person) => answered.TrySetResult(new PutOff(person, quarter)), null);
        return await WaitAsync(asked, answered.Task, number => $"""
            {what}
            Save what you work on.
            To put it off by some minutes, {Math.Floor(warning.Most.TotalMinutes):0} at most:  {program} put-off 15{(number == 1 ? "" : $" --number {number}")}
            """, cancel).ConfigureAwait(false);
    }

    /// <summary>Shows a question to everybody here, and waits for its answer.</summary>
    private async Task<T> WaitAsync<T>(Asked asked, Task<T> answer, Func<int, string> shown, CancellationToken cancel)
    {
        int number;
        lock (gate)
        {
            number = open.Count == 0 ? lastNumber = 1 : ++lastNumber;
            open[number] = asked;
            listening ??= Listen();
        }
        try
        {
            Write(shown(number));
            return await answer.WaitAsync(cancel).ConfigureAwait(false);
        }
        finally
        {
            lock (gate)
            {
                open.Remove(number);
                if (open.Count == 0)
                {
                    listening?.Dispose();
                    listening = null;
                    File.Delete(state.PeopleSocket);
                }
            }
        }
    }

    private Socket Listen()
    {
        Directory.CreateDirectory(Path.GetDirectoryName(state.PeopleSocket)!);
        File.Delete(state.PeopleSocket);
        var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        socket.Bind(new UnixDomainSocketEndPoint(state.PeopleSocket));
        // Everybody may come; who may answer is decided by who they are.
        if (!OperatingSystem.IsWindows())
        {
            File.SetUnixFileMode(state.PeopleSocket, (UnixFileMode)0b110_110_110);
        }
        socket.Listen(8);
        _ = ServeAsync(socket);
        return socket;
    }

    private async Task ServeAsync(Socket socket)
    {
        try
        {
            while (true)
            {
                using var caller = await socket.AcceptAsync().ConfigureAwait(false);
                // One word from each, and a second to say it in: nobody keeps the others from answering.
                using var limit = new CancellationTokenSource(TimeSpan.FromSeconds(1));
                try
                {
                    var word = new byte[LongestWord];
                    var length = await caller.ReceiveAsync(word, limit.Token).ConfigureAwait(false);
                    var answer = JsonSerializer.Deserialize(word.AsSpan(0, length), AgentJson.Default.PersonWord) is { } said ? Take(said, caller) : new PersonReply("", [], false);
                    await caller.SendAsync(JsonSerializer.SerializeToUtf8Bytes(answer, AgentJson.Default.PersonReply), limit.Token).ConfigureAwait(false);
                }
                catch (Exception e) when (e is OperationCanceledException or SocketException or JsonException)
                {
                    // Whoever does not speak gets no answer.
                }
            }
        }
        catch (Exception e) when (e is SocketException or ObjectDisposedException)
        {
            // Nobody is asked any more.
        }
    }

    private PersonReply Take(PersonWord said, Socket caller)
    {
        var user = PeerUser(caller);
        var name = Native.NameOfUser(user) ?? $"user {user}";
        if (user != 0 && user != FileOwner.Self && !LoggedIn().Contains(name))
        {
            return new PersonReply($"{name} is not logged in here; only somebody who is may answer.", [], false);
        }
        lock (gate)
        {
            IReadOnlyList<PersonQuestion> questions = [.. open.Select(o => new PersonQuestion(o.Key, o.Value.Text))];
            if (said is { Agree: null, PutOffMinutes: null })
            {
                return new PersonReply("", questions, true);
            }
            var fitting = open.Where(o => o.Value.Fits(said)).ToList();
            if (fitting.Count == 0)
            {
                return new PersonReply(said.Agree is null ? "Nothing is about to happen here that can be put off." : "Nothing is asked that could be agreed to.", questions, false);
            }
            if (said.Number is null && fitting.Count > 1)
            {
                return new PersonReply("There are several; say the number of the one you mean.", questions, false);
            }
            var (number, asked) = said.Number is { } named ? fitting.FirstOrDefault(f => f.Key == named) : fitting[0];
            if (asked is null)
            {
                return new PersonReply($"Nothing with the number {said.Number} is asked now.", questions, false);
            }
            open.Remove(number);
            return new PersonReply(asked.Take(said, name), [], true);
        }
    }

    private void Write(string text)
    {
        var framed = "\r\n\a--- Umbrek ---\r\n" + string.Join("\r\n", text.ReplaceLineEndings("\n").Split('\n')) + "\r\n";
        var bytes = Encoding.UTF8.GetBytes(framed);
        foreach (var terminal in Logins.Read(loginsFile).Select(l => l.Terminal).Distinct())
        {
            // A display is no terminal; a name that leads out of /dev is none either.
            if (!terminal.StartsWith(':') && !terminal.Contains(".."))
            {
                Native.WriteToTerminal("/dev/" + terminal, bytes);
            }
        }
    }

    /// <summary>struct ucred: pid, uid, gid, 4 bytes each.</summary>
    private static uint PeerUser(Socket caller)
    {
        const int solSocket = 1;
        const int soPeerCred = 17;
        Span<byte> credentials = stackalloc byte[12];
        caller.GetRawSocketOption(solSocket, soPeerCred, credentials);
        return BinaryPrimitives.ReadUInt32LittleEndian(credentials[4..]);
    }
}
