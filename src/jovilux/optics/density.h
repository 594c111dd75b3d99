#pragma once

#include "jovilux/base/vec.h"
#include "jovilux/geometry/ray.h"
#include "jovilux/geometry/transform.h"

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

namespace jovilux {

/// Densities at the points of a lattice, kept in blocks of 8 x 8 x 8 where any is not 0; trilinear
/// between the points, 0 outside. Immutable once filled.
class DensityGrid {
 public:
  static constexpr int kSide = 8;

  /// `first` and `blocks`: where the lattice begins, a multiple of kSide, and how many blocks it
  /// has on each axis.
  DensityGrid(const Transform& to_world,
              const std::array<int, 3>& first,
              const std::array<int, 3>& blocks);
  /// The values of one block, x fastest; at most once each. Negative or not finite ones become 0.
  void set_block(const std::array<int, 3>& block, const float* values);
  /// Must be called once all blocks are set.
  void finish();

  float at(const Vec3& p) const;
  /// The highest density on a ray from t on; it holds up to `end`, which is above t.
  float bound(const Ray& ray, float t, float& end) const;
  float highest() const { return highest_; }
  std::size_t memory_bytes() const {
    return index_.size() * 4 + values_.size() * 4 + bounds_.size() * 4;
  }

 private:
  std::size_t slot(int x, int y, int z) const {
    return (static_cast<std::size_t>(z) * static_cast<std::size_t>(blocks_[1]) +
            static_cast<std::size_t>(y)) *
               static_cast<std::size_t>(blocks_[0]) +
           static_cast<std::size_t>(x);
  }
  float value(int x, int y, int z) const;

  Transform to_lattice_;
  std::array<int, 3> first_, blocks_;
  std::vector<std::int32_t> index_;  // of a block in values_, or -1
  std::vector<float> values_, bounds_;
  float highest_ = 0;
};

/// What makes a haze uneven: a factor on its extinction from place to place.
struct HazeDensity {
  struct Clumps {
    float size = 0.4f;          ///< of the largest [m]
    float depth = 0;            ///< 0..1
    Vec3 moved = Vec3::Zero();  ///< by drift [m]
    std::uint32_t seed = 1;
    bool local_bounds = true;  ///< cell by cell: worth it where a clump takes much of the light
  };
  std::optional<Clumps> clumps;
  float scale_height = 0;  ///< [m]; 0: none
  Vec3 up = Vec3::UnitZ();
  std::shared_ptr<const DensityGrid> grid;

  bool uneven() const {
    return (clumps && clumps->depth > 0) || scale_height > 0 || grid != nullptr;
  }
  /// The factor, >= 0.
  float at(const Vec3& p) const;
  /// What it never falls below.
  float least() const {
    return clumps && scale_height == 0 && grid == nullptr ? 1 - clumps->depth : 0;
  }
  /// What it does not exceed on a ray from t up to `end`, which is above t and at most `reach`.
  float bound(const Ray& ray, float t, float reach, float& end) const;
};

/// How often this thread has looked a density up, since it began.
std::uint64_t& media_step_count();

/// Value noise in [-1, 1] with a mean of 0: three octaves over a lattice of edge 1, smooth between
/// its points.
float clump_noise(const Vec3& p, std::uint32_t seed);
/// What it does not exceed in the cell of the largest octave that holds p.
float clump_bound(const Vec3& p, std::uint32_t seed);

}  // namespace jovilux
