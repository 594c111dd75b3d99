#pragma once

#include "jovilux/judge/rendered_image.h"
#include "jovilux/photometry/flicker.h"
#include "jovilux/rig/rig.h"

#include <map>
#include <string>
#include <variant>
#include <vector>

namespace jovilux {

/// The level of a light over time: what dimmer, its keys and its flicker leave of the stated
/// output; 0 while it is off.
/// An array's copies that go together are one.
struct LevelCurve {
  std::string name;  ///< of the light or array
  /// Finely, from the first frame's shutter to the last one's [s].
  std::vector<double> times, levels;
  std::vector<double> in_frames;  ///< its mean while each frame's shutter is open
  bool changes = false;
  /// Length of a cycle that `own` is over; 0: over all of the time.
  double cycle_s = 0;
  FlickerFigures own, framed;  ///< of the light; of what the frames show
};
/// Of all lights that ever shine. `rig` may be at any moment; `moments` are the frames' [s].
std::vector<LevelCurve> level_curves(const Rig& rig, const std::vector<double>& moments);

/// One render whose layers give all frames.
struct FramesFromLayers {
  DocumentNode document;  ///< the rig to render: each light as bright as it ever gets
  /// Lights to render in three layers, NAME~1 to NAME~3, one for each channel of the tint.
  std::vector<std::string> split_tints;
  /// Of each layer, for each frame; 1 where not named.
  std::map<std::string, std::vector<double>> factors;
};

/// Whether frames differ by lights' levels, switches and tints and by the look only, and how then
/// one render gives them all exactly: light is linear in levels, and in a tint's channels. A text
/// tells why not.
std::variant<FramesFromLayers, std::string> frames_from_layers(const Rig& rig,
                                                               const std::vector<Rig>& frames);

/// The picture of a frame: layers times their factors, summed in their order [cd/m2, 3 a pixel].
std::vector<float> frame_of_layers(const RenderedImage& base,
                                   const FramesFromLayers& plan,
                                   std::size_t frame);

}  // namespace jovilux
