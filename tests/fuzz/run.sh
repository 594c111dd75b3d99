#!/usr/bin/env bash
# Reads damaged files, in one of two ways:
#   tests/fuzz/run.sh mutate COUNT [BUILD] [TARGET...]   COUNT seeds changed by chance for each reader, with BUILD's sanitizers
#   tests/fuzz/run.sh search SECONDS [TARGET...]         a search by coverage for so long each; needs clang
# A crash says which input it was, or leaves it in build/fuzz; a mended one belongs into a test.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/../.."
all=(rig set lm63 eulumdat csv spdx obj ply hdr png exr gltf glb usda slice density)
usage() { sed -n '2,5s/^# \?//p' "${BASH_SOURCE[0]}" >&2; exit 2; }
[ $# -ge 2 ] || usage
way=$1 amount=$2
shift 2
seeds=$(mktemp -d)
trap 'rm -rf "$seeds"' EXIT
case $way in
  mutate)
    build=${1:-build/release}
    shift || true
    targets=("$@")
    [ "${#targets[@]}" -gt 0 ] || targets=("${all[@]}")
    tests/fuzz/make_seeds.sh "$build/jovilux" "$seeds"
    failed=0
    for target in "${targets[@]}"; do
      # The input that is read is told in place, again and again: only the last lines matter.
      if "$build/tests/fuzz/jovilux_mutate" "$target" "$seeds/$target" "$amount" 2> "$seeds/log"; then
        tr '\r' '\n' < "$seeds/log" | tail -n 1
      else
        tr '\r' '\n' < "$seeds/log" | tail -n 60 >&2
        echo "run.sh: $target failed at the input named above" >&2
        failed=1
      fi
    done
    exit "$failed"
    ;;
  search)
    targets=("$@")
    [ "${#targets[@]}" -gt 0 ] || targets=("${all[@]}")
    command -v clang++ >/dev/null || { echo "run.sh: needs clang (package clang)" >&2; exit 1; }
    cmake --preset fuzz >/dev/null
    cmake --build --preset fuzz
    tests/fuzz/make_seeds.sh build/release/jovilux "$seeds"
    for target in "${targets[@]}"; do
      corpus="build/fuzz/corpus-$target"
      mkdir -p "$corpus"
      cp "$seeds/$target/"* "$corpus"
      echo "== $target, $amount s"
      (cd build/fuzz && "./tests/fuzz/fuzz_$target" -max_total_time="$amount" -timeout=10 -rss_limit_mb=2048 -max_len=65536 -print_final_stats=1 "corpus-$target" 2>&1 |
        grep -E "ERROR|SUMMARY|stat::number_of_executed_units|Test unit written" || true)
      if compgen -G "build/fuzz/crash-*" >/dev/null || compgen -G "build/fuzz/oom-*" >/dev/null || compgen -G "build/fuzz/timeout-*" >/dev/null || compgen -G "build/fuzz/leak-*" >/dev/null; then
        echo "run.sh: $target failed; see build/fuzz" >&2
        exit 1
      fi
    done
    ;;
  *) usage ;;
esac
