#!/usr/bin/env bash
# Installs what packages.txt names (nothing when all are there), configures and builds build/release.
# Sourced by demo.sh, which sets TARGET=programs to leave out tests and benchmark, and by test.sh.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")"

missing=()
while read -r package; do
  dpkg-query -W -f '${db:Status-Status}' "$package" 2>/dev/null | grep -qx installed || missing+=("$package")
done < <(sed -e 's/#.*//' -e 's/[[:space:]]//g' -e '/^$/d' packages.txt)
if [ "${#missing[@]}" -gt 0 ]; then
  as_root=()
  if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null || { echo "setup: needs root or sudo to install: ${missing[*]}" >&2; exit 1; }
    as_root=(sudo)
  fi
  echo "setup: installing ${missing[*]}"
  "${as_root[@]}" apt-get update -qq
  "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}"
fi

cmake --preset release -DJOVILUX_WERROR="${JOVILUX_WERROR:-OFF}"
cmake --build --preset release --target "${TARGET:-all}"
