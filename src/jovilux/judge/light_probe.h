#pragma once

#include "jovilux/emitters/emitter.h"
#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

#include <cstdint>
#include <vector>

namespace jovilux {

/// How rays from a light fare: what they meet first.
struct LightProbe {
  /// A place on an object that the light reaches.
  struct LitPlace {
    double distance;       ///< from the light's center, of an endless tube from its axis [m]
    double level;          ///< as relative_level(), times the cosine there
    std::uint32_t object;  ///< index in the rig
  };

  bool aimed = false;          ///< all rays lie in a beam: a spot, a one-sided disk or rectangle
  bool meets_object = false;   ///< at least one ray does
  bool meets_lamp = false;     ///< a ray meets the body of a light
  bool within_range = false;   ///< one meets an object before the range ends, or there is no range
  bool within_volume = false;  ///< one meets an object in the light's `inside`, or it has none
  double nearest;              ///< of the distances to objects [m]; infinite where none is met
  std::vector<LitPlace> lit;
};

/// Rays from the light in all its directions, and toward each bounded shape (small things that the
/// even rays may miss). Deterministic.
LightProbe probe_light(const Scene& scene, const LightSpec& light, const Emitter& emitter);

/// What the light brings to p on a surface that faces its center, unoccluded; in any unit, for
/// comparing places.
double relative_level(const Emitter& emitter, const Vec3& p);

}  // namespace jovilux
