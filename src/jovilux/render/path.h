#pragma once

#include <cstdint>

#include "jovilux/base/sampler.h"
#include "jovilux/color/nodes.h"
#include "jovilux/render/film.h"
#include "jovilux/scene/scene.h"

namespace jovilux {

struct RayCounts {
  std::uint64_t camera = 0, path = 0, shadow = 0;
  MarchCounts march;             ///< of solids
  std::uint64_t media_steps = 0; ///< densities looked up on the way through uneven haze
  std::uint64_t query_ns = 0;  ///< time inside ray queries, where it was asked for
  RayCounts& operator+=(const RayCounts& o) {
    camera += o.camera;
    path += o.path;
    shadow += o.shadow;
    march += o.march;
    media_steps += o.media_steps;
    query_ns += o.query_ns;
    return *this;
  }
};

/// Where a path's light goes, one call a contribution.
class LightSink {
 public:
  /// `xyz` absolute, Y in cd/m2, from the light of a layer.
  void add(std::uint32_t layer, Part part, const Eigen::Array3f& xyz) {
    const std::uint32_t slot = layer * static_cast<std::uint32_t>(parts_) + (parts_ > 1 ? static_cast<std::uint32_t>(part) : 0);
    float* to = sums_ + slot * 3;
    to[0] += xyz[0];
    to[1] += xyz[1];
    to[2] += xyz[2];
    luminance_[slot] += xyz[1];
    total_ += xyz[1];
  }
  /// sums: [slot][3]; luminance: [slot], both added to.
  LightSink(float* sums, float* luminance, int parts) : sums_(sums), luminance_(luminance), parts_(parts) {}
  float total() const { return total_; }

 private:
  float* sums_;
  float* luminance_;
  int parts_;
  float total_ = 0;
};

/// What the first surface on a path is like, for the guide layers.
struct FirstHit {
  bool found = false;
  Spectrum albedo = Spectrum::Zero();
  Vec3 normal = Vec3::Zero();
  float depth = 0;
  std::uint32_t surface = kNoIndex;
};

/// A small white plane that receives light by the cosine, on the side of its normal.
struct Receiver {
  Vec3 at, normal;
};

/// Unidirectional path tracing: at each surface one light is chosen and sampled toward (next-event estimation), and one
/// direction by the surface; both find lights, joined by multiple importance sampling (power heuristic). Unbiased;
/// Russian roulette after three scatterings.
///
/// On a ray through haze the light that haze scatters once is found in three ways: a light chosen first and a place that suits
/// it, a place chosen by what is left of the light and a light chosen there, and there a direction chosen by the phase
/// function. The second place is also where the path goes on, as often as haze extinguishes it.
///
/// `bounces` is the number of scatterings after the camera, by surfaces and haze: 0 sees lights only, 1 is direct light.
///
/// With kTimed, counts.query_ns grows by the time spent in ray queries, which costs some time of its own.
///
/// With a receiver the path begins at its plane, as if the eye saw it: what it receives over pi, as a luminance.
template <bool kTimed = false>
void trace_path(const Scene& scene, Ray ray, const Sampler& sampler, int bounces, LightSink& sink, FirstHit* first, RayCounts& counts, const Receiver* receiver = nullptr);

/// Pairs of dimensions that the camera takes before trace_path's own begin.
inline constexpr std::uint32_t kCameraPairs = 2;

}  // namespace jovilux
