#!/usr/bin/env bash
# Installs from Debian what is missing for building and the demo ("demo"), for the tests too ("test") or for the benchmarks ("bench").
# What Debian does not have is named, with what to do.
set -euo pipefail

want=(ieee-data tzdata clang zlib1g-dev libssl-dev ca-certificates libturbojpeg0-dev libturbojpeg0)
if [ "${1:-demo}" = test ]; then
  want+=(curl unzip faketime iproute2 nftables systemd chromium chromium-headless-shell postgresql sqlite3 procps util-linux tmux vim htop xvfb xterm x11-apps x11-utils x11-xserver-utils xclip xdotool openbox xcompmgr i3lock tshark ffmpeg fonts-dejavu-core imagemagick openssl)
fi

if [ "${1:-demo}" = bench ]; then
  want+=(chromium curl nginx util-linux xvfb)
fi

missing=()
for package in "${want[@]}"; do
  dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
done
if [ ${#missing[@]} -gt 0 ]; then
  as_root=()
  if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null || { echo "These Debian packages are missing and need root to install: ${missing[*]}" >&2; exit 1; }
    as_root=(sudo)
  fi
  echo "installing ${missing[*]}"
  "${as_root[@]}" apt-get update -qq
  "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
fi

trouble=0
if ! command -v dotnet >/dev/null || ! dotnet --list-sdks | grep -q '^10\.'; then
  echo "The .NET 10 SDK is missing; Debian has no package of it. Install it, so that 'dotnet --list-sdks' shows 10.0." >&2
  trouble=1
fi
if ! command -v node >/dev/null || [ "$(node --version | sed 's/^v\([0-9]*\).*/\1/')" -lt 20 ]; then
  echo "Node.js 20 or newer is missing, with npm. Install it, so that 'node --version' shows v20 or more." >&2
  trouble=1
fi
exit $trouble
