#!/usr/bin/env bash
# The main rates at this commit, as a line of JSON: what is done in the time of a fixed piece of work.
#   bench/track.sh >> bench/measurements.jsonl; `jovilux_bench tables bench/measurements.jsonl` prints the tables of docs/performance.md.
# Two lines compare where they are of one machine.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
build/release/jovilux_bench track "$(git describe --always --dirty)" bench/scenes/{open,shade,door,mist-slats,globe,gloss}.toml
