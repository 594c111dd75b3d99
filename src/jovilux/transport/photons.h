#pragma once

#include "jovilux/base/vec.h"
#include "jovilux/scene/scene.h"
#include "jovilux/transport/transport.h"

#include <cstdint>
#include <vector>

namespace jovilux {

/// Light that arrives somewhere after at least one bounce: where, from which direction, how much.
struct PhotonRecord {
  Vec3 p = Vec3::Zero();
  Vec3 normal =
      Vec3::Zero();  ///< on the light's side; zero in haze, and of what is lit from behind
  Vec3 source = Vec3::Zero();  ///< where it was scattered before
  Vec2 place = Vec2::Zero();   ///< of the direction that it came from, in square_of()
  float power = 0;             ///< of its path [lm]
};

/// A photon that falls on a rough surface, directly from a light as well.
struct PhotonScattering {
  SurfacePoint p;
  Vec3 wo = Vec3::UnitZ();     ///< unit, toward where it came from
  std::uint32_t material = 0;  ///< the surface's number
  float power = 0;             ///< that arrives [lm]
};

/// Where photons left records.
struct PhotonRecords {
  std::vector<PhotonRecord> surfaces, haze;
};

/// Traces `count` photons from all lights, for learning where light comes from: half of them the
/// same number from each light, half by the lights' flux. Lights without end send none. Rough where
/// that does no harm to learning: colors are gray, pictures on surfaces have their material's
/// color.
/// Without `caustics`, photons that first fall on a mirror or smooth glass leave no records: paths
/// from lights find their light. The result depends on the arguments only. `rays`: added to.
/// `scatterings`: of the photons, in their order; may be null.
/// Source: H. W. Jensen, "Importance Driven Path Tracing using the Photon Map", Rendering
/// Techniques, 1995.
PhotonRecords trace_photons(const Scene& scene,
                            std::size_t count,
                            int bounces,
                            bool caustics,
                            std::uint32_t seed,
                            RayCounts& rays,
                            std::vector<PhotonScattering>* scatterings = nullptr);

}  // namespace jovilux
