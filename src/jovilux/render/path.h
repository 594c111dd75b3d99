#pragma once

#include "jovilux/base/sampler.h"
#include "jovilux/color/nodes.h"
#include "jovilux/render/light_paths.h"
#include "jovilux/render/transport.h"

#include <cstdint>

namespace jovilux {

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

/// The paths from lights that a picture's camera paths are joined with, and how many of them a
/// sample of the whole picture
/// has; null: none.
struct JoinedLightPaths {
  const LightPaths* paths = nullptr;
  double per_sample = 0;
};

/// Unidirectional path tracing: at each surface one light is chosen and sampled toward (next-event
/// estimation), and one
/// direction by the surface; both find lights, joined by multiple importance sampling (power
/// heuristic). Unbiased;
/// Russian roulette after three scatterings.
///
/// On a ray through haze the light that haze scatters once is found in three ways: a light chosen
/// first and a place that suits
/// it, a place chosen by what is left of the light and a light chosen there, and there a direction
/// chosen by the phase
/// function. The second place is also where the path goes on, as often as haze extinguishes it.
///
/// `bounces` is the number of scatterings after the camera, by surfaces and haze: 0 sees lights
/// only, 1 is direct light.
///
/// With kTimed, counts.query_ns grows by the time spent in ray queries, which costs some time of
/// its own.
///
/// Lights met through mirrors are weighed against `light_paths`, which find them too.
///
/// With `as_they_are` no material is other after a bounce than before (bounce_roughness).
///
/// With a receiver the path begins at its plane, as if the eye saw it: what it receives over pi, as
/// a luminance.
template <bool kTimed = false>
void trace_path(const Scene& scene,
                Ray ray,
                const Sampler& sampler,
                int bounces,
                LightSink& sink,
                FirstHit* first,
                RayCounts& counts,
                const Receiver* receiver = nullptr,
                const JoinedLightPaths& light_paths = {},
                bool as_they_are = false);

/// Pairs of dimensions that the camera takes before trace_path's own begin.
inline constexpr std::uint32_t kCameraPairs = 2;

}  // namespace jovilux
