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
  struct Light {
    double value = 0, standard_error = 0;
  };
  std::vector<Light> by_light;  ///< one for each of MeterResult::layers
  std::uint64_t samples = 0;
  /// Whether the standard error is as small as asked: false where the samples or the time ran out.
  bool settled = false;
  enum class Verdict { kNone, kPass, kFail } verdict = Verdict::kNone;
};

struct MeteringOptions {
  double error = 0.01;                    ///< wanted standard error over the value
  std::uint64_t most_samples = 1U << 22;  ///< for each point; at least 1024 are taken
  int threads = 0;
  StopFn stop;          ///< asked from all threads; may be empty. Unfinished samples are left out.
  ProgressFn progress;  ///< may be empty; its noise is the largest error over the value
};

/// A meter with its readings: one, or those of a grid, row by row.
struct MeterResult {
  std::size_t meter = 0;            ///< index into the rig's
  std::vector<std::string> layers;  ///< names of the scene's layers of light
  /// Of the points that have samples: all, unless it was stopped.
  std::vector<MeterReading> readings;
  std::size_t points = 0;  ///< of the meter
  double average = 0, minimum = 0;
  double uniformity() const { return average > 0 ? minimum / average : 0; }  ///< U0 of EN 12464-1
};

/// Illuminance: paths from a small plane that receives light by the cosine (its luminance as a
/// white diffuse surface, times pi), linked to the lights of the object that the meter lies on.
/// What mirrors and smooth glass throw on it of lights without size is found from the lights' side
/// (ThrownLight); paths are aimed at images of small lamps, which photons tell. Luminance: paths
/// from `at` within the cone of the meter's field. Samples are doubled until the standard error of
/// a point, from 16 independent scramblings, is as small as asked; at least 8,192 are taken, or as
/// many as are allowed. Where all scramblings agree although their samples differ, as when each
/// finds a lamp equally often, the error is that of a count rounded to whole samples. The same
/// result for any number of threads; memory grows with the points, not with the samples.
std::vector<MeterResult> read_meters(const Rig& rig,
                                     const Scene& scene,
                                     const MeteringOptions& options);

/// The lights without size in a scene with mirrors or glass, which no path from a meter meets: an
/// illuminance meter finds what these throw on it (ThrownLight, of points and spots), not what they
/// throw on other surfaces first. Names, in the rig's order; empty without such surfaces.
std::vector<std::string> lights_lost_in_mirrors(const Rig& rig, const Scene& scene);

}  // namespace jovilux
