#include "jovilux/transport/direction_tree.h"

#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

// A quarter with more than this share of its tree's weight is divided,
constexpr double kDividedShare = 0.01;
// where so many samples tell how.
constexpr std::size_t kDividedSamples = 8;

struct Square {
  float x = 0, y = 0, side = 1;
};

void divide(std::span<DirectionSample> samples,
            const Square& square,
            int halvings_left,
            double all,
            float uniform,
            std::uint32_t index,
            std::vector<DirectionNode>& nodes) {
  const float half = 0.5f * square.side, mx = square.x + half, my = square.y + half;
  // In the order of the quarters; stable, so that sums do not depend on how the samples came.
  const auto quarter = [&](const DirectionSample& s) {
    return (s.place.x() >= mx ? 1 : 0) + (s.place.y() >= my ? 2 : 0);
  };
  std::array<std::size_t, 5> begin{};
  for (const DirectionSample& s : samples) {
    ++begin[static_cast<std::size_t>(quarter(s)) + 1];
  }
  for (std::size_t q = 1; q < 5; ++q) {
    begin[q] += begin[q - 1];
  }
  std::stable_sort(
      samples.begin(), samples.end(), [&](const DirectionSample& a, const DirectionSample& b) {
        return quarter(a) < quarter(b);
      });
  std::array<double, 4> weight{};
  for (std::size_t q = 0; q < 4; ++q) {
    for (std::size_t i = begin[q]; i < begin[q + 1]; ++i) {
      weight[q] += static_cast<double>(samples[i].weight);
    }
  }
  const double area = static_cast<double>(half) * half;
  double shares = 0;
  std::array<double, 4> share{};
  for (std::size_t q = 0; q < 4; ++q) {
    share[q] = (1 - static_cast<double>(uniform)) * (all > 0 ? weight[q] / all : area) +
               static_cast<double>(uniform) * area;
    shares += share[q];
  }
  for (std::size_t q = 0; q < 4; ++q) {
    nodes[index].share[q] = static_cast<float>(share[q] / shares);
    const std::size_t count = begin[q + 1] - begin[q];
    if (weight[q] > kDividedShare * all && count >= kDividedSamples && halvings_left > 1) {
      const auto child = static_cast<std::uint32_t>(nodes.size());
      nodes[index].child[q] = child;
      nodes.emplace_back();
      divide(samples.subspan(begin[q], count),
             {q % 2 == 1 ? mx : square.x, q / 2 == 1 ? my : square.y, half},
             halvings_left - 1,
             all,
             uniform,
             child,
             nodes);
    }
  }
}

constexpr float kInvSphere = 0.25f / kPi;

}  // namespace

Vec2 square_of(const Vec3& d) {
  constexpr float kBelowOne = 0x1.fffffep-1f;
  const float turn = std::atan2(d.y(), d.x()) * (0.5f / kPi);
  return {std::clamp(0.5f + 0.5f * d.z(), 0.0f, kBelowOne),
          std::clamp(turn < 0 ? turn + 1 : turn, 0.0f, kBelowOne)};
}

Vec3 direction_of(const Vec2& place) {
  const float z = 2 * place.x() - 1, r = std::sqrt(std::max(0.0f, 1 - z * z)),
              phi = 2 * kPi * place.y();
  return {r * std::cos(phi), r * std::sin(phi), z};
}

std::uint32_t add_direction_tree(std::span<DirectionSample> samples,
                                 float uniform,
                                 std::vector<DirectionNode>& nodes,
                                 int deepest) {
  const auto root = static_cast<std::uint32_t>(nodes.size());
  nodes.emplace_back();
  double all = 0;
  for (const DirectionSample& s : samples) {
    all += static_cast<double>(s.weight);
  }
  divide(samples, {}, deepest, all, uniform, root, nodes);
  return root;
}

Vec3 sample_directions(std::span<const DirectionNode> nodes,
                       std::uint32_t root,
                       Vec2 u,
                       float& pdf) {
  constexpr float kBelowOne = 0x1.fffffep-1f;
  float x = 0, y = 0, side = 1, density = 1;
  for (std::uint32_t index = root;;) {
    const DirectionNode& n = nodes[index];
    // First by y, the halves' shares, then by x within the half: u is stretched each time.
    const float lower = n.share[0] + n.share[1];
    const std::size_t up = u.y() < lower ? 0 : 2;
    u.y() = up == 0 ? u.y() / lower : (u.y() - lower) / (1 - lower);
    const float left = n.share[up] / (n.share[up] + n.share[up + 1]);
    const std::size_t right = u.x() < left ? 0 : 1;
    u.x() = right == 0 ? u.x() / left : (u.x() - left) / (1 - left);
    u = u.cwiseMax(0.0f).cwiseMin(kBelowOne);
    side *= 0.5f;
    x += right == 1 ? side : 0;
    y += up == 2 ? side : 0;
    density *= 4 * n.share[up + right];
    index = n.child[up + right];
    if (index == 0) {
      break;
    }
  }
  pdf = density * kInvSphere;
  return direction_of({x + side * u.x(), y + side * u.y()});
}

float directions_pdf(std::span<const DirectionNode> nodes, std::uint32_t root, const Vec3& d) {
  const Vec2 place = square_of(d);
  float x = place.x(), y = place.y(), density = 1;
  for (std::uint32_t index = root;;) {
    const DirectionNode& n = nodes[index];
    x *= 2;
    y *= 2;
    const std::size_t q = (x >= 1 ? 1U : 0U) + (y >= 1 ? 2U : 0U);
    x -= x >= 1 ? 1 : 0;
    y -= y >= 1 ? 1 : 0;
    density *= 4 * n.share[q];
    index = n.child[q];
    if (index == 0) {
      return density * kInvSphere;
    }
  }
}

}  // namespace jovilux
