#pragma once

#include "jovilux/base/large_array.h"
#include "jovilux/geometry/ray.h"

#include <array>
#include <cstdint>
#include <span>
#include <vector>

namespace jovilux {

/// What is to be sorted into a hierarchy: a box and a number.
struct alignas(16) BoxedItem {
  float lo[3];
  std::uint32_t id;
  float hi[3];
  std::uint32_t unused;
};

/// A node of eight children: their boxes axis by axis, so that one SIMD operation tests all of
/// them.
///
///     box[0..2][i]  lower x, y, z of child i      box[3..5][i]  upper x, y, z
///     child[i]      kNoChild, the index of a node, or a leaf: bit 31, count in bits 27..30, first
///     in bits 0..26
///
/// An absent child has lower bounds above its upper ones and is never hit.
struct alignas(32) BvhNode {
  float box[6][8];
  std::uint32_t child[8];

  static constexpr std::uint32_t kNoChild = 0xffffffffU;
  static constexpr std::uint32_t kLeafBit = 0x80000000U;
  static std::uint32_t leaf(std::uint32_t first, std::uint32_t count) {
    return kLeafBit | count << 27 | first;
  }
  static bool is_leaf(std::uint32_t c) { return (c & kLeafBit) != 0; }
  static std::uint32_t leaf_first(std::uint32_t c) { return c & 0x07ffffffU; }
  static std::uint32_t leaf_count(std::uint32_t c) { return c >> 27 & 15U; }
};

/// An eight-wide bounding volume hierarchy. `order` lists the items' numbers leaf by leaf; a leaf
/// holds [first, first + count) of it, except that build_bvh's caller may store its own leaves.
struct Bvh {
  LargeArray<BvhNode> nodes;  ///< nodes[0] is the root; empty without items
  std::vector<std::uint32_t> order;
  Bounds bounds;
  int depth = 0;
};

/// How a hierarchy is built.
struct BvhOptions {
  std::uint32_t leaf_size = 4;  ///< most items a leaf holds, 1..15
  /// How many of a leaf's items one test takes (4 for packets of triangles).
  std::uint32_t items_per_test = 1;
  float node_cost = 1.0f;  ///< of testing a node's eight boxes, against one test of items
};

/// Longest path from the root to a leaf that build_bvh makes; a traversal stack of 7 times this
/// never overflows.
inline constexpr int kMaxBvhDepth = 48;

/// Builds by the surface area heuristic over 16 bins a axis, in parallel; the same hierarchy for
/// any number of threads.
/// At most 2^27 items. `items` is reordered.
Bvh build_bvh(std::span<BoxedItem> items, const BvhOptions& options);

}  // namespace jovilux
