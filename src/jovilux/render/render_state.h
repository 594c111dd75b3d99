#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/render/film.h"
#include "jovilux/transport/path.h"

#include <cstdint>
#include <string>
#include <vector>

namespace jovilux {

/// What one tile's samples told besides their light. Sums over its pixels and the passes so far.
struct TileTally {
  RayCounts rays;
  /// Of each layer: a pass's weight squared times the variance of its mean.
  std::vector<double> light_variance;
  /// Of each layer: that variance over the square of the pixel's level.
  std::vector<double> light_noise;
  std::vector<double> slot_variance, slot_noise;  ///< the same two of the parts of lights
  /// Of samples traced with and without bounce_roughness, by the camera's paths alone: how many,
  /// the sum of what the roughness takes away [cd/m2], the sum of its squares.
  std::vector<double> roughened = std::vector<double>(3);
  /// Of each layer: a pass's weight times the mean that its limit kept from the picture [cd/m2].
  std::vector<double> clamped;
  /// Contributions that were not finite and are left out: how many; of the first of them the
  /// pixel's x and y, the number of the sample in its sequences, and the round.
  std::vector<double> not_finite = std::vector<double>(5);

  TileTally(std::size_t layers = 0, std::size_t slots = 0)
      : light_variance(layers),
        light_noise(layers),
        slot_variance(slots),
        slot_noise(slots),
        clamped(layers) {}
  void add(const TileTally& more);
};

/// Some samples for every pixel. `round` 0: the pixel's own sequences go on; else each round has
/// sequences of its own. Weight 0: they go on by `counts`, and a sample counts like any other.
struct Pass {
  int begin = 0;             ///< of each pixel's samples in those sequences
  std::uint32_t mean = 0;    ///< samples a pixel
  std::uint32_t weight = 0;  ///< of this pass's mean in the picture's
  std::uint32_t round = 0;
  std::vector<std::uint32_t> counts;  ///< samples of each pixel; empty: `mean` each

  bool goes_on_unevenly() const { return weight == 0 && !counts.empty(); }
};

/// How clean the picture was on the way.
struct NoiseMoment {
  double samples = 0, seconds = 0, median = 0, p95 = 0;
};
/// Samples a pixel that a round shared out, toward a noise target or within a time limit.
struct SampleRound {
  double mean = 0, least = 0, most = 0;
};

/// A part of the picture's tiles: those whose number leaves `index` when divided by `count`.
struct Share {
  int index = 0, count = 1;  ///< 0 <= index < count

  bool whole() const { return count == 1; }
  bool holds(std::size_t tile) const {
    return tile % static_cast<std::size_t>(count) == static_cast<std::size_t>(index);
  }
};

/// All that a render has come to so far: enough to go on with it to the bit, or to join it with
/// others' shares.
struct RenderState {
  Film film;
  std::vector<TileTally> tallies;       ///< of each tile
  Pass pass;                            ///< that is begun, or was the last
  bool in_pass = false;                 ///< some of its tiles are not done
  std::vector<std::uint8_t> tile_done;  ///< of the pass that is begun
  int taken = 0;  ///< samples a pixel of the passes that are done, in the mean
  int passes_done = 0;
  double noise = -1;  ///< p95 so far; negative: not known
  /// Luminance that the view shows as white [cd/m2]; 0: not known yet.
  double white = 0;
  double wall_s = 0, cpu_s = 0;  ///< of all parts of the work
  int threads = 0;               ///< the most that worked on it
  /// Of a share: of its own pixels. Joined shares: their mean by tiles, their seconds added.
  std::vector<NoiseMoment> history;
  std::vector<SampleRound> rounds;
  int guide_rounds = 0;           ///< of learning before the picture; 0: not begun, or none
  std::uint64_t guide_paths = 0;  ///< that were traced for it
  double guide_s = 0;             ///< that it took

  RenderState(int width, int height, std::size_t layers, int parts);

  int tiles_across() const { return (film.width() + kTile - 1) / kTile; }
  std::size_t tiles() const { return tallies.size(); }
};

/// What a film file belongs to; two of one render differ in `share` only.
struct FilmLabel {
  std::string rig_text;  ///< the resolved rig, names of files as they were written
  std::string camera;
  std::vector<std::string> layers;
  Share share;
  bool finished = false;  ///< all samples of the share are there
};

/// Writes what a render has come to: the tiles of its share with their sums, bit for bit, and a
/// checksum. Little-endian; see docs/architecture.md. Throws MachineTrouble.
void save_state(const std::string& path, const FilmLabel& label, const RenderState& state);

/// Of a film file only what it belongs to.
Result<FilmLabel> film_label(const std::string& path);

/// Reads a film file of the render that `expected` names (its `finished` is not compared) into a
/// state of the same size:
/// the tiles of the file's share, and how far the work had come. A problem where the file is
/// damaged or of another render.
Result<FilmLabel> load_state(const std::string& path,
                             const FilmLabel& expected,
                             RenderState& state);

/// The tiles of one share as bytes, and back: how processes of one render tell each other what they
/// have. Those of the same program only. False where the bytes are too few or too many; the state
/// is as before then.
std::string packed_tiles(const RenderState& state, Share share);
[[nodiscard]] bool unpack_tiles(const std::string& bytes, Share share, RenderState& state);

}  // namespace jovilux
