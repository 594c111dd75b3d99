#pragma once

#include "jovilux/base/progress.h"
#include "jovilux/render/film.h"
#include "jovilux/render/render_state.h"
#include "jovilux/render/render_stats.h"
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

}  // namespace jovilux
