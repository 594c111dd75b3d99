#pragma once

#include <memory>
#include <string>
#include <vector>

#include "jovilux/base/problem.h"
#include "jovilux/emitters/emitter.h"
#include "jovilux/geometry/world.h"
#include "jovilux/optics/haze.h"
#include "jovilux/optics/surface.h"
#include "jovilux/rig/rig.h"
#include "jovilux/scene/light_parts.h"

namespace jovilux {

/// A rig made ready for rays: immutable, shared by all threads.
struct Scene {
  /// What a surface number of the world stands for: an object of the rig, or the body of a light. An object that emits
  /// has both: it reflects as well.
  struct Surface {
    std::uint32_t object = kNoIndex;
    std::uint32_t material = kNoIndex;
    std::uint32_t emitter = kNoIndex;
    std::uint64_t links = ~std::uint64_t{0};  ///< bits of the lists of linked objects that it belongs to
  };
  World world;
  std::vector<Surface> surfaces;
  std::vector<SurfaceModel> materials;
  bool has_panes = false;                  ///< some material lets light straight through
  std::vector<Haze> hazes;
  std::vector<Emitter> emitters;           ///< one for each light of the rig, in its order, the dark ones too
  std::vector<LightParts> lights;          ///< of each light, what its files told
  std::vector<std::uint32_t> emitter_surface;  ///< of each emitter, the surface number of its body; kNoIndex without
  std::vector<std::uint32_t> distant;      ///< the emitters that rays which leave the world may see
  std::vector<std::vector<bool>> casters;  ///< lists of surfaces that throw shadows; Emitter::casters points here
  std::vector<std::string> layers;         ///< names of the lights that shine; Emitter::layer points here
};

/// Loads all files and builds the hierarchy. Problems of files carry the file's place and the rig's address. `camera` is
/// the index of the one that lights with fade_with_camera fade with.
Result<Scene> prepare_scene(const Rig& rig, int camera = 0);

}  // namespace jovilux
