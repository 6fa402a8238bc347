#!/usr/bin/env bash
# Runs tests; the last line counts them. Each runs once.
#   test.sh            every suite
#   test.sh check      what to run after each change: lint, unit tests and five journeys
#   test.sh endure     the longer proofs, by themselves; --seed N repeats one
# ONLY=SUITE runs one suite, ARGS goes to its runner. Budgets are in tests/README.md.
set -uo pipefail
cd "$(dirname "$0")/.."
mode=${1:-test}
passed=0
failed=0
results=out/test-results
rm -rf "$results" && mkdir -p "$results"
export UMBREK_BIN="$PWD/out/bin"
# Programs start by the hundred here: what the compiler learns of them, and pages that are never writable and executable at once, cost more than they bring.
export DOTNET_TieredPGO=0 DOTNET_EnableWriteXorExecute=0
if [ "$mode" != check ]; then
  export UMBREK_CLIENT="$PWD/out/release/bin/umbrek" UMBREK_AGENTS="$PWD/out/release/agents"
  # The demo that a test starts finds its programs where a build puts them.
  for program in agents/linux-x64/umbrek-agent lib/umbrek/umbrek; do
    [ -e "out/$program" ] || install -D -m 755 "out/release/bin/${program##*/}" "out/$program"
  done
fi

wants() { # suite
  [ -z "${ONLY:-}" ] || [ "$ONLY" = "$1" ]
}

budget() { # suite, in seconds; none where there is no table row
  sed -n "s/^| $1 | \([0-9]*\) |.*/\1/p" tests/README.md
}

# Counts what a suite came to, and fails it where it took longer than its budget.
count() { # suite passed failed seconds
  passed=$((passed + $2))
  failed=$((failed + $3))
  local limit
  limit=$(budget "$1")
  printf '%-14s %4d passed, %d failed   %d s%s\n' "$1" "$2" "$3" "$4" "${limit:+ of $limit}"
  if [ "$mode" = test ] && [ -n "$limit" ] && [ "$4" -gt "$limit" ]; then
    echo "$1 took $4 s; its budget in tests/README.md is $limit s. Find what became slow (the slowest are listed below), or move it to make endure or make bench."
    failed=$((failed + 1))
  fi
}

# What the tests that failed say, not what the services of other tests wrote meanwhile; the end of the log where none says so.
what_failed() { # log
  if grep -q '\[FAIL\]' "$1"; then
    awk '/\[FAIL\]/ { left = 60 } left > 0 && /^    / { print; left-- }' "$1"
  else
    tail -n 120 "$1"
  fi
}

attribute() { # xml name
  grep -o '<assembly [^>]*>' "$1" | head -1 | grep -o " $2=\"[0-9]*\"" | grep -o '[0-9]*'
}

# One suite of .NET: its program is the runner.
suite() { # name, then more for the runner
  local name=$1 log="$results/$1.log" xml="$results/$1.xml" began=$SECONDS
  "out/build/bin/Umbrek.$name.Tests/release/Umbrek.$name.Tests" -noColor -xml "$xml" "${@:2}" ${ARGS:-} >"$log" 2>&1 || what_failed "$log"
  if [ -f "$xml" ]; then
    count "$name" "$(attribute "$xml" passed)" $(($(attribute "$xml" failed) + $(attribute "$xml" errors))) $((SECONDS - began))
    node scripts/slowest.mjs "$xml"
  else
    count "$name" 0 1 $((SECONDS - began))
  fi
}

step() { # name, command
  local began=$SECONDS
  if "${@:2}" >"$results/step.log" 2>&1; then
    count "$1" 1 0 $((SECONDS - began))
  else
    cat "$results/step.log"
    count "$1" 0 1 $((SECONDS - began))
  fi
}

lint_console() {
  # Two at a time: each of them has one thread.
  (cd console
    npx --no-install eslint . & linted=$!
    npx --no-install prettier --check --log-level warn . && npx --no-install tsc --noEmit
    typed=$?
    wait "$linted" && [ "$typed" -eq 0 ])
}

lint_format() {
  # Style and analyzers are part of the build; what is left to check is white space.
  dotnet format whitespace Umbrek.slnx --no-restore --verify-no-changes --exclude src/Umbrek.Service/Storage/Migrations
}

console() { # more for vitest
  local began=$SECONDS
  (cd console && npx --no-install vitest run --reporter=dot --reporter=json --outputFile="../$results/console.json" "$@") >"$results/console.log" 2>&1 || tail -n 150 "$results/console.log"
  if [ -f "$results/console.json" ]; then
    look() { # of the report
      node -p "const r = require('./$results/console.json'); $1"
    }
    count console "$(look r.numPassedTests)" "$(look 'r.numFailedTests + (r.success ? 0 : r.numFailedTests ? 0 : 1)')" $((SECONDS - began))
    node scripts/slowest.mjs "$results/console.json"
  else
    count console 0 1 $((SECONDS - began))
  fi
}

case "$mode" in
check)
  step "format" lint_format
  [ -z "$(git status --porcelain console)" ] || { step "console lint" lint_console && console --changed; }
  for name in Core Wire Simulation Cli; do suite "$name"; done
  suite EndToEnd -trait Journey=Worst -parallelMode all -maxThreads 3
  ;;
endure)
  shift
  while [ $# -gt 0 ]; do
    case "$1" in
    --seed) export UMBREK_SEED=$2 && shift 2 ;;
    *) echo "test.sh endure takes --seed N, not '$1'." >&2 && exit 2 ;;
    esac
  done
  suite EndToEnd -trait Length=Long -explicit only -parallelMode none -showLiveOutput
  grep -h "seed\|kills\|arrived" "$results/EndToEnd.log"
  ;;
test)
  ! wants console || { step "console lint" lint_console; console; }
  ! wants format || step format lint_format
  for name in Core Wire Simulation Cli; do
    ! wants "$name" || suite "$name"
  done
  # Most of their time goes by in waiting: for programs, for lines, for pages.
  for name in Agent Service EndToEnd; do
    ! wants "$name" || suite "$name" -parallelMode all -maxThreads 4
  done
  ;;
*)
  echo "test.sh takes 'check' or 'endure', or nothing for every test; not '$mode'." >&2
  exit 2
  ;;
esac

if [ "$failed" -gt 0 ] && grep -qs '\[FAIL\]' "$results"/*.log; then
  echo
  echo "Failed:"
  grep -hs '\[FAIL\]' "$results"/*.log | sed 's/ *\[FAIL\]//'
fi
echo
echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ] && [ "$passed" -gt 0 ]
