#include "jovilux/geometry/compact_bvh.h"

#include "jovilux/base/parallel.h"

#include <algorithm>
#include <cmath>
#include <vector>

namespace jovilux {
namespace {

constexpr double kMostSteps = 65'000;  // some are left for rounding
constexpr double kMostGrowth = 1.15;
constexpr std::size_t kBlock = 1024;

// Half of the surface of a box of these sides.
double half_area(const Vec3d& e) { return e.x() * e.y() + e.y() * e.z() + e.z() * e.x(); }

// Calls body(first, last) for blocks of nodes, in parallel.
template <class Body>
void in_blocks(std::size_t count, const Body& body) {
  parallel_for((count + kBlock - 1) / kBlock, [&](std::size_t block) {
    body(block * kBlock, std::min(count, (block + 1) * kBlock));
  });
}

}  // namespace

// Planes in 16 bits on one grid over the whole hierarchy: little more than half of the memory.
// Where boxes are so small that rounding to the grid makes them grow by too much, the result is
// empty and the full nodes are kept.
CompactBvh compact(const Bvh& bvh) {
  CompactBvh out;
  if (bvh.nodes.empty()) {
    return out;
  }
  const Vec3d lo = bvh.bounds.lo.cast<double>(), size = bvh.bounds.hi.cast<double>() - lo;
  constexpr double kSmallest = 1e-6, kLargest = 1e6;
  if (!(size.maxCoeff() >= kSmallest && size.maxCoeff() <= kLargest &&
        lo.cwiseAbs().maxCoeff() <= kLargest)) {
    return out;
  }
  Vec3d step;
  for (int a = 0; a < 3; ++a) {
    // A flat hierarchy has steps too, if tiny ones.
    const auto even = static_cast<float>(std::max(size[a], 1e-9 * size.maxCoeff()) / kMostSteps);
    out.grid.lo[static_cast<std::size_t>(a)] = bvh.bounds.lo[a];
    out.grid.step[static_cast<std::size_t>(a)] = std::nextafter(even, HUGE_VALF);
    step[a] = static_cast<double>(out.grid.step[static_cast<std::size_t>(a)]);
  }
  const auto side = [](const BvhNode& node, int at, std::size_t child) {
    return static_cast<double>(node.box[at][child]);
  };
  // How much more surface the boxes of each node would have with a step more on each side: in the
  // mean, so that crowded places count by their nodes however small they are.
  std::vector<double> growth((bvh.nodes.size() + kBlock - 1) / kBlock);
  in_blocks(bvh.nodes.size(), [&](std::size_t first, std::size_t last) {
    for (std::size_t i = first; i < last; ++i) {
      double before = 0, after = 0;
      for (std::size_t k = 0; k < 8; ++k) {
        if (bvh.nodes[i].child[k] == BvhNode::kNoChild) {
          continue;
        }
        Vec3d e;
        for (int a = 0; a < 3; ++a) {
          e[a] = side(bvh.nodes[i], a + 3, k) - side(bvh.nodes[i], a, k);
        }
        before += half_area(e);
        after += half_area(e + 2 * step);
      }
      // Points and lines have none to grow.
      growth[first / kBlock] += before > 0 ? after / before : 1;
    }
  });
  double sum = 0;
  for (const double g : growth) {
    sum += g;
  }
  if (!(sum <= kMostGrowth * static_cast<double>(bvh.nodes.size()))) {
    return out;
  }
  out.nodes.resize(bvh.nodes.size());
  in_blocks(bvh.nodes.size(), [&](std::size_t first, std::size_t last) {
    for (std::size_t i = first; i < last; ++i) {
      const BvhNode& from = bvh.nodes[i];
      CompactNode& to = out.nodes[i];
      for (std::size_t k = 0; k < 8; ++k) {
        const bool absent = from.child[k] == BvhNode::kNoChild;
        // A box whose lower planes lie above its upper ones is met by no ray.
        to.child[k] = absent ? BvhNode::leaf(0, 0) : from.child[k];
        for (int a = 0; a < 3; ++a) {
          // Rounded outward: a compact box holds its full box.
          to.planes[a][CompactNode::lower(k)] =
              absent ? 65535
                     : static_cast<std::uint16_t>(std::floor((side(from, a, k) - lo[a]) / step[a]));
          to.planes[a][CompactNode::upper(k)] =
              absent
                  ? 0
                  : static_cast<std::uint16_t>(std::ceil((side(from, a + 3, k) - lo[a]) / step[a]));
        }
      }
    }
  });
  return out;
}

}  // namespace jovilux
