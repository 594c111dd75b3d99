#pragma once

#include "jovilux/base/large_array.h"
#include "jovilux/base/vec.h"

#include <Eigen/Core>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jovilux {

/// Built-in masks: level bars with gaps between them; square openings; round ones; the gaps of
/// foliage.
enum class GoboPattern { kSlats, kGrid, kDots, kLeaves };
std::vector<std::string> gobo_pattern_names();

/// A picture of transmittances, row by row from the top, each in [0, 1].
struct MaskPicture {
  int width = 0, height = 0;
  std::vector<Eigen::Array3f> rgb;
};

/// A pattern that repeats seamlessly: `count` bars, rows of openings or leaves across (1..200),
/// `open` the share of its area that lets light through (dots: at most 0.78, where they touch).
/// 1024 x 1024; leaves reach `open` within 0.01.
MaskPicture pattern_picture(GoboPattern pattern, int count, double open);

/// What lies around the mask: its frame, nothing, or the mask again.
enum class GoboSurround { kDark, kClear, kRepeat };

/// A mask's place and treatment. Lengths in m.
struct GoboSpec {
  double width = 1, height = 1;  ///< of one tile, > 0
  /// From the light along its axis; sun: of the mask from the scene's origin towards it.
  double distance = 1;
  int tiles_x = 1, tiles_y = 1;
  double soft = 0;      ///< width over which an edge goes from 10 % to 90 %
  double rotate = 0;    ///< rad, clockwise as seen from the light
  double strength = 1;  ///< 0: no effect
  GoboSurround surround = GoboSurround::kDark;
};

/// Integrals of a mask's luminous transmittance, for choosing places by it. Its plane is measured
/// in tiles: s to the right as seen from the light and r downwards, both from the mask's upper left
/// corner, to any distance.
/// The transmittance is taken as
/// even within cells, a pixel or 1/1024 of a tile, whose means are those of the interpolated
/// pixels; a soft edge of the whole mask counts as hard, at its outer end where the surround is
/// dark.
/// Source for sums over rectangles: F. Crow, "Summed-Area Tables for Texture Mapping", SIGGRAPH
/// 1984.
class MaskSums {
 public:
  MaskSums() = default;
  MaskSums(const GoboSpec& spec, const MaskPicture& blurred);

  /// Over [s0, s1] x [r0, r1], s0 <= s1, r0 <= r1 [tiles^2]; at least 0.
  double over(double s0, double s1, double r0, double r1) const;
  /// In the cell at (s, r).
  double at(double s, double r) const;
  /// Along [s0, s1] in the row of cells at r [tiles].
  double along_row(double s0, double s1, double r) const;
  /// The r up to which the share u in [0, 1] of over(s0, s1, r0, r1) lies, for an integral above 0.
  double split_rows(double s0, double s1, double r0, double r1, double u) const;
  /// The s up to which the share u of along_row(s0, s1, r) lies.
  double split_row(double s0, double s1, double r, double u) const;
  /// Whether nothing comes through outside of what over() counts: not where the edge of a mask with
  /// nothing around is soft.
  bool is_complete() const { return complete_; }
  /// Cells of a tile.
  int columns() const { return columns_; }
  int rows() const { return rows_; }

 private:
  bool in_one_tile(double s0, double s1, double r0, double r1, double& s, double& r) const;
  double whole_tiles(double s, double r) const;
  double up_to(double s, double r) const;

  int columns_ = 0, rows_ = 0;
  LargeArray<double> sums_;  // of the cells above and to the left of each corner, in tiles^2
  GoboSurround surround_ = GoboSurround::kDark;
  double strength_ = 1;
  bool complete_ = true;
  // The mask, with its soft edge where it is dark around.
  double s_first_ = 0, s_last_ = 1, r_first_ = 0, r_last_ = 1;
};

/// A mask in a beam, ready for rays. Immutable.
class Gobo {
 public:
  Gobo(const GoboSpec& spec, MaskPicture picture);

  /// Transmittance at (x, y) [m] of the mask's plane, measured from the beam's axis: x to the left
  /// as seen from the light, y up.
  Eigen::Array3f transmittance(float x, float y) const;
  float distance() const { return static_cast<float>(spec_.distance); }
  /// Whether it colors the light.
  bool colored() const { return colored_; }
  const GoboSpec& spec() const { return spec_; }
  const MaskSums& sums() const { return sums_; }
  /// (x, y) of the mask's plane in the tiles of sums(): x' = to_tiles (x, y) + tiles_offset.
  const Eigen::Matrix2d& to_tiles() const { return to_tiles_; }
  const Eigen::Vector2d& tiles_offset() const { return tiles_offset_; }

 private:
  GoboSpec spec_;
  MaskPicture picture_;  // blurred
  bool colored_ = false;
  float cos_turn_ = 1, sin_turn_ = 0, edge_ = 0;
  MaskSums sums_;
  Eigen::Matrix2d to_tiles_ = Eigen::Matrix2d::Identity();
  Eigen::Vector2d tiles_offset_ = Eigen::Vector2d::Zero();
};

}  // namespace jovilux
