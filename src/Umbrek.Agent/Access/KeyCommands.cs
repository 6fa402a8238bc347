using System.CommandLine;
using Umbrek.Agent.Enrolment;
using Umbrek.Agent.Hosting;
using Umbrek.Agent.Platform.Linux;
using Umbrek.Core.Access;
using Umbrek.Core.Text;

namespace Umbrek.Agent.Access;

/// <summary><c>umbrek-agent access-key</c> and <c>passcode</c>: the owner's side of the host's secrets. A running agent has a change at once.</summary>
public static class KeyCommands
{
    public static Command AccessKey()
    {
        var command = new Command("access-key", "The permanent secret that the host policy may ask technicians for. Example: umbrek-agent access-key set");
        var file = new Option<string?>("--file") { Description = "Reads the key from this file instead of asking." };
        var generate = new Option<bool>("--generate") { Description = "Makes one and shows it." };
        var end = new Option<bool>("--end-sessions") { Description = "Ends the sessions of technicians that are open." };
        var set = new Command("set", "Sets it, in place of the one before. Example: umbrek-agent access-key set --generate") { file, generate, end };
        Act(set, (keys, identity, parsed) =>
        {
            var made = parsed.GetValue(generate) ? Core.Access.AccessKey.Generate() : null;
            var key = made ?? SecretPrompt.AccessKey(parsed.GetValue(file), "--file");
            keys.Set(KeptKey.Of(key, identity.ServiceKeySha256), parsed.GetValue(end));
            return made is null ? "The access key is set." : $"The access key is set. It is shown this once:\n{made}";
        });
        var remove = new Command("remove", "Removes it; what the policy asks it for is refused from then on. Example: umbrek-agent access-key remove");
        Act(remove, (keys, _, _) =>
        {
            keys.RemoveKey();
            return "The access key is removed.";
        });
        var unlock = new Command("unlock", "Lets technicians try again at once after wrong keys. Example: umbrek-agent access-key unlock");
        Act(unlock, (keys, _, _) =>
        {
            keys.Unlock();
            return "Wrong attempts are forgotten.";
        });
        var show = new Command("show", "Says whether there is one, and whether wrong attempts bar further ones. Example: umbrek-agent access-key show");
        Act(show, (keys, _, _) => $"{(keys.HasAccessKey ? "An access key is set." : "No access key is set.")}{(keys.Barred() is { } barred ? $"\n{barred}" : "")}");
        foreach (var part in new[] { set, remove, unlock, show })
        {
            command.Subcommands.Add(part);
        }
        return command;
    }

    public static Command Passcode()
    {
        var life = new Option<string?>("--for") { Description = "How long it is good, like 30min or 8h." };
        var once = new Option<bool>("--once") { Description = "It opens one session." };
        var restart = new Option<bool>("--until-restart") { Description = "It ends when this computer restarts." };
        var end = new Option<bool>("--end") { Description = "Ends the one there is." };
        var command = new Command("passcode", "Makes a temporary secret to tell a technician; it stands in for the access key. Example: umbrek-agent passcode --for 30min --once") { life, once, restart, end };
        Act(command, (keys, identity, parsed) =>
        {
            if (parsed.GetValue(end))
            {
                keys.RemovePasscode();
                return "There is no passcode any more.";
            }
            DateTimeOffset? until = null;
            if (parsed.GetValue(life) is { } text)
            {
                until = TimeProvider.System.GetUtcNow() + (Units.ParseSpan(text) ?? throw new EnrolmentException($"'{text}' is no length of time; write it like 30min or 8h."));
            }
            if (until is null && !parsed.GetValue(once) && !parsed.GetValue(restart))
            {
                throw new EnrolmentException("Say when the passcode ends: --for TIME, --once, --until-restart, or several of them.");
            }
            var passcode = Core.Access.AccessKey.Generate()[..17];
            keys.Set(new KeptPasscode(KeptKey.Of(passcode, identity.ServiceKeySha256) with { Mark = null }, until, parsed.GetValue(once), parsed.GetValue(restart) ? new LinuxPlatform().BootId : null));
            return $"{passcode}\nGood {string.Join(", ", new[] { parsed.GetValue(once) ? "for one session" : null, until is { } e ? $"until {e.ToLocalTime():yyyy-MM-dd HH:mm}" : null, parsed.GetValue(restart) ? "until this computer restarts" : null }.OfType<string>())}. It is shown this once.";
        });
        return command;
    }

    private static void Act(Command command, Func<HostKeys, AgentIdentity, ParseResult, string> act)
    {
        var state = AgentCommands.StateOption();
        command.Options.Add(state);
        command.SetAction(parsed =>
        {
            try
            {
                var directory = new StateDirectory(parsed.GetRequiredValue(state));
                var identity = AgentIdentity.Load(directory) ?? throw new EnrolmentException($"This host is not enrolled (no {directory.IdentityFile}).");
                Console.WriteLine(act(new HostKeys(directory, new LinuxPlatform().BootId, TimeProvider.System), identity, parsed));
                return 0;
            }
            catch (Exception e) when (e is EnrolmentException or InvalidDataException or IOException or UnauthorizedAccessException)
            {
                return AgentCommands.Complain(e is UnauthorizedAccessException ? "This takes root: put sudo in front." : e.Message);
            }
        });
    }
}
