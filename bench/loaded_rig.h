#pragma once

#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

#include <cstdio>
#include <optional>
#include <string>

namespace jovilux {

struct LoadedRig {
  Rig rig;
  Scene scene;
};

/// A rig with its scene; nothing where one of them cannot be made: its first problem is printed to
/// standard error.
inline std::optional<LoadedRig> loaded_or_told(const std::string& file,
                                               const RigRequest& request = {}) {
  auto rig = load_rig(file, request);
  if (!rig) {
    std::fprintf(stderr, "%s\n", to_string(rig.problems()[0]).c_str());
    return std::nullopt;
  }
  auto scene = prepare_scene(*rig);
  if (!scene) {
    std::fprintf(stderr, "%s\n", to_string(scene.problems()[0]).c_str());
    return std::nullopt;
  }
  return LoadedRig{std::move(*rig), std::move(*scene)};
}

}  // namespace jovilux
