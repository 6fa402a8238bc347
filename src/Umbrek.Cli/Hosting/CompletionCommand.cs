using System.CommandLine;
using Umbrek.Cli.Access;

namespace Umbrek.Cli.Hosting;

/// <summary>Shell completion: the shell asks the client itself, so host names complete too.</summary>
public static class CompletionCommand
{
    private const string Bash = """
        _umbrek() {
          local IFS=$'\n'
          COMPREPLY=($(compgen -W "$(umbrek "[suggest:${COMP_POINT}]" "${COMP_LINE}" 2>/dev/null)" -- "${COMP_WORDS[COMP_CWORD]}"))
        }
        complete -F _umbrek umbrek
        """;

    private const string Zsh = """
        _umbrek() {
          local -a found
          found=("${(@f)$(umbrek "[suggest:${CURSOR}]" "${BUFFER}" 2>/dev/null)}")
          compadd -a found
        }
        compdef _umbrek umbrek
        """;

    private const string Fish = """
        complete -c umbrek -f -a '(umbrek "[suggest:"(commandline -C)"]" (commandline) 2>/dev/null)'
        """;

    public static Command Completion()
    {
        var shell = new Argument<string>("shell") { Description = "bash, zsh or fish" };
        shell.AcceptOnlyFromAmong("bash", "zsh", "fish");
        var command = ClientCommands.Named("completion", "Prints the lines that teach a shell to complete this client's commands and host names.", "umbrek completion bash >> ~/.bashrc");
        command.Add(shell);
        command.SetAction(parsed =>
        {
            Console.WriteLine(parsed.GetRequiredValue(shell) switch { "zsh" => Zsh, "fish" => Fish, _ => Bash });
            return ExitCodes.Done;
        });
        return command;
    }
}
