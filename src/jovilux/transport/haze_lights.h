#pragma once

#include "jovilux/emitters/light_clusters.h"
#include "jovilux/transport/guide.h"

#include <cstdint>
#include <vector>

namespace jovilux {

/// Which light is sampled toward from a place in haze: a distribution for each cell of the guide,
/// of what the lights could bring to places where camera paths were scattered there, times the
/// share that arrives. Choosing is a search among the lights, and a chance a look-up, where
/// LightClusters looks at each light anew. Immutable; shared by all threads.
///
/// A twentieth of the chances is the same for all lights: one whose beam crosses the cell beside
/// all places that were looked at is still found.
class HazeLights {
 public:
  /// More lights than these are chosen by LightClusters.
  static constexpr std::size_t kMostLights = 64;

  HazeLights() = default;
  /// `places`: where haze scattered camera paths.
  HazeLights(const std::vector<Emitter>& lights,
             const LightClusters& clusters,
             const GuideTree& haze,
             const std::vector<ShadingPlace>& places);

  bool empty() const { return lights_ == 0; }
  /// u in [0, 1).
  LightChoice choose(std::uint32_t cell, float u) const;
  /// That choose finds this light.
  float chance(std::uint32_t cell, std::uint32_t light) const {
    const float* up_to = up_to_.data() + cell * (lights_ + 1) + light;
    return up_to[1] - up_to[0];
  }

 private:
  std::size_t lights_ = 0;
  std::vector<float> up_to_;  // of each cell: 0, then the sums of chances up to each light
};

}  // namespace jovilux
