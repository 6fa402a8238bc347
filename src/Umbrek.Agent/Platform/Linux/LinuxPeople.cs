using System.Buffers.Binary;
using System.Net.Sockets;
using System.Runtime.InteropServices;
using System.Text;
using System.Text.Json;
using Umbrek.Agent.Access;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Access;
using Umbrek.Core.Text;

namespace Umbrek.Agent.Platform.Linux;

/// <summary>
/// Speaks to people on their terminals, and takes their answers over a Unix socket that is there while somebody is asked. Whoever answers is
/// known by the kernel's word (SO_PEERCRED, unix(7)): root, or a user who is logged in.
/// </summary>
internal sealed class LinuxPeople(StateDirectory state, string program, string loginsFile = Logins.File) : IPeopleHere
{
    private const int LongestWord = 4096;
    private readonly Lock gate = new();
    private readonly SortedDictionary<int, (ConsentQuestion Question, TaskCompletionSource<ConsentAnswer> Answered)> open = [];
    private int lastNumber;
    private Socket? listening;

    public IReadOnlyList<string> LoggedIn() => [.. Logins.Read(loginsFile).Select(l => l.Name).Distinct().Order(StringComparer.Ordinal)];

    public void Tell(string text) => Write(TerminalText.Line(text));

    public async Task<ConsentAnswer> AskAsync(ConsentQuestion question, CancellationToken cancel)
    {
        var answered = new TaskCompletionSource<ConsentAnswer>(TaskCreationOptions.RunContinuationsAsynchronously);
        int number;
        lock (gate)
        {
            number = open.Count == 0 ? lastNumber = 1 : ++lastNumber;
            open[number] = (question, answered);
            listening ??= Listen();
        }
        try
        {
            Write($"""
                {TerminalText.Line(question.Technician)} asks to {HostPolicyWords.Describe(question.Act)} on this computer:
                    {TerminalText.Line(question.What)}
                To agree:   {program} consent agree {number}
                To refuse:  {program} consent refuse {number}
                Without an answer it is refused at {question.Until:HH:mm} UTC. Agreeing counts for {Sessions.ConsentDesk.GoodFor.TotalMinutes:0} minutes.
                """);
            return await answered.Task.WaitAsync(cancel).ConfigureAwait(false);
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
            IReadOnlyList<PersonQuestion> questions = [.. open.Select(o => new PersonQuestion(o.Key, o.Value.Question.Technician, HostPolicyWords.Describe(o.Value.Question.Act), TerminalText.Line(o.Value.Question.What), o.Value.Question.Until))];
            if (said.Agree is not { } agree)
            {
                return new PersonReply("", questions, true);
            }
            var number = said.Number ?? (questions.Count == 1 ? questions[0].Number : 0);
            if (!open.TryGetValue(number, out var asked))
            {
                return new PersonReply(said.Number is null ? "Several things are asked; say the number of the one you mean." : $"Nothing with the number {number} is asked now.", questions, false);
            }
            asked.Answered.TrySetResult(new ConsentAnswer(agree, name));
            open.Remove(number);
            return new PersonReply($"{asked.Question.Technician} {(agree ? "may" : "may not")} {HostPolicyWords.Describe(asked.Question.Act)} on this computer.", [], true);
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
