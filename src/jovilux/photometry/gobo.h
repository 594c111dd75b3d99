#pragma once

#include <Eigen/Core>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "jovilux/base/vec.h"

namespace jovilux {

/// Built-in masks: level bars with gaps between them; square openings; round ones; the gaps of foliage.
enum class GoboPattern { kSlats, kGrid, kDots, kLeaves };
std::vector<std::string> gobo_pattern_names();

/// A picture of transmittances, row by row from the top, each in [0, 1].
struct MaskPicture {
  int width = 0, height = 0;
  std::vector<Eigen::Array3f> rgb;
};

/// A pattern that repeats seamlessly: `count` bars, rows of openings or leaves across (1..200), `open` the share of its
/// area that lets light through (dots: at most 0.78, where they touch). 1024 x 1024; leaves reach `open` within 0.01.
MaskPicture pattern_picture(GoboPattern pattern, int count, double open);

/// What lies around the mask: its frame, nothing, or the mask again.
enum class GoboSurround { kDark, kClear, kRepeat };

/// A mask's place and treatment. Lengths in m.
struct GoboSpec {
  double width = 1, height = 1;  ///< of one tile, > 0
  double distance = 1;           ///< from the light along its axis; sun: of the mask from the scene's origin towards it
  int tiles_x = 1, tiles_y = 1;
  double soft = 0;               ///< width over which an edge goes from 10 % to 90 %
  double turn = 0;               ///< rad, clockwise as seen from the light
  double strength = 1;           ///< 0: no effect
  GoboSurround surround = GoboSurround::kDark;
};

/// A mask in a beam, ready for rays. Immutable.
class Gobo {
 public:
  Gobo(const GoboSpec& spec, MaskPicture picture);

  /// Transmittance at (x, y) [m] of the mask's plane, measured from the beam's axis: x to the left as seen from the
  /// light, y up.
  Eigen::Array3f transmittance(float x, float y) const;
  float distance() const { return static_cast<float>(spec_.distance); }
  /// Whether it colors the light.
  bool colored() const { return colored_; }
  const GoboSpec& spec() const { return spec_; }

 private:
  GoboSpec spec_;
  MaskPicture picture_;  // blurred
  bool colored_ = false;
  float cos_turn_ = 1, sin_turn_ = 0, edge_ = 0;
};

}  // namespace jovilux
