#pragma once

#include "jovilux/render/renderer.h"

#include <string>
#include <vector>

namespace jovilux {

/// How many moments an exposure is divided into where something moves in it.
inline constexpr int kExposureMoments = 32;

/// The moments of an exposure, in the middle of equal parts of the time that the shutter is open:
/// at each the scene, with the lights' mean levels over its part, and the camera.
struct ExposureMoments {
  /// Empty: nothing moves, the scene of the rig's moment is enough.
  std::vector<RenderOptions::Moment> moments;
  std::vector<std::string> layers;  ///< of the film then
};

/// What keys move while the shutter is open: lights (but for their dimmers and switches, whose mean
/// level a still scene has already), shapes, solids, haze and the camera. Meshes stay where they
/// are in `scene`, and so do materials.
Result<ExposureMoments> exposure_moments(const Rig& rig, const Scene& scene, int camera);

}  // namespace jovilux
