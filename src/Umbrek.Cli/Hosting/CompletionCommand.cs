using System.CommandLine;
using Umbrek.Cli.Access;

namespace Umbrek.Cli.Hosting;

/// <summary>Shell completion: the shell asks the client itself, so host names complete too.</summary>
public static class CompletionCommand
{
    private const string Bash = """
        _umbrek() {
          local found one word="${COMP_WORDS[COMP_CWORD]}" quote= begins=
          # Within quotation marks the whole selection is one word; outside of them, what needs some gets them.
          case "$word" in [\'\"]*) quote="${word:0:1}"; word="${word:1}" ;; esac
          mapfile -t found < <(umbrek "[suggest:${COMP_POINT}]" "${COMP_LINE}" 2>/dev/null)
          # What needs quotation marks inside the selection begins otherwise than what is typed, and replaces it.
          for one in "${found[@]}"; do [[ -n "$one" && "$one" == "$word"* ]] && begins=1; done
          COMPREPLY=()
          for one in "${found[@]}"; do
            [[ -n "$one" && ( -z "$begins" || "$one" == "$word"* ) ]] || continue
            if [[ -z "$quote" && "$one" == *[[:space:]\"\'\<\>\*\?\(\)]* ]]; then printf -v one %q "$one"; fi
            COMPREPLY+=("$one")
          done
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
