#pragma once

#include "jovilux/scene/scene.h"
#include "jovilux/transport/guide.h"
#include "jovilux/transport/transport.h"

#include <cstdint>
#include <span>

namespace jovilux {

/// How light is looked for that mirrors send on late.
struct LateCausticsPlan {
  std::size_t photons = 0;  ///< from lights; as many are aimed at mirrors and smooth glass
  int bounces = 0;          ///< the most scatterings of a camera path
  std::uint32_t seed = 1;
};

/// Directions toward late caustics: light that something rough has scattered, and that mirrors or
/// smooth glass sent on last, such as a lamp shade's behind a jar. Neither virtual lights nor paths
/// from lights find it, and of a camera path's own directions few do.
///
/// Photons from the lights are scattered by rough surfaces; there, by chance in proportion to what
/// may arrive, photons of their own are aimed at the balls around mirroring and glass objects. What
/// these leave where they fall tells the directions, and beside what all photons bring to a cell,
/// how many of its directions to guide. Haze is passed by; colors are gray.
///
/// `places`: where camera paths are scattered. Empty where a trial with a quarter of the photons
/// finds that hardly any of these get such light. `rays`: added to.
GuideTree learn_late_caustics(const Scene& scene,
                              const LateCausticsPlan& plan,
                              std::span<const ShadingPlace> places,
                              RayCounts& rays);

}  // namespace jovilux
