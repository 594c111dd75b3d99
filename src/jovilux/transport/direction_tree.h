#pragma once

#include "jovilux/base/vec.h"

#include <array>
#include <cstdint>
#include <span>
#include <vector>

namespace jovilux {

/// The unit square of all directions, by an area-preserving map: x = (1 + z) / 2, y the azimuth
/// over 2 pi. A density of 1 over the square is 1 / (4 pi) per steradian.
Vec2 square_of(const Vec3& direction);
Vec3 direction_of(const Vec2& place);

/// Light from one direction, for learning: `place` in the square of directions, `weight` its
/// estimate of what arrives over the density that the direction was chosen with.
struct DirectionSample {
  Vec2 place = Vec2::Zero();
  float weight = 0;
};

/// A node of a quadtree over the square of directions: the shares of its four quarters (x first),
/// which add up to 1, and the nodes that divide them; 0: a quarter that is not divided.
struct DirectionNode {
  std::array<float, 4> share = {0.25f, 0.25f, 0.25f, 0.25f};
  std::array<std::uint32_t, 4> child{};
};

/// Adds a tree for these samples to `nodes`, in whose order they are left; returns its root.
///
/// A quarter is divided where it holds more than a hundredth of the weight and enough samples to
/// tell, `deepest` times at most; a share of `uniform` of the density is spread over all
/// directions.
/// Source: T. Müller, M. Gross, J. Novák, "Practical Path Guiding for Efficient Light-Transport
/// Simulation", CGF 36(4), 2017.
std::uint32_t add_direction_tree(std::span<DirectionSample> samples,
                                 float uniform,
                                 std::vector<DirectionNode>& nodes,
                                 int deepest = 9);

/// A direction chosen by the tree's density, by u in [0, 1)^2; `pdf` per steradian.
Vec3 sample_directions(std::span<const DirectionNode> nodes,
                       std::uint32_t root,
                       Vec2 u,
                       float& pdf);
/// The density per steradian of the unit direction `d`; above 0 everywhere.
float directions_pdf(std::span<const DirectionNode> nodes, std::uint32_t root, const Vec3& d);

/// A tree of its own.
class DirectionTree {
 public:
  /// As add_direction_tree().
  DirectionTree(std::vector<DirectionSample> samples, float uniform, int deepest) {
    add_direction_tree(samples, uniform, nodes_, deepest);
  }
  Vec3 sample(const Vec2& u, float& pdf) const { return sample_directions(nodes_, 0, u, pdf); }
  float pdf(const Vec3& d) const { return directions_pdf(nodes_, 0, d); }

 private:
  std::vector<DirectionNode> nodes_;
};

}  // namespace jovilux
