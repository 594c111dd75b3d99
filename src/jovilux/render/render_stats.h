#pragma once

#include "jovilux/render/film.h"
#include "jovilux/render/render_state.h"
#include "jovilux/rig/rig.h"

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace jovilux {

enum class StoppedBy { kSamples, kNoise, kTime, kSignal };

/// What a render tells about itself.
struct RenderStats {
  double samples_per_pixel = 0;  ///< mean
  int threads = 0;
  double wall_s = 0, cpu_s = 0;
  StoppedBy stopped_by = StoppedBy::kSamples;
  NoiseFigures noise;
  double white_luminance = 0;  ///< that the noise was measured against [cd/m2]
  RayCounts rays;
  int guide_rounds = 0;  ///< of learning before the picture; 0: none
  std::uint64_t guide_paths = 0;
  double guide_s = 0;
  double mean_luminance = 0;
  /// What bounce_roughness takes from the picture's mean luminance, and the standard error of that
  /// [cd/m2]; measured on some
  /// samples by the camera's paths alone, of lights that these find. Nothing where no material has
  /// it.
  struct Removed {
    double luminance = 0, standard_error = 0;
  };
  std::optional<Removed> by_bounce_roughness;
  /// Contributions that were not finite and are not in the picture; where the first of them was.
  struct NotFinite {
    double contributions = 0;
    int x = 0, y = 0, sample = 0, round = 0;
  };
  std::optional<NotFinite> not_finite;
  struct Light {
    std::string name;
    double mean_luminance = 0;  ///< of its layer [cd/m2]
    double share = 0;           ///< of the picture's mean luminance
    /// Root mean square standard error over the picture's mean luminance.
    double noise = 0;
    /// Mean luminance that its limit kept from the picture [cd/m2].
    double clamped = 0;
    /// Of all lights' variance, each pixel's over the square of its level; NaN: not known.
    double noise_share = 0;
    std::vector<double> part_shares;  ///< of its parts, of the same whole
    /// The same of its direct, bounced, caustic and haze light, where layers keep parts.
    std::vector<double> parts;
  };
  /// At 8, 16, 32 .. samples a pixel and at the end; after each round.
  std::vector<NoiseMoment> history;
  /// Empty where all pixels took as many samples.
  std::vector<SampleRound> rounds;
  double least_samples = 0, most_samples = 0;  ///< of any pixel
  std::vector<Light> lights;                   ///< all of the rig's, in its order; an array as one
};

/// What a finished or stopped state tells about itself; `stopped_by` and `threads` are left as they
/// are by default.
RenderStats stats_of(const Rig& rig,
                     int camera,
                     const std::vector<std::string>& layers,
                     const RenderState& state);

/// The number of layers' parts that a rig asks for.
int parts_of(const Rig& rig);

}  // namespace jovilux
