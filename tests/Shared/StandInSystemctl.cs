namespace Umbrek.Tests;

/// <summary>A stand-in for systemctl(1) where systemd does not run: it keeps the state of units in files, and answers what the agent asks as systemctl does.</summary>
internal static class StandInSystemctl
{
    /// <param name="directory">Where <see cref="Unit"/> put units. A file UNIT.refuses has it refuse to start, UNIT.fails has it fail.</param>
    public static string Script(string directory) => $$"""
        #!/bin/sh
        cd {{directory}} || exit 1
        echo "$*" >> said
        for unit; do :; done
        for word; do case "$word" in show|list-unit-files|start|stop|restart|reload|enable|disable) act=$word; break;; esac; done
        tell() {
          active=$(cat "$1.active")
          case "$active" in active) sub=running;; failed) sub=failed;; *) sub=dead;; esac
          echo "Id=$1"; echo "Description=Stands in for $1"; echo LoadState=loaded
          echo "ActiveState=$active"; echo "SubState=$sub"; echo "UnitFileState=$(cat "$1.file")"; echo StateChangeTimestamp=@1774742400
        }
        case "$act" in
          list-unit-files) for file in *.file; do echo "${file%.file} $(cat "$file") enabled"; done;;
          show)
            if [ "$unit" = "*.service" ]; then for file in *.active; do tell "${file%.active}"; echo; done; exit 0; fi
            [ -f "$unit.active" ] || { echo LoadState=not-found; exit 0; }
            case "$*" in
              *--property=LoadState\ *) echo LoadState=loaded;;
              *) tell "$unit";;
            esac;;
          start|restart)
            [ ! -f "$unit.refuses" ] || { echo "Job for $unit failed." >&2; exit 1; }
            if [ -f "$unit.fails" ]; then echo failed > "$unit.active"; else echo active > "$unit.active"; fi;;
          stop) echo inactive > "$unit.active";;
          enable) echo enabled > "$unit.file";;
          disable) echo disabled > "$unit.file";;
        esac

        """;

    /// <summary>Shell lines that make a unit, stopped and disabled.</summary>
    public static string Unit(string directory, string name) => $"mkdir -p {directory}; echo inactive > {directory}/{name}.service.active; echo disabled > {directory}/{name}.service.file";
}
