using System.Globalization;

namespace Umbrek.Agent.Enrolment;

/// <summary>
/// The script that keeps an installed agent running (POSIX.1-2017 sh). It is no part of the agent program, so that it still works
/// when a new program does not: a program on trial that does not prove itself is taken back here.
/// </summary>
public static class LaunchScript
{
    /// <summary>Seconds that a new program has to come as far as a link.</summary>
    public const int TrialSeconds = 90;

    /// <summary>Starts that a new program has, for a power cut is not its fault.</summary>
    public const int TrialStarts = 3;

    /// <param name="environment">Exported to the agent, such as HTTPS_PROXY.</param>
    /// <param name="log">Where the agent's words go; null leaves them to the system.</param>
    public static string Text(string programDirectory, string stateDirectory, IReadOnlyDictionary<string, string> environment, string? log, int trialSeconds = TrialSeconds) => $$"""
        #!/bin/sh
        # Keeps the Umbrek agent running, and takes back an update that does not prove itself.
        program={{Quote(programDirectory)}}
        state={{Quote(stateDirectory)}}
        {{string.Join('\n', environment.Select(e => $"export {e.Key}={Quote(e.Value)}"))}}
        {{(log is null ? "" : $"log={Quote(log)}\n[ -f \"$log\" ] && [ \"$(wc -c <\"$log\")\" -gt 5000000 ] && mv -f \"$log\" \"$log.1\"\nexec >>\"$log\" 2>&1")}}
        child=
        stopping=
        echo $$ >"$program/launch.pid"
        trap 'stopping=1; [ -z "$child" ] || kill -TERM "$child" 2>/dev/null' TERM INT HUP

        back() { # why
          before=$(sed -n 1p "$program/trial")
          printf '%s\n' "$1" >"$program/went-back.new" && mv -f "$program/went-back.new" "$program/went-back"
          ln -sf "versions/$before" "$program/umbrek-agent.new" && mv -f "$program/umbrek-agent.new" "$program/umbrek-agent"
          rm -f "$program/trial"
        }

        nap() { sleep "$1" & nap=$!; wait $nap; kill $nap 2>/dev/null; }

        pause=1
        while [ -z "$stopping" ]; do
          began=$(date +%s)
          if [ -f "$program/trial" ]; then
            starts=$(($(sed -n 2p "$program/trial") + 1))
            if [ $starts -gt {{TrialStarts.ToString(CultureInfo.InvariantCulture)}} ]; then
              back "the new version ended {{TrialStarts.ToString(CultureInfo.InvariantCulture)}} times before it was linked"
              continue
            fi
            { sed -n 1p "$program/trial"; echo $starts; } >"$program/trial.new" && mv -f "$program/trial.new" "$program/trial"
          fi
          "$program/umbrek-agent" run --state "$state" &
          child=$!
          waited=0
          while [ -f "$program/trial" ] && [ -z "$stopping" ] && kill -0 $child 2>/dev/null; do
            if [ $waited -ge {{trialSeconds.ToString(CultureInfo.InvariantCulture)}} ]; then
              kill -KILL $child
              wait $child 2>/dev/null
              back "the new version was not linked within {{trialSeconds.ToString(CultureInfo.InvariantCulture)}} s"
              break
            fi
            sleep 1
            waited=$((waited + 1))
          done
          while kill -0 $child 2>/dev/null; do wait $child; done
          child=
          [ -z "$stopping" ] || break
          if [ $(($(date +%s) - began)) -ge 60 ] || [ -f "$program/trial" ] || [ -f "$program/went-back" ]; then pause=1; else pause=$((pause * 2)); fi
          [ $pause -le 30 ] || pause=30
          nap $pause
        done
        rm -f "$program/launch.pid"

        """;

    private static string Quote(string text) => $"'{text.Replace("'", "'\\''")}'";
}
