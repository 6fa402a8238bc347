#!/usr/bin/env bash
# Runs a dotnet command with one compiler for all its projects, which ends with it: compiled afresh for each project, the analyzers alone take minutes.
set -uo pipefail
server="umbrek-$$"
dotnet "$1" "${@:2}" -p:UseSharedCompilation=true -p:SharedCompilationId="$server"
status=$?
compiler=$(dirname "$(readlink -f "$(command -v dotnet)")")/sdk/$(dotnet --version)/Roslyn/bincore/VBCSCompiler
[ ! -x "$compiler" ] || "$compiler" -shutdown -pipename:"$server" >/dev/null 2>&1 || true
exit $status
