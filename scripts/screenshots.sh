#!/usr/bin/env bash
# Makes the pictures in docs/screenshots afresh: the console's pages and the client in a terminal, from the demo.
set -euo pipefail
cd "$(dirname "$0")/.."
out=$PWD/docs/screenshots
bin=$PWD/out/bin
data=$(mktemp -d)
port=18470
mkdir -p "$out"
export UMBREK_HOME=$data/client PATH=$bin:$PATH
finish() {
  kill "$(cat "$data/demo.pid")" 2>/dev/null || true
  [ -z "${screen:-}" ] || kill "$screen" 2>/dev/null || true
  while [ -e "$data/demo.pid" ]; do sleep 0.1; done
  rm -rf "$data"
}
trap finish EXIT

umbrek-sim demo --no-wait --data "$data" --port $port >/dev/null
key=$(openssl x509 -in "$data/service/tls.crt" -pubkey -noout | openssl pkey -pubin -outform der | sha256sum | cut -d' ' -f1)
name=$(node -p "require('$data/demo-accounts.json')[0].name")
password=$(node -p "require('$data/demo-accounts.json')[0].password")
echo "$password" | umbrek sign-in "https://localhost:$port" --name "$name" --password-stdin --trust "$key" >/dev/null
umbrek run --on 'quay-*, plover-*, ripening-*' -- uptime >/dev/null
umbrek run --on 'quay-ticket-*' -- 'systemctl is-active ticket-print' >/dev/null 2>&1 || true
umbrek run --on 'in "Tarn Valley Creamery/Office" or in "Brindle Moor Observatory/Data Room"' -- uname -r >/dev/null
(cd console && node screenshots/take.mjs "https://localhost:$port" "$key" "$name" "$password" "$out")

# A terminal window under a screen of its own.
number=97
Xvfb :$number -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
screen=$!
while ! [ -e /tmp/.X11-unix/X$number ] && kill -0 $screen; do sleep 0.1; done
terminal() { # file, commands
  local script=$data/terminal.sh
  rm -f "$data/shown"
  {
    echo "PS4='\$ '; cd $data; clear"
    printf '%s\n' "$2" | while IFS= read -r line; do printf 'printf "\\033[1m$ %%s\\033[0m\\n" %q; %s\n' "$line" "$line"; done
    echo "touch $data/shown; sleep 60"
  } >"$script"
  DISPLAY=:$number xterm -fa 'DejaVu Sans Mono' -fs 11 -bg '#12151c' -fg '#e8e4da' -geometry 140x40+0+0 -e bash "$script" &
  local window=$!
  while ! [ -e "$data/shown" ]; do sleep 0.1; done
  sleep 0.5
  DISPLAY=:$number import -window root "$out/$1"
  kill $window 2>/dev/null || true
  wait $window 2>/dev/null || true
  echo "$1"
}
printf 'a heading of its own\n' >"$data/index.html"
umbrek twin make board --first quay-ticket-03:/srv/board --second quay-ticket-04:/srv/board --both-ways >/dev/null
umbrek twin turn board --settle first >/dev/null
umbrek send quay-ticket-03 "$data/index.html" --to /srv/board --existing replace >/dev/null
umbrek send quay-ticket-04 "$data/index.html" --to /srv/board --as today.html >/dev/null
umbrek file delete quay-ticket-04 /srv/board/index.html >/dev/null
umbrek shelf make boards 'Saltmarsh Ferry/Quay' >/dev/null
umbrek twin make kept --first quay-ticket-03:/srv/board --second shelf=boards >/dev/null
umbrek twin turn kept >/dev/null
terminal client-files.png "umbrek file search --on 'quay-ticket-0*' --in /srv --larger 1MiB --hash --output csv
umbrek twin turn board
umbrek twin turn board --settle first --only index.html
umbrek twin list
umbrek shelf look boards"
terminal client-run.png "umbrek run --on 'quay-ticket-*' -- 'systemctl is-active ticket-print'
umbrek run --on 'in \"Tarn Valley Creamery\"' --fold -- uname -r
umbrek run --on tidewell-kiosk --expires 2d -- uptime
umbrek process list quay-ticket-01 --sort memory kiosk
umbrek file list quay-ticket-03 /srv/board
umbrek fetch quay-ticket-03 /srv '/var/log/*.log'
umbrek job list --most 5"

# Somebody is at a screen of this machine, which is a host of the demo too, and is asked.
DISPLAY=:$number openbox >/dev/null 2>&1 &
DISPLAY=:$number xsetroot -solid '#2b3240'
DISPLAY=:$number xterm -title 'Berths' -fa 'DejaVu Sans Mono' -fs 11 -geometry 88x18+60+380 -e sh -c 'printf "berth  ferry     leaves\n1      Plover    07:45\n2      Shearwater 08:10\n3      -         -\n"; exec sleep 60' &
umbrek policy set "$(hostname)" --consent logged-in --notice during >/dev/null
umbrek shell "$(hostname)" --reason 'The ticket printer prints nothing since this morning' -- tail -n 50 /var/log/ticket-print.log >/dev/null 2>&1 &
while ! DISPLAY=:$number xwininfo -name "Umbrek: $name asks to act on this computer" >/dev/null 2>&1; do sleep 0.1; done
sleep 1
DISPLAY=:$number import -window root "$out/host-question.png"
echo host-question.png
