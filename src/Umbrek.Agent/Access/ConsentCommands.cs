using System.CommandLine;
using System.Net.Sockets;
using System.Text.Json;
using Umbrek.Agent.Hosting;

namespace Umbrek.Agent.Access;

/// <summary>What a person says to the agent.</summary>
/// <param name="Agree">Null only asks what is asked.</param>
/// <param name="Number">The question's; null means the only one.</param>
public sealed record PersonWord(bool? Agree, int? Number);

public sealed record PersonQuestion(int Number, string Technician, string Act, string What, DateTimeOffset Until);

public sealed record PersonReply(string Text, IReadOnlyList<PersonQuestion> Questions, bool Taken);

/// <summary><c>umbrek-agent consent</c>: how a person at this computer agrees or refuses.</summary>
public static class ConsentCommands
{
    public static Command Consent()
    {
        var state = new Option<string?>("--state") { Description = "The directory of the agent, where it runs with one of its own." };
        var command = new Command("consent", "Shows what a technician asks to do on this computer; 'agree' and 'refuse' answer. Example: umbrek-agent consent agree 1") { state };
        command.SetAction((parsed, cancel) => SayAsync(new PersonWord(null, null), parsed.GetValue(state), cancel));
        command.Subcommands.Add(Answer("agree", "Lets the technician go on.", true));
        command.Subcommands.Add(Answer("refuse", "Does not let the technician go on.", false));
        return command;
    }

    private static Command Answer(string name, string description, bool agree)
    {
        var number = new Argument<int?>("number") { Description = "The question's number; may be left out when there is one.", Arity = ArgumentArity.ZeroOrOne };
        var state = new Option<string?>("--state") { Description = "The directory of the agent, where it runs with one of its own." };
        var command = new Command(name, description) { number, state };
        command.SetAction((parsed, cancel) => SayAsync(new PersonWord(agree, parsed.GetValue(number)), parsed.GetValue(state), cancel));
        return command;
    }

    private static async Task<int> SayAsync(PersonWord word, string? state, CancellationToken cancel)
    {
        // The agent is root's as a rule, and whoever answers is not: its socket is looked for before one's own.
        var path = state is not null ? new StateDirectory(state).PeopleSocket
            : File.Exists(StateDirectory.SharedPeopleSocket) ? StateDirectory.SharedPeopleSocket : new StateDirectory(StateDirectory.Default()).PeopleSocket;
        if (!File.Exists(path))
        {
            Console.WriteLine("No technician asks for anything on this computer now.");
            return word.Agree is null ? 0 : AgentCommands.Failed;
        }
        try
        {
            using var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
            await socket.ConnectAsync(new UnixDomainSocketEndPoint(path), cancel).ConfigureAwait(false);
            await socket.SendAsync(JsonSerializer.SerializeToUtf8Bytes(word, AgentJson.Default.PersonWord), cancel).ConfigureAwait(false);
            await using var stream = new NetworkStream(socket);
            var reply = await JsonSerializer.DeserializeAsync(stream, AgentJson.Default.PersonReply, cancel).ConfigureAwait(false);
            if (reply!.Text.Length > 0)
            {
                (reply.Taken ? Console.Out : Console.Error).WriteLine(reply.Text);
            }
            foreach (var question in reply.Questions)
            {
                Console.WriteLine($"{question.Number}  {question.Technician} asks to {question.Act}, until {question.Until:HH:mm} UTC: {question.What}");
            }
            return reply.Taken ? 0 : AgentCommands.Failed;
        }
        catch (Exception e) when (e is SocketException or IOException or JsonException)
        {
            return AgentCommands.Complain($"The agent does not answer ({e.Message}). See whether it runs: umbrek-agent status");
        }
    }
}
