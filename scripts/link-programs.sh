#!/usr/bin/env bash
# Puts what was built where people and tests start it: out/bin.
set -euo pipefail
cd "$(dirname "$0")/.."
mkdir -p out/bin
for program in Service/umbrekd Simulation/umbrek-sim; do
  ln -sfn "../build/bin/Umbrek.${program%/*}/release/${program#*/}" "out/bin/${program#*/}"
done
ln -sfn ../lib/umbrek/umbrek out/bin/umbrek
ln -sfn ../agents/linux-x64/umbrek-agent out/bin/umbrek-agent
# The service looks for both beside itself.
ln -sfn ../../../../console out/build/bin/Umbrek.Service/release/console
ln -sfn ../../../../agents out/build/bin/Umbrek.Service/release/agent
