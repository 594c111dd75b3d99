#pragma once

#include "jovilux/base/vec.h"

#include <Eigen/Core>
#include <cstdint>
#include <vector>

namespace jovilux {

/// Directions of a sphere chosen in proportion to a weight in each cell of a grid, evenly within a
/// cell. The grid is equirectangular: row 0 begins at +z, rows are even in the polar angle; column
/// 0 begins at azimuth -pi, columns are even in azimuth, which runs from +y (0) to +x (pi/2):
/// north, then east, with x east, y north and z up.
class DirectionMap {
 public:
  DirectionMap() = default;
  /// weight: [row][column], >= 0, width x height, not all 0; by cell, its solid angle included.
  DirectionMap(int width, int height, const std::vector<double>& weight);

  int width() const { return width_; }
  int height() const { return height_; }
  /// A direction and its density over solid angle [1/sr]; u in [0, 1)^2.
  Vec3 sample(const Vec2& u, float& pdf) const;
  float pdf(const Vec3& d) const { return density_[cell(d)]; }
  /// The cell that holds a unit direction, row by row.
  std::size_t cell(const Vec3& d) const;

  /// The same for what falls on the side of a surface that the unit normal n is on: first one of up
  /// to 32 x 16 blocks of cells, by its weight times the cosine that it may have there, so that
  /// those below the horizon are never chosen; then a cell in the block by weight. Normals are told
  /// apart in 6 x 8 x 8 cells of a cube. A direction on that side has a density above 0 wherever it
  /// has a weight; a direction may lie a little below the horizon.
  Vec3 sample_above(const Vec3& n, const Vec2& u, float& pdf) const;
  float pdf_above(const Vec3& n, const Vec3& d) const;
  /// About the integral of the weight's density times the cosine to n, over that of the weight's
  /// density alone: 0 to 1, and above 0 where some of it shines on that side.
  float projected(const Vec3& n) const;

 private:
  struct Part {
    std::size_t first, last;  // of rows or columns
  };
  Part rows_of(std::size_t block) const;
  Part columns_of(std::size_t block) const;
  Vec3 direction_in(std::size_t row, std::size_t column, double s, double v) const;
  void add_blocks();

  int width_ = 0, height_ = 0;
  std::vector<float> density_;  // [1/sr] by cell
  // Cumulative: of rows, height + 1; within each row, width + 1.
  std::vector<double> rows_, columns_;
  std::size_t across_ = 0, down_ = 0;  // blocks
  // Of each block column, cumulative weights of its rows from the top: [across][height + 1].
  std::vector<double> block_rows_;
  // Of each cell of normals, cumulative weights of the blocks: [normal][blocks + 1].
  std::vector<double> above_;
};

/// Solid angle of a cell of row `row`: (2 pi / width) (cos t0 - cos t1) [sr].
double cell_solid_angle(int width, int height, int row);
/// Integral over a cell of cos(polar angle) where that is above 0 [sr].
double cell_level_projection(int width, int height, int row);

/// An equirectangular picture of linear Rec.709 luminances, laid out as DirectionMap.
struct DomePicture {
  int width = 0, height = 0;
  std::vector<Eigen::Array3f> rgb;  ///< >= 0, finite

  /// Illuminance on open level ground, each pixel taken as even over its cell [lx for pixels in
  /// cd/m2].
  double level_illuminance() const;
};

}  // namespace jovilux
