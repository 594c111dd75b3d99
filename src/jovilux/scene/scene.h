#pragma once

#include <string>
#include <vector>

#include "jovilux/base/problem.h"
#include "jovilux/emitters/emitter.h"
#include "jovilux/geometry/world.h"
#include "jovilux/optics/surface.h"
#include "jovilux/rig/rig.h"

namespace jovilux {

/// A rig made ready for rays: immutable, shared by all threads.
struct Scene {
  /// What a surface number of the world stands for: an object of the rig, or the body of a light.
  struct Surface {
    std::uint32_t object = kNoIndex;
    std::uint32_t material = kNoIndex;
    std::uint32_t emitter = kNoIndex;
  };
  World world;
  std::vector<Surface> surfaces;
  std::vector<SurfaceModel> materials;
  std::vector<Emitter> emitters;           ///< one for each light of the rig, in its order, the dark ones too
  std::vector<double> gel_transmittance;   ///< of each light, the luminous share that its gels let through
  std::vector<std::uint32_t> emitter_surface;  ///< of each emitter, the surface number of its body; kNoIndex without
  std::vector<std::uint32_t> distant;      ///< the emitters that rays which leave the world may see
  std::vector<std::string> layers;         ///< names of the lights that shine; Emitter::layer points here
};

/// Loads the meshes and builds the hierarchy. Problems of mesh files carry the file's place and the rig's address.
Result<Scene> prepare_scene(const Rig& rig);

/// A source's spectrum behind its gels, and what share of its luminous flux they let through.
struct SourceColor {
  NmTable spectrum;
  double transmittance = 1;
};
/// Reads the files that a light's spectrum and gels name; problems carry the files' places.
Result<SourceColor> source_color(const LightSpec& light);

/// The emitter that a light of the rig becomes; `layer` stays unset.
Emitter make_emitter(const LightSpec& light, const SourceColor& color, const Vec3d& up);

}  // namespace jovilux
