// Cuts between virtual lights: by place and by side, where the parts are compact and alike.

#include "jovilux/transport/cluster_cut.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace jovilux {
namespace {

using Vec6d = Eigen::Matrix<double, 6, 1>;

constexpr std::uint8_t kAxes = 6;
// Cuts that are tried along each axis, one less.
constexpr std::size_t kSlices = 64;
// Opposite sides cost as much as places that lie four times the group's spread apart: nothing of
// what one side sends is seen where the other is.
constexpr double kSideScale = 2;

// Moments of a group's weights, and of its places and sides.
struct GroupMoments {
  std::size_t count = 0;
  double weight = 0, square_of_weights = 0, square = 0;
  Vec6d first = Vec6d::Zero();

  void add(double w, const Vec6d& q) {
    ++count;
    weight += w;
    square_of_weights += w * w;
    first += w * q;
    square += w * q.squaredNorm();
  }
  void operator+=(const GroupMoments& m) {
    count += m.count;
    weight += m.weight;
    square_of_weights += m.square_of_weights;
    first += m.first;
    square += m.square;
  }
  GroupMoments without(const GroupMoments& m) const {
    return {count - m.count,
            weight - m.weight,
            square_of_weights - m.square_of_weights,
            square - m.square,
            first - m.first};
  }
  double cost() const {
    if (count == 0 || !(weight > 0)) {
      return 0;
    }
    const double variance = (square - first.squaredNorm() / weight) / weight,
                 second_moment = static_cast<double>(count) * std::max(0.0, square_of_weights);
    return std::sqrt(second_moment) * (1 + std::sqrt(std::max(0.0, variance)));
  }
};

// Even slices of a group along each axis.
class Slices {
 public:
  Slices(std::span<const ClusterMember> all, std::span<const std::uint32_t> members) {
    Vec3d mean = Vec3d::Zero();
    double squares = 0;
    for (const std::uint32_t m : members) {
      for (std::uint8_t axis = 0; axis < kAxes; ++axis) {
        const float x = coordinate(all[m].position, all[m].side, axis);
        lo_[axis] = std::min(lo_[axis], x);
        hi_[axis] = std::max(hi_[axis], x);
      }
      mean += all[m].position.cast<double>() / static_cast<double>(members.size());
    }
    for (const std::uint32_t m : members) {
      squares += (all[m].position.cast<double>() - mean).squaredNorm();
    }
    const double spread = std::sqrt(squares / static_cast<double>(members.size()));
    for (const std::uint32_t m : members) {
      Vec6d q;
      q << (all[m].position.cast<double>() - mean) / std::max(spread, 1e-12),
          kSideScale * all[m].side.cast<double>();
      whole_.add(all[m].weight, q);
      for (std::uint8_t axis = 0; axis < kAxes; ++axis) {
        moments_[axis][number(coordinate(all[m].position, all[m].side, axis), axis)].add(
            all[m].weight, q);
      }
    }
  }

  std::size_t number(float x, std::uint8_t axis) const {
    const float width = hi_[axis] - lo_[axis];
    const float place = width > 0 ? (x - lo_[axis]) / width * kSlices : 0;
    return std::min(static_cast<std::size_t>(place), kSlices - 1);
  }

  // The last slice before the cheapest cut, and its axis; kAxes: there is no cut.
  std::pair<std::uint8_t, std::size_t> cheapest() const {
    std::pair<std::uint8_t, std::size_t> out{kAxes, 0};
    double least = HUGE_VAL;
    for (std::uint8_t axis = 0; axis < kAxes; ++axis) {
      GroupMoments below;
      for (std::size_t i = 0; i + 1 < kSlices; ++i) {
        if (moments_[axis][i].count == 0) {
          continue;
        }
        below += moments_[axis][i];
        if (std::min(below.count, whole_.count - below.count) < kLeastOfPart) {
          continue;
        }
        const double cost = below.cost() + whole_.without(below).cost();
        if (cost < least) {
          least = cost;
          out = {axis, i};
        }
      }
    }
    return out;
  }

 private:
  std::array<float, kAxes> lo_ = {1e30f, 1e30f, 1e30f, 1e30f, 1e30f, 1e30f},
                           hi_ = {-1e30f, -1e30f, -1e30f, -1e30f, -1e30f, -1e30f};
  GroupMoments whole_;
  std::array<std::array<GroupMoments, kSlices>, kAxes> moments_;
};

}  // namespace

std::optional<ClusterCut> cut_cluster(std::span<const ClusterMember> all,
                                      std::span<std::uint32_t> members) {
  const Slices slices(all, members);
  const auto [axis, last] = slices.cheapest();
  if (axis == kAxes) {
    return std::nullopt;
  }
  const auto value = [&, axis = axis](std::uint32_t m) {
    return coordinate(all[m].position, all[m].side, axis);
  };
  const auto second = std::stable_partition(
      members.begin(), members.end(), [&, axis = axis, last = last](std::uint32_t m) {
        return slices.number(value(m), axis) <= last;
      });
  float below = -1e30f, above = 1e30f;
  for (auto m = members.begin(); m != members.end(); ++m) {
    (m < second ? below : above) =
        m < second ? std::max(below, value(*m)) : std::min(above, value(*m));
  }
  // In the middle of the gap: what lies between belongs to the nearer part.
  const float middle = 0.5f * (below + above);
  return ClusterCut{
      axis, middle > below ? middle : above, static_cast<std::size_t>(second - members.begin())};
}

}  // namespace jovilux
