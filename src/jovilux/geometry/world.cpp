#include "jovilux/geometry/world.h"

#include <algorithm>
#include <cmath>

#include "jovilux/base/assert.h"

namespace jovilux {

void World::add_shape(const Shape& shape, const Transform& to_world, std::uint32_t surface) {
  if (!shape.bounded()) {
    endless_.push_back(static_cast<std::uint32_t>(shapes_.size()));
  }
  shapes_.push_back({shape, to_world, to_world.inverse(), surface});
}

void World::add_mesh(Mesh mesh, std::uint32_t surface) {
  const auto first_vertex = static_cast<std::uint32_t>(positions_.size());
  const bool smooth = !mesh.normals.empty();
  meshes_.push_back({static_cast<std::uint32_t>(triangles_.size()), surface, smooth});
  positions_.insert(positions_.end(), mesh.positions.begin(), mesh.positions.end());
  if (smooth) {
    normals_.resize(first_vertex, Vec3::Zero());
    normals_.insert(normals_.end(), mesh.normals.begin(), mesh.normals.end());
  }
  triangles_.reserve(triangles_.size() + mesh.triangles.size());
  for (const auto& t : mesh.triangles) {
    triangles_.push_back({t[0] + first_vertex, t[1] + first_vertex, t[2] + first_vertex});
  }
}

void World::build() {
  std::vector<BoxedItem> items;
  for (std::uint32_t i = 0; i < shapes_.size(); ++i) {
    if (!shapes_[i].shape.bounded()) {
      continue;
    }
    Vec3d lo, hi;
    extents(shapes_[i].shape, lo, hi);
    // The box of a turned box, moved out by a rounding: a hit lies inside it in single precision as well.
    const Transform& m = shapes_[i].to_world;
    const Vec3d half = m.linear.cwiseAbs() * (0.5 * (hi - lo));
    const Vec3d center = m.point(0.5 * (lo + hi));
    BoxedItem item{};
    for (int a = 0; a < 3; ++a) {
      const double slack = 1e-6 * (std::abs(center[a]) + half[a]) + 1e-7;
      item.lo[a] = static_cast<float>(center[a] - half[a] - slack);
      item.hi[a] = static_cast<float>(center[a] + half[a] + slack);
    }
    item.id = i;
    items.push_back(item);
  }
  shape_bvh_ = build_bvh(items, {.leaf_size = 2, .items_per_test = 1, .node_cost = 0.5f});
  bounds_ = shape_bvh_.bounds;

  items.assign(triangles_.size(), BoxedItem{});
  for (std::uint32_t i = 0; i < triangles_.size(); ++i) {
    const auto& t = triangles_[i];
    const Vec3 lo = positions_[t[0]].cwiseMin(positions_[t[1]]).cwiseMin(positions_[t[2]]);
    const Vec3 hi = positions_[t[0]].cwiseMax(positions_[t[1]]).cwiseMax(positions_[t[2]]);
    for (int a = 0; a < 3; ++a) {
      items[i].lo[a] = lo[a];
      items[i].hi[a] = hi[a];
    }
    items[i].id = i;
  }
  triangle_bvh_ = build_bvh(items, {.leaf_size = 8, .items_per_test = 4, .node_cost = 0.5f});
  if (!triangle_bvh_.nodes.empty()) {
    bounds_.add(triangle_bvh_.bounds);
  }
  items = {};

  packets_.reserve(triangles_.size() / 3 + 1);
  for (BvhNode& node : triangle_bvh_.nodes) {
    for (std::uint32_t& child : node.child) {
      if (child == BvhNode::kNoChild || !BvhNode::is_leaf(child)) {
        continue;
      }
      const std::uint32_t first = BvhNode::leaf_first(child), count = BvhNode::leaf_count(child);
      const auto first_packet = static_cast<std::uint32_t>(packets_.size());
      for (std::uint32_t i = 0; i < count; i += 4) {
        TrianglePacket packet;
        for (std::uint32_t lane = 0; lane < 4; ++lane) {
          const bool used = i + lane < count;
          packet.id[lane] = used ? triangle_bvh_.order[first + i + lane] : kNoIndex;
          for (int corner = 0; corner < 3; ++corner) {
            for (int axis = 0; axis < 3; ++axis) {
              packet.corner[corner][axis][lane] =
                  used ? positions_[triangles_[packet.id[lane]][static_cast<std::size_t>(corner)]][axis] : 0.0f;
            }
          }
        }
        packets_.push_back(packet);
      }
      child = BvhNode::leaf(first_packet, (count + 3) / 4);
    }
  }
  packets_.shrink_to_fit();
  triangle_bvh_.order = {};
}

std::uint32_t World::surface_of(const Hit& hit) const {
  if (hit.shape != kNoIndex) {
    return shapes_[hit.shape].surface;
  }
  const auto after = std::upper_bound(meshes_.begin(), meshes_.end(), hit.triangle, [](std::uint32_t t, const MeshRange& m) {
    return t < m.first_triangle;
  });
  return std::prev(after)->surface;
}

SurfacePoint World::point(const Ray& ray, const Hit& hit) const {
  JOVILUX_HOT_ASSERT(hit.found());
  SurfacePoint out;
  if (hit.shape != kNoIndex) {
    const PlacedShape& placed = shapes_[hit.shape];
    const Vec3d world = ray.origin.cast<double>() + static_cast<double>(hit.t) * ray.direction.cast<double>();
    const Vec3d local = placed.to_local.point(world);
    out.position = world.cast<float>();
    out.normal = (placed.to_local.linear.transpose() * normal_at(placed.shape, local)).normalized().cast<float>();
    out.shading_normal = out.normal;
    out.surface = placed.surface;
  } else {
    const auto& t = triangles_[hit.triangle];
    const Vec3 &a = positions_[t[0]], &b = positions_[t[1]], &c = positions_[t[2]];
    const float u = hit.u, v = hit.v, w = 1 - u - v;
    out.position = w * a + u * b + v * c;
    const Vec3 n = (b - a).cross(c - a);
    const float length = n.norm();
    out.normal = length > 0 ? Vec3(n / length) : Vec3(-ray.direction);
    out.shading_normal = out.normal;
    const auto after = std::upper_bound(
        meshes_.begin(), meshes_.end(), hit.triangle, [](std::uint32_t id, const MeshRange& m) { return id < m.first_triangle; });
    const MeshRange& mesh = *std::prev(after);
    out.surface = mesh.surface;
    if (mesh.smooth) {
      const Vec3 s = w * normals_[t[0]] + u * normals_[t[1]] + v * normals_[t[2]];
      if (s.squaredNorm() > 1e-12f) {
        out.shading_normal = s.normalized();
        if (out.shading_normal.dot(out.normal) < 0) {
          out.normal = -out.normal;  // the file's normals say which side is out
        }
      }
    }
  }
  // Rounding of the hit's place: a few units in the last place of its coordinates and of the path to it.
  out.offset = 4e-7f * (out.position.cwiseAbs().maxCoeff() + ray.origin.cwiseAbs().maxCoeff() + hit.t);
  return out;
}

std::size_t World::memory_bytes() const {
  return shapes_.size() * sizeof(PlacedShape) + shape_bvh_.nodes.size() * sizeof(BvhNode) +
         positions_.size() * sizeof(Vec3) + normals_.size() * sizeof(Vec3) + triangles_.size() * sizeof(triangles_[0]) +
         packets_.size() * sizeof(TrianglePacket) + triangle_bvh_.nodes.size() * sizeof(BvhNode);
}

}  // namespace jovilux
