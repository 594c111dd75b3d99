#include "cli/test_scenes.h"

#include "jovilux/base/assert.h"

#include <string_view>
#include <utility>

namespace jovilux::cli {
namespace {

// The rigs of demo/scenes, by file name.
constexpr std::pair<std::string_view, std::string_view> kRigs[] = {
#include "scene_files.inc"
};

std::string rig_of(const std::string& name) {
  for (const auto& [file, text] : kRigs) {
    if (file == name + ".toml") {
      return std::string(text);
    }
  }
  JOVILUX_ASSERT(false);
  return "";
}

TestScene scene(std::string name,
                std::string what,
                std::vector<std::string> read_at,
                std::string read_what,
                std::string then) {
  std::string rig = rig_of(name);
  return {std::move(name),
          std::move(what),
          std::move(rig),
          std::move(read_at),
          std::move(read_what),
          std::move(then)};
}

}  // namespace

const std::vector<TestScene>& test_scenes() {
  static const std::vector<TestScene> kAll = {
      scene("row",
            "seven pots at equal steps along a bench under one lamp: how light weakens",
            {"40,150", "175,152", "310,152", "444,155"},
            "the tops of the first, third, fifth and seventh pot",
            "try --set light.lamp.falloff=none; jovilux meter reads all seven pots"),
      scene("screen",
            "a plant before a canvas blind: how the edge of a shadow softens",
            {"300,60", "312,128"},
            "the canvas, lit and in a leaf's shadow",
            "try --set \"object.canvas.at=[0, 1.8, 1.2]\", or another light.lamp.radius"),
      scene("cards",
            "gray, white and black card, chrome ball, glazed tile: levels and reflections",
            {"84,162", "150,162", "217,162"},
            "the gray, white and black card",
            "move or turn the light: --set \"light.lamp.at=[0.9, -1.5, 2.1]\""),
      scene("garland",
            "festoon bulbs on a straight line beside the tube that they imitate",
            {"120,160", "360,160"},
            "the wall under the tube and under the bulbs",
            "try --set array.garland.count=5, or --set array.garland.output='\"each\"'"),
      scene("blind",
            "mist behind a bamboo blind: shafts",
            {"100,73", "200,160"},
            "the mist above and in the shafts",
            "try --set haze.mist.visibility='\"60 m\"', or a narrower light.yard.field"),
      scene("jar",
            "a lamp in a paper shade beside a glass jar: bounces and caustics",
            {"160,150", "330,60"},
            "the paper and the wall",
            "try --set material.paper.transmittance=0.2; jovilux meter reads the bench"),
  };
  return kAll;
}

std::string starter_rig() { return rig_of("starter"); }

}  // namespace jovilux::cli
