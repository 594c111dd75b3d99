#pragma once

#include "jovilux/base/large_array.h"
#include "jovilux/geometry/bvh.h"
#include "jovilux/geometry/compact_bvh.h"
#include "jovilux/geometry/mesh.h"
#include "jovilux/geometry/ray.h"

#include <array>
#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace jovilux {

/// Four triangles, corner by corner and axis by axis; lanes without a triangle have id kNoIndex and
/// never hit.
struct alignas(16) TrianglePacket {
  float corner[3][3][4];
  std::uint32_t id[4];
};

/// More triangles than these are refused: a hierarchy numbers its items by 27 bits, and some
/// triangles are cut in two.
inline constexpr std::size_t kMostTriangles = 100'000'000;
/// Why so many triangles are refused; empty where they are not.
std::string too_many_triangles(std::size_t count);

/// A set of triangles with a hierarchy over them: meshes in one space, each with a number. Filled
/// by add(), then build();
/// immutable and shared afterwards.
class TriangleSet {
 public:
  /// The mesh must be faultless (mesh_fault). `number` is the caller's and comes back by mesh_of().
  void add(const Mesh& mesh, std::uint32_t number);
  /// Once; with `split`, boxes of large slanting triangles are cut where that pays
  /// (triangle_boxes); with `compacted`, nodes are
  /// compact where that costs no rays.
  void build(bool split = true, bool compacted = true);
  bool is_built() const { return built_; }

  /// Where a triangle is met, with the weights u and v of its second and third corner.
  struct Place {
    Vec3 corner[3];
    std::uint32_t mesh = kNoIndex;  ///< its number
    Vec3 position = Vec3::Zero();
    /// Interpolated, not of unit length; zero without normals.
    Vec3 normal = Vec3::Zero();
    Vec2 uv = Vec2::Zero();
    bool has_uv = false;
  };
  Place place(std::uint32_t triangle, float u, float v) const;
  std::uint32_t mesh_of(std::uint32_t triangle) const;

  std::size_t triangle_count() const { return triangles_.size(); }
  /// How many boxes of triangles the hierarchy holds: more than there are triangles where some were
  /// cut.
  std::size_t box_count() const { return boxes_; }
  const Bounds& bounds() const { return bvh_.bounds; }
  /// The numbers of the meshes; `each(number)`, several times for one that several meshes have.
  template <class Each>
  void mesh_numbers(const Each& each) const {
    for (const auto& range : ranges_) {
      each(range.number);
    }
  }
  /// The boxes of the meshes; `each(number, box)`, several times for a number that several meshes
  /// have.
  template <class Each>
  void mesh_bounds(const Each& each) const {
    for (std::size_t r = 0; r < ranges_.size(); ++r) {
      Bounds box;
      const std::size_t last =
          r + 1 < ranges_.size() ? ranges_[r + 1].first_triangle : triangles_.size();
      for (std::size_t t = ranges_[r].first_triangle; t < last; ++t) {
        for (const std::uint32_t corner : triangles_[t]) {
          box.add(positions_[corner]);
        }
      }
      each(ranges_[r].number, box);
    }
  }
  std::size_t memory_bytes() const;

  /// For rays: compact nodes where their grid is fine enough, else full ones; both null without
  /// triangles.
  const CompactNode* compact_nodes() const {
    return compact_.nodes.empty() ? nullptr : compact_.nodes.data();
  }
  const BoxGrid& grid() const { return compact_.grid; }
  const BvhNode* nodes() const { return bvh_.nodes.empty() ? nullptr : bvh_.nodes.data(); }
  const TrianglePacket* packets() const { return packets_.data(); }

 private:
  struct Range {
    std::uint32_t first_triangle, number;
    bool smooth, has_uv;
  };
  const Range& range_of(std::uint32_t triangle) const;
  void fill_packets();

  /// Normals: empty, or for all vertices up to the last that has one.
  LargeArray<Vec3> positions_, normals_;
  LargeArray<Vec2> uvs_;
  LargeArray<std::array<std::uint32_t, 3>> triangles_;
  std::vector<Range> ranges_;
  LargeArray<TrianglePacket> packets_;
  Bvh bvh_;  ///< leaves count packets; without nodes where compact_ has them
  CompactBvh compact_;
  std::size_t boxes_ = 0;
  bool built_ = false;
};

/// The boxes of triangles, as items for build_bvh whose ids are the triangles' numbers. With
/// `split`, a box is halved across its longest axis, again and again, where the boxes of the
/// triangle's two parts save more than the half area of a mean box: a ray then meets fewer boxes in
/// vain than one more item costs. At most half as many boxes again as triangles.
std::vector<BoxedItem> triangle_boxes(std::span<const Vec3> positions,
                                      std::span<const std::array<std::uint32_t, 3>> triangles,
                                      bool split);

}  // namespace jovilux
