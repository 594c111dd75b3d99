#pragma once

#include "jovilux/base/sampler.h"
#include "jovilux/color/nodes.h"
#include "jovilux/transport/direction_tree.h"
#include "jovilux/transport/guide.h"
#include "jovilux/transport/light_paths.h"
#include "jovilux/transport/transport.h"

#include <cstdint>
#include <deque>
#include <limits>
#include <memory>

namespace jovilux {

struct VirtualLightSet;

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
  Scene::Surface surface;  ///< its links count; it has neither object nor material nor emitter
  /// Where narrow light may come from: half of the directions are chosen by it, joined with those
  /// by the cosine by their mixture's density. Null: all are chosen by the cosine.
  std::shared_ptr<const DirectionTree> beams;
};

/// The paths from lights that a picture's camera paths are joined with, and how many of them a
/// sample of the whole picture has; null: none.
struct JoinedLightPaths {
  const LightPaths* paths = nullptr;
  double per_sample = 0;
};

/// A scattering on a path, linked to the one before it, which is nearer to the camera.
struct WayVertex {
  const WayVertex* before = nullptr;
  Vec3 at = Vec3::Zero(), normal = Vec3::Zero();  ///< in haze without a normal
  std::uint32_t surface = kNoIndex;               ///< kNoIndex: in haze
  bool mirror = false;                            ///< a surface that has one direction only
};

/// The ways by which light came to the camera: each contribution of paths with the scatterings that
/// brought it. For one thread; vertices live until it is cleared.
struct WayRecorder {
  struct Contribution {
    std::uint32_t emitter = kNoIndex;  ///< kNoIndex: the glow of haze
    std::uint32_t layer = kNoIndex;
    const WayVertex* last = nullptr;  ///< the one that the light falls on; null: it is seen itself
    Vec3 end = Vec3::Zero();          ///< on the light; of a distant one, a place on the way to it
    float luminance = 0;              ///< [cd/m2]
  };
  std::deque<WayVertex> vertices;
  std::vector<Contribution> contributions;

  void clear() {
    vertices.clear();
    contributions.clear();
  }
};

/// How paths are traced.
struct PathOptions {
  /// Scatterings after the camera, by surfaces and haze: 0 sees lights only, 1 is direct light.
  int bounces = 6;
  int haze_bounces = std::numeric_limits<int>::max();  ///< the same of those by haze alone
  /// The path begins at its plane, as if the eye saw it: what it receives over pi, as a luminance.
  const Receiver* receiver = nullptr;
  /// Lights met through mirrors are weighed against these, which find them too.
  JoinedLightPaths light_paths;
  bool as_they_are = false;  ///< no material is other after a bounce than before (bounce_roughness)
  const Guide* guide = nullptr;  ///< null: nothing is known of where light goes
  /// With the guide's virtual lights: those of this sample. Null: paths are not connected to any.
  const VirtualLightSet* virtual_set = nullptr;
  GuideRecorder* recorder = nullptr;  ///< for training; null: nothing is recorded
  /// Null: ways are not recorded. Without a guide, whose connections have no way of their own.
  WayRecorder* ways = nullptr;
  /// RayCounts::query_ns grows by the time spent in ray queries, at some cost.
  bool times_queries = false;
};

/// Unidirectional path tracing: at each surface lights are sampled toward (next-event estimation)
/// and one direction is chosen; both find lights, joined by multiple importance sampling (power
/// heuristic). Unbiased; Russian roulette after three scatterings.
///
/// At the first surface that is no mirror each light that could bring much is sampled toward, and
/// one of the others; at later ones a single light is chosen. With a guide lights are chosen by
/// what arrives of them, and a share of the directions by where light comes from, joined with those
/// of the surface or the phase function by their mixture's density.
///
/// Without haze, a camera's ray goes both ways at its first panes, at smooth glass and at smooth
/// coats: each sample meets the light whose image is seen there. From other surfaces on, what is
/// mirrored goes on by Russian roulette: with the share that is mirrored, and more often where the
/// sample has brought less than paths usually do, up to always where it is dark behind a pane.
///
/// On a ray through haze, light that haze scatters once is found in three ways: a light chosen
/// first and a place that suits it, a place chosen by what is left of the light and a light chosen
/// there, and there a direction. What lies behind the haze that the camera looks through is weighed
/// by its transmittance; the light that the haze scatters more than once is followed by a path of
/// its own.
void trace_path(const Scene& scene,
                const Ray& ray,
                const Sampler& sampler,
                const PathOptions& options,
                LightSink& sink,
                FirstHit* first,
                RayCounts& counts);

/// Pairs of dimensions that the camera takes before trace_path's own begin.
inline constexpr std::uint32_t kCameraPairs = 2;

}  // namespace jovilux
