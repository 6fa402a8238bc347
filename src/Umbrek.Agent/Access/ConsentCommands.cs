using System.CommandLine;
using System.Net.Sockets;
using System.Text.Json;
using Umbrek.Agent.Hosting;
using Umbrek.Core.Access;

namespace Umbrek.Agent.Access;

/// <summary>What a person says to the agent.</summary>
/// <param name="Agree">Null only asks what is asked.</param>
/// <param name="Number">The question's; null means the only one.</param>
/// <param name="PutOffMinutes">By how much what is about to happen is put off.</param>
public sealed record PersonWord(bool? Agree, int? Number, double? PutOffMinutes = null);

public sealed record PersonQuestion(int Number, string Text);

public sealed record PersonReply(string Text, IReadOnlyList<PersonQuestion> Questions, bool Taken);

/// <summary><c>umbrek-agent consent</c> and <c>put-off</c>: how a person at this computer agrees, refuses, or gains time.</summary>
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

    public static Command PutOff()
    {
        var minutes = new Argument<double>("minutes") { Description = "By how much; 15 when left out.", DefaultValueFactory = _ => 15 };
        minutes.Validators.Add(r =>
        {
            if (r.GetValueOrDefault<double>() is not (>= 1 and <= HostPolicy.MostPutOffMinutes))
            {
                r.AddError($"It is put off by 1 to {HostPolicy.MostPutOffMinutes} minutes.");
            }
        });
        var number = new Option<int?>("--number") { Description = "Which, where several things are about to happen." };
        var state = new Option<string?>("--state") { Description = "The directory of the agent, where it runs with one of its own." };
        var command = new Command("put-off", "Puts off that this computer is restarted, shut down or put to sleep, as far as its policy lets people here. Example: umbrek-agent put-off 15") { minutes, number, state };
        command.SetAction((parsed, cancel) => SayAsync(new PersonWord(null, parsed.GetValue(number), parsed.GetValue(minutes)), parsed.GetValue(state), cancel));
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
            Console.WriteLine(word.PutOffMinutes is null ? "No technician asks for anything on this computer now." : "Nothing is about to happen on this computer that can be put off.");
            return word is { Agree: null, PutOffMinutes: null } ? 0 : AgentCommands.Failed;
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
                Console.WriteLine($"{question.Number}  {question.Text}");
            }
            return reply.Taken ? 0 : AgentCommands.Failed;
        }
        catch (Exception e) when (e is SocketException or IOException or JsonException)
        {
            return AgentCommands.Complain($"The agent does not answer ({e.Message}). See whether it runs: umbrek-agent status");
        }
    }
}
