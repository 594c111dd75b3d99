#!/usr/bin/env bash
# The rates of the scenes in bench/scenes at this commit, as a line of JSON: samples in the time of a fixed piece of work.
#   bench/track.sh >> bench/rates.jsonl, then `jovilux_bench rates bench/rates.jsonl` is the table of docs/performance.md, "Rates by commit".
# Two lines compare where they are of one machine.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
build/release/jovilux_bench track "$(git describe --always --dirty)" bench/scenes/{open,shade,door,mist-slats,globe,gloss}.toml
