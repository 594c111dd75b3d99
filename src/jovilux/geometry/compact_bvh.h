#pragma once

#include "jovilux/base/large_array.h"
#include "jovilux/geometry/bvh.h"

#include <array>
#include <cstdint>

namespace jovilux {

/// A grid over a hierarchy's box, of 65,000 steps an axis.
struct BoxGrid {
  std::array<float, 3> lo{}, step{1, 1, 1};
};

/// A node of eight children in two cache lines: their boxes on the grid of the hierarchy, moved out
/// to its planes. For each axis the lower planes of children 0 to 3, their upper ones, and the same
/// of 4 to 7: interleaving a half with the constant 0x4b00 makes floats of them, 2^23 + plane.
///
/// Links are those of BvhNode; an absent child is a leaf of nothing.
struct alignas(64) CompactNode {
  std::uint16_t planes[3][16];
  std::uint32_t child[8];

  static constexpr std::size_t lower(std::size_t i) { return i / 4 * 8 + i % 4; }
  static constexpr std::size_t upper(std::size_t i) { return lower(i) + 4; }
};

/// A hierarchy of compact nodes: 128 bytes instead of 224. Empty where its grid would be too
/// coarse.
struct CompactBvh {
  LargeArray<CompactNode> nodes;
  BoxGrid grid;
};

/// The same hierarchy on a grid, or none where boxes moved out to it would be too large for their
/// triangles (small ones in a wide landscape): where a node's boxes would have over 1.15 times
/// their surface in the mean over the nodes. None either where the hierarchy's size is beyond 1e-6
/// to 1e6.
CompactBvh compact(const Bvh& bvh);

}  // namespace jovilux
