#pragma once

#include "jovilux/base/progress.h"
#include "jovilux/render/renderer.h"

#include <string>
#include <vector>

namespace jovilux {

/// What a meter shows, found by paths of its own; no picture is rendered.
struct MeterReading {
  std::string name;        ///< of a grid's point: "bench[2,0]"
  bool luminance = false;  ///< in cd/m2; else lx
  Vec3d at = Vec3d::Zero();
  double value = 0, standard_error = 0;
  double direct = 0, bounce = 0, haze = 0;
  std::vector<std::pair<std::string, double>> by_light;  ///< the scene's layers, in their order
  std::uint64_t samples = 0;
  enum class Verdict { kNone, kPass, kFail } verdict = Verdict::kNone;
};

struct MeteringOptions {
  double error = 0.01;                    ///< wanted standard error over the value
  std::uint64_t most_samples = 1U << 22;  ///< for each point
  int threads = 0;
  StopFn stop;          ///< may be empty
  ProgressFn progress;  ///< may be empty; its noise is the largest error over the value
};

/// A meter with its readings: one, or those of a grid, row by row.
struct MeterResult {
  std::size_t meter = 0;  ///< index into the rig's
  std::vector<MeterReading> readings;
  double average = 0, minimum = 0;
  double uniformity() const { return average > 0 ? minimum / average : 0; }  ///< U0 of EN 12464-1
};

/// Illuminance: paths from a small plane that receives light by the cosine (its luminance as a
/// white diffuse surface, times pi).
/// Luminance: paths from `at` within the cone of the meter's field. Samples are doubled until the
/// standard error of all
/// points, from 16 independent scramblings, is as small as asked; the same result for any number of
/// threads.
std::vector<MeterResult> read_meters(const Rig& rig,
                                     const Scene& scene,
                                     const MeteringOptions& options);

}  // namespace jovilux
