#pragma once

#include "jovilux/base/vec.h"

#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>

namespace jovilux {

/// A virtual light as clusters see it.
struct ClusterMember {
  Vec3 position = Vec3::Zero();  ///< [m]
  Vec3 side = Vec3::Zero();      ///< unit normal of the side that sends light; zero: all sides do
  double weight = 1;             ///< what it is expected to bring, in any unit; > 0
};

/// Where a group of virtual lights is divided: its first members lie below `at`.
struct ClusterCut {
  std::uint8_t axis = 0;  ///< 0 .. 2 of the position, 3 .. 5 of the side
  float at = 0;           ///< [m] or a component of the side
  std::size_t first = 0;  ///< members below
};

/// Value of a member on an axis of ClusterCut.
inline float coordinate(const Vec3& position, const Vec3& side, std::uint8_t axis) {
  return axis < 3 ? position[axis] : side[axis - 3];
}

/// Divides the group that `members` names among `all` where both parts together cost least, and
/// orders `members` so. One virtual light of a cluster is chosen at even chances and stands for the
/// cluster, in weight and in what can be seen of it; so a part costs
///
///     sqrt(n sum of w^2) (1 + spread),
///
/// the root of the second moment of such a choice, and more where its places and sides are spread
/// (root of their weighted variance, places in units of the whole group's). nullopt: fewer than two
/// groups of kLeastOfPart, or all alike.
std::optional<ClusterCut> cut_cluster(std::span<const ClusterMember> all,
                                      std::span<std::uint32_t> members);

/// Both parts of a cut have at least so many members.
inline constexpr std::size_t kLeastOfPart = 4;

}  // namespace jovilux
