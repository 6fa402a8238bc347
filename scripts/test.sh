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

attribute() { # xml name
  grep -o '<assembly [^>]*>' "$1" | head -1 | grep -o " $2=\"[0-9]*\"" | grep -o '[0-9]*'
}

# What failed beside everything else, a few tests at most, is tried once more with the machine to itself. A defect fails again;
# what passes then stands below in the list of those that needed it, as something to look into.
again() { # project xml
  local tests
  tests=$(grep -o '<test [^>]*result="Fail"[^>]*>' "$2" | sed -E 's/.* type="([^"]*)".* method="([^"]*)".*/\1.\2/' | sort -u)
  [ -n "$tests" ] && [ "$(wc -l <<<"$tests")" -le 5 ] || return 1
  echo "Again, and alone:" $tests
  # shellcheck disable=SC2046
  "out/build/bin/Umbrek.$1.Tests/release/Umbrek.$1.Tests" -noColor -parallel none -xml "$results/$1.again.xml" $(sed 's/^/-method /' <<<"$tests") >"$results/$1.again.out" 2>&1 || {
    what_failed "$results/$1.again.out"
    return 1
  }
  sed 's/^/    /' <<<"$tests" >>"$results/second-try"
}

SECONDS=0
if [ -z "${ONLY:-}" ] || [ "$ONLY" = console ]; then
  (cd console && npx --no-install eslint . && npx --no-install prettier --check --log-level warn . && npx --no-install tsc --noEmit) && count "console lint" 1 0 || count "console lint" 0 1
  SECONDS=0
  look() { # of the report
    node -p "const r = require('./$results/console.json'); $1"
  }
  vitest() {
    (cd console && npx --no-install vitest run --reporter=default --reporter=json --outputFile="../$results/$1.json" "${@:2}")
  }
  vitest console || true
  if [ -f "$results/console.json" ]; then
    failures=$(look 'r.numFailedTests + (r.success ? 0 : r.numFailedTests ? 0 : 1)')
    passes=$(look r.numPassedTests)
    files=$(look 'r.testResults.filter((f) => f.status === "failed").map((f) => f.name).join("\n")')
    if [ "$failures" -gt 0 ] && [ "$failures" -le 5 ] && [ -n "$files" ]; then
      echo "Again, and alone:" $files
      if vitest console.again $files; then
        passes=$((passes + failures))
        failures=0
        sed "s|^$PWD/|    |" <<<"$files" >>"$results/second-try"
      fi
    fi
    count console "$passes" "$failures"
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
      failures=$(($(attribute "$xml" failed) + $(attribute "$xml" errors)))
      passes=$(attribute "$xml" passed)
      if [ "$failures" -gt 0 ] && [ "$(attribute "$xml" errors)" -eq 0 ] && again "$project" "$xml"; then
        passes=$((passes + failures))
        failures=0
      fi
      count "$project" "$passes" "$failures"
    else
      count "$project" 0 1
    fi
  done
fi

if [ "$failed" -gt 0 ] && grep -qs '\[FAIL\]' "$results"/*.log; then
  echo
  echo "Failed:"
  grep -hs '\[FAIL\]' "$results"/*.log | sed 's/ *\[FAIL\]//'
fi
if [ -f "$results/second-try" ]; then
  echo
  echo "Passed at the second try only, alone; worth a look:"
  cat "$results/second-try"
fi
echo
echo "$passed passed, $failed failed"
[ "$failed" -eq 0 ] && [ "$passed" -gt 0 ]
