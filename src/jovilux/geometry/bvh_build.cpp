#include "jovilux/base/assert.h"
#include "jovilux/geometry/bvh.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <cstring>

#include <tbb/blocked_range.h>
#include <tbb/concurrent_vector.h>
#include <tbb/parallel_for.h>
#include <tbb/parallel_reduce.h>

namespace jovilux {
namespace {

// Four floats at a time by the compiler's vectors: baseline SSE on every x86-64.
typedef float Float4 __attribute__((vector_size(16)));

Float4 load(const float* p) {
  Float4 v;
  std::memcpy(&v, p, sizeof v);
  return v;
}
Float4 min4(Float4 a, Float4 b) { return a < b ? a : b; }
Float4 max4(Float4 a, Float4 b) { return a > b ? a : b; }

constexpr Float4 kHighest = {kFar, kFar, kFar, kFar};

struct Box4 {
  Float4 lo = kHighest, hi = -kHighest;
  void add(Float4 l, Float4 h) {
    lo = min4(lo, l);
    hi = max4(hi, h);
  }
  float half_area() const {
    const Float4 e = hi - lo;
    return e[0] < 0 ? 0.0f : e[0] * e[1] + e[1] * e[2] + e[2] * e[0];
  }
};

// The items from `begin` to `end`, their box, and the box of their centers (as sums of both
// corners, which saves a multiplication).
struct Range {
  std::uint32_t begin = 0, end = 0;
  Box4 box, centers;  // of the items, of twice their centers
  std::uint32_t size() const { return end - begin; }
};

constexpr int kBins = 16;
constexpr float kFlat = 1e-25f;  // an extent below which centers count as one place [m]
struct Bins {
  Box4 box[3][kBins];
  std::uint32_t count[3][kBins] = {};
  void merge(const Bins& other) {
    for (int a = 0; a < 3; ++a) {
      for (int b = 0; b < kBins; ++b) {
        box[a][b].add(other.box[a][b].lo, other.box[a][b].hi);
        count[a][b] += other.count[a][b];
      }
    }
  }
};

// Builds a tree of eight children a node by splits in two: the child of largest surface is split
// until there are eight, since it is the one that most rays enter.
class Builder {
 public:
  Builder(std::span<BoxedItem> items, const BvhOptions& options)
      : items_(items), options_(options) {}

  Bvh build() {
    Bvh out;
    if (items_.empty()) {
      return out;
    }
    const Range all = measured(0, static_cast<std::uint32_t>(items_.size()));
    for (int i = 0; i < 3; ++i) {
      out.bounds.lo[i] = all.box.lo[i];
      out.bounds.hi[i] = all.box.hi[i];
    }
    nodes_.grow_by(1);
    fill(0, all, 1);
    out.nodes.assign(nodes_.begin(), nodes_.end());
    out.depth = depth_;
    out.order.resize(items_.size());
    for (std::size_t i = 0; i < items_.size(); ++i) {
      out.order[i] = items_[i].id;
    }
    return out;
  }

 private:
  // Below these sizes a task costs more than its work.
  static constexpr std::uint32_t kParallelBins = 1U << 16;
  static constexpr std::uint32_t kParallelChildren = 1U << 12;

  Range measured(std::uint32_t begin, std::uint32_t end) const {
    const auto measure = [&](std::uint32_t b, std::uint32_t e, Range r) {
      for (std::uint32_t i = b; i < e; ++i) {
        const Float4 lo = load(items_[i].lo), hi = load(items_[i].hi);
        r.box.add(lo, hi);
        r.centers.add(lo + hi, lo + hi);
      }
      return r;
    };
    // Deterministic reductions: the same boxes, and so the same tree, for any number of threads.
    Range out;
    if (end - begin < kParallelBins) {
      out = measure(begin, end, out);
    } else {
      out = tbb::parallel_deterministic_reduce(
          tbb::blocked_range<std::uint32_t>(begin, end, kParallelBins / 4),
          Range(),
          [&](const auto& part, Range r) { return measure(part.begin(), part.end(), r); },
          [](Range a, const Range& b) {
            a.box.add(b.box.lo, b.box.hi);
            a.centers.add(b.centers.lo, b.centers.hi);
            return a;
          });
    }
    out.begin = begin;
    out.end = end;
    return out;
  }

  // Items are tested in packets: a packet that is not full costs as much as a full one.
  float tests(std::uint32_t count) const {
    const auto whole = (count + options_.items_per_test - 1) / options_.items_per_test;
    return static_cast<float>(whole);
  }

  // Bins for each unit of a center's place; 0 along axes on which all centers lie in one place.
  static Float4 bin_scale(const Range& r) {
    const Float4 extent = r.centers.hi - r.centers.lo;
    const Float4 zero = {0, 0, 0, 0};
    // The last bin's upper edge is inside: a center at it must not fall into a bin beyond.
    return extent > zero + kFlat ? (kBins * (1 - 1e-6f)) / extent : zero;
  }

  Bins binned(const Range& r, const Float4& scale) const {
    const auto bin_items = [&](std::uint32_t b, std::uint32_t e, Bins bins) {
      for (std::uint32_t i = b; i < e; ++i) {
        const Float4 lo = load(items_[i].lo), hi = load(items_[i].hi);
        const Float4 place = (lo + hi - r.centers.lo) * scale;
        for (int a = 0; a < 3; ++a) {
          const int k = static_cast<int>(place[a]);
          bins.box[a][k].add(lo, hi);
          ++bins.count[a][k];
        }
      }
      return bins;
    };
    if (r.size() < kParallelBins) {
      return bin_items(r.begin, r.end, Bins());
    }
    return tbb::parallel_deterministic_reduce(
        tbb::blocked_range<std::uint32_t>(r.begin, r.end, kParallelBins / 4),
        Bins(),
        [&](const auto& part, Bins acc) { return bin_items(part.begin(), part.end(), acc); },
        [](Bins a, const Bins& b) {
          a.merge(b);
          return a;
        });
  }

  // Before which bin of an axis a cut costs least; axis -1: all centers lie in one place.
  struct Cut {
    float cost = kFar;
    int axis = -1, bin = 0;
  };

  Cut best_cut(const Bins& bins, const Range& r) const {
    Cut best;
    for (int a = 0; a < 3; ++a) {
      if (!(r.centers.hi[a] - r.centers.lo[a] > kFlat)) {
        continue;
      }
      float right_cost[kBins];
      Box4 box;
      std::uint32_t count = 0;
      for (int b = kBins - 1; b > 0; --b) {
        box.add(bins.box[a][b].lo, bins.box[a][b].hi);
        count += bins.count[a][b];
        right_cost[b] = count > 0 ? box.half_area() * tests(count) : kFar;
      }
      box = Box4();
      count = 0;
      for (int b = 1; b < kBins; ++b) {
        box.add(bins.box[a][b - 1].lo, bins.box[a][b - 1].hi);
        count += bins.count[a][b - 1];
        const float cost = count > 0 ? box.half_area() * tests(count) + right_cost[b] : kFar;
        if (cost < best.cost) {
          best = {cost, a, b};
        }
      }
    }
    return best;
  }

  // Items whose centers lie before the cut come first; where the others begin.
  std::uint32_t partitioned(const Range& r, const Float4& scale, const Cut& cut) {
    const float origin = r.centers.lo[cut.axis], factor = scale[cut.axis];
    const auto at = std::partition(
        items_.begin() + r.begin, items_.begin() + r.end, [&](const BoxedItem& item) {
          return static_cast<int>((item.lo[cut.axis] + item.hi[cut.axis] - origin) * factor) <
                 cut.bin;
        });
    return static_cast<std::uint32_t>(at - items_.begin());
  }

  // The half of the items with the lower centers along the longest axis comes first; where the
  // other begins.
  std::uint32_t halved(const Range& r) {
    const std::uint32_t mid = r.begin + r.size() / 2;
    int axis = 0;
    const Float4 extent = r.centers.hi - r.centers.lo;
    for (int a = 1; a < 3; ++a) {
      axis = extent[a] > extent[axis] ? a : axis;
    }
    std::nth_element(items_.begin() + r.begin,
                     items_.begin() + mid,
                     items_.begin() + r.end,
                     [axis](const BoxedItem& a, const BoxedItem& b) {
                       const float ca = a.lo[axis] + a.hi[axis], cb = b.lo[axis] + b.hi[axis];
                       return ca < cb || (ca == cb && a.id < b.id);
                     });
    return mid;
  }

  // Splits a range in two where the surface area heuristic finds its least cost, or by the middle;
  // false where it should stay whole.
  bool split(const Range& r, bool by_middle, Range& left, Range& right) {
    if (r.size() < 2) {
      return false;
    }
    const bool may_be_leaf = r.size() <= options_.leaf_size;
    std::uint32_t mid = r.begin;
    if (!by_middle) {
      const Float4 scale = bin_scale(r);
      const Cut cut = best_cut(binned(r, scale), r);
      // The surface area heuristic (I. Wald, "On fast construction of SAH-based bounding volume
      // hierarchies", 2007): both halves' surfaces times their tests, plus what a node costs,
      // against testing all.
      const bool costs_more = cut.axis < 0 || cut.cost + options_.node_cost * r.box.half_area() >=
                                                  r.box.half_area() * tests(r.size());
      if (may_be_leaf && costs_more) {
        return false;
      }
      mid = cut.axis >= 0 ? partitioned(r, scale, cut) : mid;
    } else if (may_be_leaf) {
      return false;
    }
    // All centers in one place, or the path has grown too long: halves.
    if (mid == r.begin || mid == r.end) {
      mid = halved(r);
    }
    left = measured(r.begin, mid);
    right = measured(mid, r.end);
    return true;
  }

  void fill(std::size_t node_index, const Range& range, int depth) {
    for (int seen = depth_; seen < depth && !depth_.compare_exchange_weak(seen, depth);) {
    }
    // Past this depth ranges are halved: 2^27 items need nine more levels of eight.
    const bool by_middle = depth > kMaxBvhDepth - 14;
    Range parts[8] = {range};
    bool whole[8] = {};
    int count = 1;
    while (count < 8) {
      int widest = -1;
      for (int i = 0; i < count; ++i) {
        if (!whole[i] && (widest < 0 || parts[i].box.half_area() > parts[widest].box.half_area())) {
          widest = i;
        }
      }
      if (widest < 0) {
        break;
      }
      Range left, right;
      if (split(parts[widest], by_middle, left, right)) {
        parts[widest] = left;
        parts[count++] = right;
      } else {
        whole[widest] = true;
      }
    }
    BvhNode node;
    std::size_t inner[8];
    int inner_count = 0;
    for (int i = 0; i < 8; ++i) {
      for (int a = 0; a < 3; ++a) {
        node.box[a][i] = i < count ? parts[i].box.lo[a] : kFar;
        node.box[a + 3][i] = i < count ? parts[i].box.hi[a] : -kFar;
      }
      node.child[i] = BvhNode::kNoChild;
      if (i >= count) {
        continue;
      }
      if (parts[i].size() <= options_.leaf_size) {
        node.child[i] = BvhNode::leaf(parts[i].begin, parts[i].size());
      } else {
        inner[inner_count++] = static_cast<std::size_t>(i);
      }
    }
    // Children of one node lie side by side, so that one fetch brings their first bytes along.
    if (inner_count > 0) {
      const auto first = static_cast<std::size_t>(
          nodes_.grow_by(static_cast<std::size_t>(inner_count)) - nodes_.begin());
      for (int k = 0; k < inner_count; ++k) {
        node.child[inner[k]] = static_cast<std::uint32_t>(first + static_cast<std::size_t>(k));
      }
      nodes_[node_index] = node;
      const auto recurse = [&](int k) {
        fill(first + static_cast<std::size_t>(k), parts[inner[k]], depth + 1);
      };
      if (range.size() > kParallelChildren) {
        tbb::parallel_for(0, inner_count, recurse, tbb::simple_partitioner());
      } else {
        for (int k = 0; k < inner_count; ++k) {
          recurse(k);
        }
      }
    } else {
      nodes_[node_index] = node;
    }
  }

  std::span<BoxedItem> items_;
  BvhOptions options_;
  tbb::concurrent_vector<BvhNode> nodes_;
  std::atomic<int> depth_{0};
};

}  // namespace

Bvh build_bvh(std::span<BoxedItem> items, const BvhOptions& options) {
  JOVILUX_ASSERT(items.size() < (1U << 27) && options.leaf_size >= 1 && options.leaf_size <= 15);
  return Builder(items, options).build();
}

}  // namespace jovilux
