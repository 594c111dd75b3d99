#pragma once

#include "jovilux/base/progress.h"
#include "jovilux/judge/rendered_image.h"

#include <optional>
#include <string>
#include <vector>

namespace jovilux {

/// Where a render's noise is and what makes it, from its files alone.
struct NoiseReport {
  double median = 0, p95 = 0;  ///< of the pixels' noise
  bool black = false;          ///< no pixel has any light: nothing is known of its noise
  double samples = 0, seconds = 0;
  double white = 0;   ///< the luminance that the view shows as white [cd/m2]
  double target = 0;  ///< of the p95
  /// For the target, with samples where the noise is (`noise` in the rig): the mean a pixel; NaN
  /// where nothing tells.
  double samples_needed = 0, seconds_needed = 0;
  /// For the target with `samples` in the rig, as many for each pixel.
  double even_samples_needed = 0;
  /// Of the denoised picture, where the folder has one: the error that it tells, and the samples
  /// that the target takes with denoising.
  struct Denoised {
    double median = 0, p95 = 0, samples_needed = 0;
  };
  std::optional<Denoised> denoised;
  bool of_denoised = false;  ///< the picture is a denoised one: its noise is the error it tells
  bool even = true;          ///< the render took as many for each pixel
  double order = 0.5;        ///< the noise falls as samples to minus this
  struct Moment {
    double samples, seconds, median, p95;
  };
  std::vector<Moment> history;
  struct Firefly {
    int x, y;
    double times;  ///< brighter than the median of its neighbors
  };
  std::vector<Firefly> fireflies;  ///< brightest first
  struct Light {
    std::string name;
    double share = 0;  ///< of the variance of all lights [(cd/m2)^2]
    /// The same, each pixel's over the square of its level: of what the measure of noise sees.
    double noise_share = 0;
    /// Direct, bounce, caustic, haze, of this light's own of each; empty where the render keeps no
    /// parts.
    std::vector<double> parts, noise_parts;
  };
  std::vector<Light> by_light;  ///< most of the variance first
  std::vector<float> map;       ///< each pixel's noise
  std::vector<std::string> advice;
  /// Settings of the rig that may lower the noise, each on its own; try_changes measures whether
  /// they do.
  struct Change {
    std::string address, value;  ///< as --set takes them: "render.bounces", "3"
    std::string why;
    double p95 = 0;  ///< of a small trial picture with it; 0: not tried
  };
  std::vector<Change> changes;
};

/// Reads image.exr and stats.json of a render's folder. `target` as a share, such as 0.02.
Result<NoiseReport> report_noise(const std::string& folder, double target);

/// Renders a small picture of a render's rig (at most 40,000 pixels, at most 64 samples) as it is
/// and with each change, with the same seed, and writes the noise of each into its change. Returns
/// the noise as it is. `progress` may be empty.
Result<double> try_changes(const std::string& folder,
                           std::vector<NoiseReport::Change>& changes,
                           int threads,
                           const StopFn& stop,
                           const ProgressFn& progress = {});

/// The exponent with which noise falls over samples, from the last moments of a history: between
/// 0.35 and 1, 0.5 where too
/// little is known.
double order_of(const std::vector<NoiseReport::Moment>& history);

}  // namespace jovilux
