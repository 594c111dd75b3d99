#!/usr/bin/env bash
# Builds the preset `fuzz` and runs each target for a time (60 s by default): tests/fuzz/run.sh [SECONDS] [TARGET...]
# A crash leaves its input in build/fuzz; a mended one belongs into tests/data/bad with a test.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/../.."
seconds=${1:-60}
shift || true
targets=("$@")
[ "${#targets[@]}" -gt 0 ] || targets=(rig lm63 eulumdat csv spdx obj ply hdr)
command -v clang++ >/dev/null || { echo "run.sh: needs clang (package clang)" >&2; exit 1; }
cmake --preset fuzz >/dev/null
cmake --build --preset fuzz
for target in "${targets[@]}"; do
  corpus="build/fuzz/corpus-$target"
  mkdir -p "$corpus"
  case $target in
    rig) cp demo/*.toml "$corpus" ;;
    lm63) cp demo/*.ies "$corpus" ;;
    obj) cp demo/*.obj "$corpus" ;;
  esac
  [ -d "tests/fuzz/seeds/$target" ] && cp "tests/fuzz/seeds/$target/"* "$corpus"
  echo "== $target, $seconds s"
  (cd build/fuzz && "./tests/fuzz/fuzz_$target" -max_total_time="$seconds" -timeout=10 -rss_limit_mb=2048 -max_len=8192 -print_final_stats=1 "corpus-$target" 2>&1 |
    grep -E "ERROR|SUMMARY|stat::number_of_executed_units|Test unit written" || true)
  if compgen -G "build/fuzz/crash-*" >/dev/null || compgen -G "build/fuzz/oom-*" >/dev/null || compgen -G "build/fuzz/timeout-*" >/dev/null || compgen -G "build/fuzz/leak-*" >/dev/null; then
    echo "run.sh: $target failed; see build/fuzz" >&2
    exit 1
  fi
done
