#!/usr/bin/env bash
# Installs, configures, builds and runs the demo; its results are in demo-out/. Options go to `jovilux demo`.
set -euo pipefail
TARGET=programs
. "$(dirname "${BASH_SOURCE[0]}")/setup.sh"
build/release/jovilux demo -o demo-out --force "$@"
