#!/usr/bin/env bash
# Runs every test; the last line counts them all.
set -uo pipefail
cd "$(dirname "$0")/.."
passed=0
failed=0
results=out/test-results
rm -rf "$results" && mkdir -p "$results"
export UMBREK_BIN="$PWD/out/bin"
# Services live for seconds here: tuning their code by what it did costs more than it brings, and so does compiling again, and better, what was called often in the first half minute.
export DOTNET_TieredPGO=0 DOTNET_TC_CallCountingDelayMs=30000

count() { # name passed failed
  passed=$((passed + $2))
  failed=$((failed + $3))
  printf '%-14s %4d passed, %d failed   %ds\n' "$1" "$2" "$3" "$SECONDS"
}

# What the tests that failed say, not what the services of other tests wrote meanwhile; all of a log's end where none says so.
what_failed() { # log
  if grep -q '\[FAIL\]' "$1"; then
    awk '/\[FAIL\]/ { left = 60 } left > 0 && /^    / { print; left-- }' "$1"
  else
    tail -n 120 "$1"
  fi
}

SECONDS=0
if [ -z "${ONLY:-}" ] || [ "$ONLY" = console ]; then
  (cd console && npx --no-install eslint . && npx --no-install prettier --check --log-level warn . && npx --no-install tsc --noEmit) && count "console lint" 1 0 || count "console lint" 0 1
  SECONDS=0
  (cd console && npx --no-install vitest run --reporter=default --reporter=json --outputFile="../$results/console.json") || true
  if [ -f "$results/console.json" ]; then
    count console "$(node -p "require('./$results/console.json').numPassedTests")" "$(node -p "const r=require('./$results/console.json');r.numFailedTests+(r.success?0:r.numFailedTests?0:1)")"
  else
    count console 0 1
  fi
fi

SECONDS=0
if ! dotnet build Umbrek.slnx -c Release -v q --nologo -p:UseSharedCompilation=false; then
  count build 0 1
else
  # Style and analyzers are part of the build; what is left to check is white space.
  if [ -z "${ONLY:-}" ] || [ "$ONLY" = format ]; then
    SECONDS=0
    dotnet format whitespace Umbrek.slnx --no-restore --verify-no-changes --exclude src/Umbrek.Service/Storage/Migrations && count format 1 0 || count format 0 1
  fi
  for project in Core Wire Simulation Cli Agent Service EndToEnd; do
    [ -z "${ONLY:-}" ] || [ "$ONLY" = "$project" ] || continue
    SECONDS=0
    log="$results/$project.log"
    xml="$results/$project.xml"
    "out/build/bin/Umbrek.$project.Tests/release/Umbrek.$project.Tests" -noColor -xml "$xml" ${ARGS:-} >"$log" 2>&1 || what_failed "$log"
    if [ -f "$xml" ]; then
      attribute() { grep -o "<assembly [^>]*>" "$xml" | head -1 | grep -o " $1=\"[0-9]*\"" | grep -o '[0-9]*'; }
      count "$project" "$(attribute passed)" "$(($(attribute failed) + $(attribute errors)))"
    else
      count "$project" 0 1
    fi
  done
fi

if grep -qs '\[FAIL\]' "$results"/*.log; then
  echo
  echo "Failed:"
  grep -hs '\[FAIL\]' "$results"/*.log | sed 's/ *\[FAIL\]//'
fi
echo
echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ] && [ "$passed" -gt 0 ]
