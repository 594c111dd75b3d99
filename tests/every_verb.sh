#!/usr/bin/env bash
# A tiny run of every verb, for the sanitizer builds: fails where a sanitizer reports, or a verb ends with another
# status than it should.
#   tests/every_verb.sh PROGRAM [THREADS]
set -uo pipefail
program=$(realpath "$1")
threads=${2:-2}
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work" || exit 1
export ASAN_OPTIONS=halt_on_error=1:detect_leaks=1:exitcode=99 UBSAN_OPTIONS=halt_on_error=1:print_stacktrace=1:exitcode=99
export LSAN_OPTIONS="suppressions=$here/tests/lsan-suppressions.txt"
export TSAN_OPTIONS="halt_on_error=1:exitcode=99:suppressions=$here/tests/tsan-suppressions.txt"
failed=0
# run STATUS WORDS...
run() {
  local wanted=$1 start=$SECONDS status
  shift
  "$program" "$@" > out.txt 2> err.txt
  status=$?
  if [ "$status" -ne "$wanted" ]; then
    echo "status $status instead of $wanted: jovilux $*"
    tail -n 40 err.txt
    failed=1
  elif [ $((SECONDS - start)) -ge 20 ]; then
    echo "$((SECONDS - start)) s: jovilux $*"
  fi
}
small=(--size 32x18 --samples 2 --quiet --threads "$threads" --force)
cp "$here"/tests/support/rigs/*.toml "$here"/demo/{fern.obj,heat-lamp.ies,cedar.png,puddles.png} .
mv small.toml rig.toml
run 0 --help
run 0 check rich.toml
run 0 check rig.toml --json
run 0 convert "1350 lm" --kind sphere --radius 3cm --at 1m
run 0 color "2700 K" led-3000 D65
run 0 profile heat-lamp.ies
run 0 falloff rig.toml --light lamp
run 0 new fresh
run 0 new fresh-row --scene row
run 0 render rich.toml -o rich --quiet --threads "$threads"
# Large enough that paths learn before the picture.
run 0 render "$here/bench/scenes/room.toml" -o learned --quiet --threads "$threads" --size 96x54 --samples 16
run 0 render "$here/demo/scenes/blind.toml" -o blind "${small[@]}"
run 0 render "$here/demo/scenes/jar.toml" -o jar "${small[@]}"
run 0 render rig.toml -o a --quiet --threads "$threads" --denoise
run 0 render rig.toml -o b --quiet --threads "$threads" --set light.lamp.dimmer=0.5
run 0 render rig.toml -o s1 --quiet --threads "$threads" --slice 1/2
run 0 render rig.toml -o s2 --quiet --threads "$threads" --slice 2/2
run 0 merge s1 s2 -o joined
run 0 read a --at 16,9
run 0 false-color a -o fc --pixels
run 1 noise a --target "5 %"
run 0 why a --at 16,9 --samples 4096
cat rig.toml > shadowed.toml
printf 'catches_shadow = true\n' | sed -i '/name = "floor"/r /dev/stdin' shadowed.toml
printf '[[object]]\nname = "ball"\nat = [0, 0, 0.2]\nshape = { kind = "sphere", radius = 0.2 }\n' >> shadowed.toml
run 0 shadow shadowed.toml -o shadow --quiet --threads "$threads"
run 0 compare a b -o cmp
run 0 balance a -o bal --dim lamp=0.5
run 0 balance a --target "m=100 lx" -o bal2
run 0 sweep rig.toml --vary "light.lamp.dimmer = 0.2 .. 1 / 2" --size 16x9 --samples 2 -o sw --quiet
run 0 meter rig.toml --error "5 %"
run 0 meter rich.toml --samples 1024 --error "3 %" --set light.heat.on=false --set light.spot.on=false
{
  cat rig.toml
  printf '[[material]]\nname = "pane"\nkind = "glass"\nroughness = 0\n'
  printf '[[object]]\nname = "ball"\nat = [0.3, 0, 0.4]\nmaterial = "pane"\nshape = { kind = "sphere", radius = 0.2 }\n'
  printf '[[light]]\nname = "bulb"\nkind = "sphere"\nradius = "1 cm"\nat = [0.5, 0, 1]\noutput = "400 lm"\n'
  printf '[[light]]\nname = "star"\nkind = "point"\nat = [0.2, 0.1, 1]\noutput = "400 lm"\n'
} > mirrored.toml
run 0 meter mirrored.toml --samples 1024 --error "5 %" --set meter.m.at=[0.33,-0.05,0.1] --set render.bounces=6 --set light.lamp.on=false
run 0 denoise b
run 0 report a -o report.html
run 0 desk a -o desk.html
run 0 animate rig.toml -o anim --quiet --threads "$threads"
run 0 animate rig.toml -o frames --quiet --threads "$threads" --set light.lamp.at="{ keys = [[\"0 s\", [0, 0, 2]], [\"1 s\", [1, 0, 2]]] }"
run 0 export rig.toml -o lights.gltf
run 0 export rig.toml -o lights.usda
run 0 export rig.toml -o lights.csv
run 0 export rig.toml -o lights.ies
run 0 new from-usd --from lights.usda
run 0 keys light
run 0 schema
run 0 completion bash
run 0 show a
run 2 render none.toml -o x
run 2 read rig.toml --at 1,1
run 0 render rich.toml -o preview --preview --quiet --threads "$threads"
run 0 watch rig.toml -o live --times 1 --meters --at 16,9 --quiet --threads "$threads"
exit "$failed"
