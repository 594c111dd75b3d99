#!/usr/bin/env bash
# Whole files for each reader, to be damaged: those in seeds/, the demo's, and what the program writes.
#   tests/fuzz/make_seeds.sh PROGRAM FOLDER
set -euo pipefail
program=$(realpath "$1")
mkdir -p "$2"
out=$(realpath "$2")
cd "$(dirname "${BASH_SOURCE[0]}")/../.."
for target in rig set lm63 eulumdat csv spdx obj ply hdr png exr gltf glb usda slice density; do
  mkdir -p "$out/$target"
  [ -d "tests/fuzz/seeds/$target" ] && cp "tests/fuzz/seeds/$target/"* "$out/$target"
done
cp demo/lights.toml demo/house.toml demo/orchid-house.toml "$out/rig"
cp demo/*.ies "$out/lm63"
cp demo/brick-a.obj demo/seedling.obj "$out/obj"
cp demo/puddles.png "$out/png"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cp tests/support/rigs/small.toml "$work/rig.toml"
cp tests/support/rigs/*.toml "$out/rig"
tiny=(--size 20x12 --samples 2 --set render.bounces=1 --quiet)
"$program" render "$work/rig.toml" -o "$work/a" "${tiny[@]}" >/dev/null
"$program" render "$work/rig.toml" -o "$work/slice" --slice 1/2 "${tiny[@]}" --set light.panel.on=false >/dev/null
cp "$work/a/image.exr" "$out/exr/a.exr"
cp "$work/a/view.png" "$out/png/view.png"
find "$work/slice" -name '*.part' -o -name '*.slice' | head -1 | xargs -I{} cp {} "$out/slice/a.part"
"$program" export "$work/rig.toml" -o "$out/gltf/a.gltf" >/dev/null
"$program" export "$work/rig.toml" -o "$out/usda/a.usda" >/dev/null
printf '%s' 'light.a.output=900 lm' > "$out/set/a"
printf '%s' 'light.a.at[2]=1.5' > "$out/set/b"
printf '%s' 'camera.c.look_at=[0, 0, 1]' > "$out/set/c"
printf '%s' 'light.a.dimmer={ keys = [["0 s", 0], ["1 s", 1]] }' > "$out/set/d"
