#pragma once

#include <optional>
#include <string>

#include "jovilux/base/progress.h"
#include "jovilux/render/film.h"
#include "jovilux/render/path.h"
#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

namespace jovilux {

struct RenderOptions {
  int camera = 0;                     ///< index into the rig's cameras
  int threads = 0;                    ///< 0: all of the machine's
  std::optional<double> time_limit;   ///< [s]; the samples finished by then are kept
  ProgressFn progress;                ///< may be empty
  bool time_queries = false;          ///< measure the time inside ray queries (RayCounts::query_ns), at some cost
  bool in_haste = false;              ///< passes of 1, 1, 2, 4 .. samples, so that a short time limit leaves no part far behind
  StopFn stop;                        ///< may be empty; asked between rows of tiles
};

enum class StoppedBy { kSamples, kNoise, kTime, kSignal };

/// What a render tells about itself.
struct RenderStats {
  double samples_per_pixel = 0;       ///< mean
  int threads = 0;
  double wall_s = 0, cpu_s = 0;
  StoppedBy stopped_by = StoppedBy::kSamples;
  NoiseFigures noise;
  double white_luminance = 0;         ///< that the noise was measured against [cd/m2]
  RayCounts rays;
  double mean_luminance = 0;
  struct Light {
    std::string name;
    double mean_luminance = 0;        ///< of its layer [cd/m2]
    double share = 0;                 ///< of the picture's mean luminance
    double noise = 0;                 ///< root mean square standard error over the picture's mean luminance
    double noise_share = 0;           ///< of all lights' variance, each pixel's over the square of its level; NaN: not known
    std::vector<double> part_shares;  ///< of its parts, of the same whole
    std::vector<double> parts;        ///< the same of its direct, bounced and haze light, where layers keep parts
  };
  /// How clean the picture was on the way.
  struct Moment {
    double samples = 0, seconds = 0, median = 0, p95 = 0;
  };
  std::vector<Moment> history;        ///< at 8, 16, 32 .. samples a pixel and at the end; after each round
  /// Samples a pixel that a round toward a noise target shared out.
  struct Round {
    double mean = 0, least = 0, most = 0;
  };
  std::vector<Round> rounds;          ///< empty without a target, and where the first samples reached it
  double least_samples = 0, most_samples = 0;  ///< of any pixel
  std::vector<Light> lights;          ///< all of the rig's, in its order; an array as one
};

struct Render {
  Film film;
  RenderStats stats;
};

/// Renders a rig. With `noise`, samples go where the noise is, in rounds (see sample_plan.h). The result depends on the rig and its seed only, not on threads; with a time limit or a stop, on how
/// many samples were finished.
Render render(const Rig& rig, const Scene& scene, const RenderOptions& options);

/// The number of layers' parts that a rig asks for.
int parts_of(const Rig& rig);

}  // namespace jovilux
