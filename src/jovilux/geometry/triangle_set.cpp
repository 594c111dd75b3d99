#include "jovilux/geometry/triangle_set.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/parallel.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace jovilux {

std::string too_many_triangles(std::size_t count) {
  return count > kMostTriangles
             ? fmt::format(
                   "{} triangles in all; at most {}: leave out what is not seen, or name "
                   "one mesh file in several objects",
                   count,
                   kMostTriangles)
             : "";
}

void TriangleSet::add(const Mesh& mesh, std::uint32_t number) {
  JOVILUX_ASSERT(!built_);
  const auto first_vertex = static_cast<std::uint32_t>(positions_.size());
  const bool smooth = !mesh.normals.empty(), has_uv = !mesh.uvs.empty();
  ranges_.push_back({static_cast<std::uint32_t>(triangles_.size()), number, smooth, has_uv});
  positions_.insert(positions_.end(), mesh.positions.begin(), mesh.positions.end());
  if (smooth) {
    normals_.resize(first_vertex, Vec3::Zero());
    normals_.insert(normals_.end(), mesh.normals.begin(), mesh.normals.end());
  }
  if (has_uv) {
    uvs_.resize(first_vertex, Vec2::Zero());
    uvs_.insert(uvs_.end(), mesh.uvs.begin(), mesh.uvs.end());
  }
  if (triangles_.empty()) {  // a lone mesh takes what it needs; of many, memory grows by doubling
    triangles_.reserve(mesh.triangles.size());
  }
  for (const auto& t : mesh.triangles) {
    triangles_.push_back({t[0] + first_vertex, t[1] + first_vertex, t[2] + first_vertex});
  }
}

void TriangleSet::build(bool split, bool compacted) {
  built_ = true;
  // Cutting boxes adds items: not where that could be too many.
  constexpr std::size_t kMostCut = 1U << 26;
  std::vector<BoxedItem> items =
      triangle_boxes(positions_, triangles_, split && triangles_.size() <= kMostCut);
  boxes_ = items.size();
  bvh_ = build_bvh(items, {.leaf_size = 8, .items_per_test = 4, .node_cost = 0.5f});
  std::vector<BoxedItem>().swap(items);
  fill_packets();
  if (compacted) {
    compact_ = compact(bvh_);
    if (!compact_.nodes.empty()) {
      LargeArray<BvhNode>().swap(bvh_.nodes);  // an empty list assigned would keep the memory
    }
  }
}

// The items of each leaf in packets of four; a triangle that was cut may be twice in a leaf, and
// once is enough.
void TriangleSet::fill_packets() {
  packets_.reserve(boxes_ / 3 + 1);
  std::array<std::uint32_t, 16> ids;
  for (BvhNode& node : bvh_.nodes) {
    for (std::uint32_t& child : node.child) {
      if (child == BvhNode::kNoChild || !BvhNode::is_leaf(child)) {
        continue;
      }
      const auto first = bvh_.order.begin() + BvhNode::leaf_first(child);
      auto end = std::copy(first, first + BvhNode::leaf_count(child), ids.begin());
      if (boxes_ > triangles_.size()) {
        std::sort(ids.begin(), end);
        end = std::unique(ids.begin(), end);
      }
      const auto count = static_cast<std::uint32_t>(end - ids.begin());
      const auto first_packet = static_cast<std::uint32_t>(packets_.size());
      for (std::uint32_t i = 0; i < count; i += 4) {
        TrianglePacket packet;
        for (std::uint32_t lane = 0; lane < 4; ++lane) {
          const bool used = i + lane < count;
          packet.id[lane] = used ? ids[i + lane] : kNoIndex;
          for (std::size_t corner = 0; corner < 3; ++corner) {
            for (int axis = 0; axis < 3; ++axis) {
              packet.corner[corner][axis][lane] =
                  used ? positions_[triangles_[packet.id[lane]][corner]][axis] : 0.0f;
            }
          }
        }
        packets_.push_back(packet);
      }
      child = BvhNode::leaf(first_packet, (count + 3) / 4);
    }
  }
  packets_.shrink_to_fit();
  std::vector<std::uint32_t>().swap(bvh_.order);
}

const TriangleSet::Range& TriangleSet::range_of(std::uint32_t triangle) const {
  return *std::prev(std::upper_bound(
      ranges_.begin(), ranges_.end(), triangle, [](std::uint32_t t, const Range& r) {
        return t < r.first_triangle;
      }));
}

std::uint32_t TriangleSet::mesh_of(std::uint32_t triangle) const {
  return range_of(triangle).number;
}

TriangleSet::Place TriangleSet::place(std::uint32_t triangle, float u, float v) const {
  const auto& t = triangles_[triangle];
  const Range& mesh = range_of(triangle);
  const float w = 1 - u - v;
  Place out;
  for (std::size_t c = 0; c < 3; ++c) {
    out.corner[c] = positions_[t[c]];
  }
  out.mesh = mesh.number;
  out.position = w * out.corner[0] + u * out.corner[1] + v * out.corner[2];
  if (mesh.smooth) {
    out.normal = w * normals_[t[0]] + u * normals_[t[1]] + v * normals_[t[2]];
  }
  out.has_uv = mesh.has_uv;
  if (mesh.has_uv) {
    out.uv = w * uvs_[t[0]] + u * uvs_[t[1]] + v * uvs_[t[2]];
  }
  return out;
}

std::size_t TriangleSet::memory_bytes() const {
  return (positions_.capacity() + normals_.capacity()) * sizeof(Vec3) +
         uvs_.capacity() * sizeof(Vec2) + triangles_.capacity() * sizeof(triangles_[0]) +
         packets_.capacity() * sizeof(TrianglePacket) + bvh_.nodes.capacity() * sizeof(BvhNode) +
         compact_.nodes.capacity() * sizeof(CompactNode);
}

namespace {

// A part of a triangle between planes, and its box.
struct Piece {
  std::array<Vec3d, 11> corner;  // each cut adds one at most
  std::size_t count = 0;
  Bounds box;
};

BoxedItem item_of(const Bounds& box, std::uint32_t id) {
  BoxedItem item{};
  for (int a = 0; a < 3; ++a) {
    item.lo[a] = box.lo[a];
    item.hi[a] = box.hi[a];
  }
  item.id = id;
  return item;
}

// What of a piece lies on one side of a plane. The new corners are rounded: its box is moved out by
// that, but not beyond the plane or the piece's own box.
Piece part_of(const Piece& whole, int axis, double plane, bool above) {
  Piece out;
  const auto inside = [&](const Vec3d& p) { return above ? p[axis] >= plane : p[axis] <= plane; };
  for (std::size_t i = 0; i < whole.count; ++i) {
    const Vec3d &p = whole.corner[i], &q = whole.corner[(i + 1) % whole.count];
    if (inside(p)) {
      out.corner[out.count++] = p;
    }
    if (inside(p) != inside(q) && out.count < out.corner.size()) {
      Vec3d cut = p + (plane - p[axis]) / (q[axis] - p[axis]) * (q - p);
      cut[axis] = plane;
      out.corner[out.count++] = cut;
    }
  }
  for (std::size_t i = 0; i < out.count; ++i) {
    out.box.add(Vec3(out.corner[i].cast<float>()));
  }
  const Vec3 rounding = 2.4e-7f * whole.box.lo.cwiseAbs().cwiseMax(whole.box.hi.cwiseAbs());
  out.box.lo = (out.box.lo - rounding).cwiseMax(whole.box.lo);
  out.box.hi = (out.box.hi + rounding).cwiseMin(whole.box.hi);
  return out;
}

// Halves a piece while that saves more than `least` of half area; the boxes of what is left are
// given to `keep`.
template <class Keep>
void cut_up(const Piece& piece, float least, int depth, const Keep& keep) {
  constexpr float kWorth = 0.3f;  // of its area: what lies level with an axis gains little
  constexpr int kDeepest = 7;     // a cut adds a corner at most: ten at the end
  const float area = piece.box.half_area();
  if (depth < kDeepest && area > least) {
    int axis = 0;
    const Vec3 side = piece.box.hi - piece.box.lo;
    side.maxCoeff(&axis);
    const auto plane = static_cast<double>(0.5f * (piece.box.lo[axis] + piece.box.hi[axis]));
    const Piece below = part_of(piece, axis, plane, false),
                above = part_of(piece, axis, plane, true);
    if (below.count > 2 && above.count > 2 &&
        area - below.box.half_area() - above.box.half_area() > std::max(least, kWorth * area)) {
      cut_up(below, least, depth + 1, keep);
      cut_up(above, least, depth + 1, keep);
      return;
    }
  }
  keep(piece.box);
}

}  // namespace

std::vector<BoxedItem> triangle_boxes(std::span<const Vec3> positions,
                                      std::span<const std::array<std::uint32_t, 3>> triangles,
                                      bool split) {
  constexpr std::size_t kTrianglesPerBlock = 8192;
  const std::size_t count = triangles.size(),
                    blocks = (count + kTrianglesPerBlock - 1) / kTrianglesPerBlock;
  std::vector<BoxedItem> items(count);
  std::vector<double> area_of(blocks);
  const auto each_in = [&](std::size_t block, const auto& body) {
    for (std::size_t i = block * kTrianglesPerBlock;
         i < std::min(count, (block + 1) * kTrianglesPerBlock);
         ++i) {
      body(static_cast<std::uint32_t>(i));
    }
  };
  const auto box_of = [&](std::uint32_t i) {
    Bounds box;
    for (const std::uint32_t c : triangles[i]) {
      box.add(positions[c]);
    }
    return box;
  };
  parallel_for(blocks, [&](std::size_t block) {
    each_in(block, [&](std::uint32_t i) {
      const Bounds box = box_of(i);
      items[i] = item_of(box, i);
      area_of[block] += static_cast<double>(box.half_area());
    });
  });
  if (!split || count == 0) {
    return items;
  }
  double area = 0;
  for (const double a : area_of) {
    area += a;
  }
  // The boxes of those that are cut; the first of each takes the place of the whole one.
  std::vector<std::vector<BoxedItem>> more(blocks);
  auto least = static_cast<float>(area / static_cast<double>(count));
  for (std::size_t all = count + 1; all > count / 2 && least > 0 && std::isfinite(least);
       least *= 2) {
    parallel_for(blocks, [&](std::size_t block) {
      more[block].clear();
      each_in(block, [&](std::uint32_t i) {
        const Bounds box = box_of(i);
        items[i] = item_of(box, i);
        if (box.half_area() > 2 * least) {
          Piece whole;
          for (const std::uint32_t c : triangles[i]) {
            whole.corner[whole.count++] = positions[c].cast<double>();
          }
          whole.box = box;
          bool first = true;
          cut_up(whole, least, 0, [&](const Bounds& part) {
            if (first) {
              items[i] = item_of(part, i);
              first = false;
            } else {
              more[block].push_back(item_of(part, i));
            }
          });
        }
      });
    });
    all = 0;
    for (const auto& m : more) {
      all += m.size();
    }
  }
  for (const auto& m : more) {
    items.insert(items.end(), m.begin(), m.end());
  }
  return items;
}

}  // namespace jovilux
