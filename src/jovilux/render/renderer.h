#pragma once

#include "jovilux/base/progress.h"
#include "jovilux/render/film.h"
#include "jovilux/render/render_state.h"
#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"
#include "jovilux/transport/path.h"

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace jovilux {

struct RenderOptions {
  int camera = 0;   ///< index into the rig's cameras
  int threads = 0;  ///< 0: all of the machine's
  /// [s]; the samples finished by then are kept. Alone, where there is no time for all of them,
  /// they are shared out (see sample_plan.h).
  std::optional<double> time_limit;
  /// Stops after `seconds` already, where each pixel has so many samples by then.
  struct Enough {
    double samples, seconds;
  };
  std::optional<Enough> enough;
  bool in_parts = false;  ///< a render that others go on with: a time limit does not change it
  ProgressFn progress;    ///< may be empty
  /// Measure the time inside ray queries (RayCounts::query_ns), at some cost.
  bool time_queries = false;
  /// Bytes in which what paths from the lights bring may wait for its tiles; where that is too
  /// little for the whole picture, they are traced once for each part of it, with the same result.
  double light_path_memory = Film::most_in_memory() / 4;
  /// Passes of 1, 1, 2, 4 .. samples, so that a short time limit leaves no part far behind.
  bool in_haste = false;
  StopFn stop;  ///< may be empty; asked between rows of tiles
  Share share;  ///< the tiles to render; others stay empty
  /// Called every `checkpoint_every` seconds with all that is finished; may be empty. No other
  /// thread changes it meanwhile.
  std::function<void(const RenderState&)> checkpoint;
  double checkpoint_every = 60;
  /// Where several processes render shares of one picture: gives the others the packed tiles of
  /// this one and returns those of all, in the order of their shares; nothing where one of them is
  /// lost. Called after each pass.
  std::function<std::optional<std::vector<std::string>>(std::string)> exchange;
  /// Scenes and cameras of moments spread over the time that the shutter is open, each with the
  /// layers of the whole; empty:
  /// all stands still. See exposure_moments.
  struct Moment {
    std::shared_ptr<const Scene> scene;
    CameraSpec camera;
  };
  std::vector<Moment> moments;
};

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

struct Render {
  RenderState state;
  RenderStats stats;

  const Film& film() const { return state.film; }
};

/// Renders a rig into the layers of the scene; with moments, which have layers of their own, use
/// render_on. With `noise`, samples go where the noise is, in rounds (see sample_plan.h). The
/// result depends on the rig and its seed only, not on threads; with a time limit or a stop, on how
/// many samples were finished.
Render render(const Rig& rig, const Scene& scene, const RenderOptions& options);
/// Goes on with a render from where it stood, into the layers of the options' moments or else of
/// the scene: ends with the same picture, bit for bit, as one that never stopped.
Render render_on(const Rig& rig,
                 const Scene& scene,
                 const RenderOptions& options,
                 RenderState from);

/// One sample of a pixel, traced again as the render of these options traces it.
struct ReplayedSample {
  std::vector<float> luminance;  ///< of each layer and part, by camera paths [cd/m2]
  std::uint32_t not_finite = 0;  ///< contributions that are left out
};
/// `sample` counts from 0, in the order in which each pixel takes its own sequences; nothing where
/// the rig takes fewer. `layers`: how many the film has.
std::optional<ReplayedSample> replay_sample(const Rig& rig,
                                            const Scene& scene,
                                            const RenderOptions& options,
                                            std::size_t layers,
                                            int x,
                                            int y,
                                            int sample);

/// What a finished or stopped state tells about itself; `stopped_by` and `threads` are left as they
/// are by default.
RenderStats stats_of(const Rig& rig,
                     int camera,
                     const std::vector<std::string>& layers,
                     const RenderState& state);

/// The number of layers' parts that a rig asks for.
int parts_of(const Rig& rig);

}  // namespace jovilux
