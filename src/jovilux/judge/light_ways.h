#pragma once

#include "jovilux/judge/readings.h"
#include "jovilux/render/renderer.h"

#include <cstdint>
#include <string>
#include <vector>

namespace jovilux {

/// What a light's path did at one place.
enum class WayStep : std::uint8_t { kReflected, kMirrored, kThrough, kScattered };
/// "reflected by", "mirrored by", "through", "scattered in".
const char* words(WayStep step);

/// A way by which light reaches a pixel: all paths over the same objects in the same order.
struct LightWay {
  struct Step {
    std::string name;  ///< of the object; of haze its name
    WayStep kind = WayStep::kReflected;
    bool operator==(const Step&) const = default;
  };
  std::string light;
  std::vector<Step> steps;  ///< from the light to the eye
  /// How many further steps lie before the last two; their objects differ from path to path.
  int more_steps = 0;
  double luminance = 0, standard_error = 0;  ///< [cd/m2]
  double share = 0;                          ///< of the luminance
  double noise_share = 0;                    ///< of the sum of the ways' variances
  double length = 0;                         ///< from the light to the eye, weighed by light [m]
  /// The vertices of its brightest path, from the light to the eye [m].
  std::vector<Vec3d> path;
};

/// Why a light does not reach the place that a pixel shows directly, or how much of it does.
struct LightArrival {
  std::string light;
  enum class Why {
    kArrives,
    kOff,
    kNotLinked,
    kBehind,
    kFacesAway,    ///< the place lies behind it
    kOutsideBeam,  ///< or beside its spread, its profile, its barn doors
    kInGobosDark,
    kBeyondRange,
    kBlocked
  } why = Why::kArrives;
  double blocked = 0;     ///< share of the rays toward it that meet something, 0..1
  double haze_takes = 0;  ///< share of the rest that haze takes on its way
  double distance = 0;    ///< of the place from the light, kBeyondRange [m],
  double range = 0;       ///< and where its light ends [m]
  std::string blocker;    ///< what most of those meet first
  Vec3d at = Vec3d::Zero();
};

/// Where the light at some pixels comes from.
struct WayReport {
  PixelBox box;
  double luminance = 0, standard_error = 0;  ///< [cd/m2]; the ways add up to it
  std::string seen;                          ///< the object that most of the box shows; empty: none
  double distance = 0;                       ///< to it, along the ray [m]
  Vec3d place = Vec3d::Zero(), normal = Vec3d::Zero(), eye = Vec3d::Zero();
  std::vector<LightWay> ways;          ///< the brightest first
  std::vector<LightArrival> arrivals;  ///< of each light, an array's copies together
  /// Lights whose light by mirrors and glass is not in it (lights_lost_in_mirrors).
  std::vector<std::string> lost;
  std::uint64_t samples = 0;
  bool interrupted = false;
};

struct WayOptions {
  int camera = 0;                      ///< the rig's
  std::uint64_t samples = 1ULL << 17;  ///< camera paths over the box
  int threads = 0;
  StopFn stop;  ///< may be empty
};

/// Traces paths from the pixels' places and sums their contributions by the objects that they met:
/// light, objects, eye. Ways of more than three scatterings are told by the first and the last two.
/// Panes and masks that light passes straight are no step. The same for any number of threads. The
/// box must lie in the picture.
WayReport light_ways(const Rig& rig,
                     const Scene& scene,
                     const PixelBox& box,
                     const WayOptions& options);

}  // namespace jovilux
