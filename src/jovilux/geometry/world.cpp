#include "jovilux/geometry/world.h"

#include <algorithm>
#include <cmath>

#include "jovilux/base/assert.h"

namespace jovilux {
namespace {

// Meters along the two axes that the normal turns away from most.
Vec2 flat_uv(const Vec3d& p, const Vec3d& normal) {
  int axis = 0;
  normal.cwiseAbs().maxCoeff(&axis);
  const Vec3 q = p.cast<float>();
  return axis == 0 ? Vec2(q.y(), q.z()) : axis == 1 ? Vec2(q.x(), q.z()) : Vec2(q.x(), q.y());
}

// The box of a turned box, moved out by a rounding: a hit lies inside it in single precision as well.
Bounds turned_box(const Vec3d& lo, const Vec3d& hi, const Transform& m) {
  const Vec3d half = m.linear.cwiseAbs() * (0.5 * (hi - lo));
  const Vec3d center = m.point(0.5 * (lo + hi));
  const Vec3d reach = half + (1e-6 * (center.cwiseAbs() + half)) + Vec3d::Constant(1e-7);
  return {(center - reach).cast<float>(), (center + reach).cast<float>()};
}

}  // namespace

void World::add_shape(const Shape& shape, const Transform& to_world, std::uint32_t surface) {
  if (!shape.bounded()) {
    endless_.push_back(static_cast<std::uint32_t>(shapes_.size()));
  }
  shapes_.push_back({shape, to_world, to_world.inverse(), surface});
}

void World::add_solid(std::shared_ptr<const Solid> solid, const Transform& to_world, std::uint32_t surface, const MarchSettings& march) {
  PlacedSolid placed{std::move(solid), to_world, to_world.inverse(), march, surface};
  // The tolerance in the solid's own space, where its scale is least.
  placed.march.tolerance *= placed.to_local.linear.colwise().norm().minCoeff();
  solids_.push_back(std::move(placed));
}

void World::add_mesh(Mesh mesh, std::uint32_t surface) {
  const auto first_vertex = static_cast<std::uint32_t>(meshes_->positions.size());
  const bool smooth = !mesh.normals.empty();
  const bool has_uv = !mesh.uvs.empty();
  meshes_->ranges.push_back({static_cast<std::uint32_t>(meshes_->triangles.size()), surface, smooth, has_uv});
  meshes_->positions.insert(meshes_->positions.end(), mesh.positions.begin(), mesh.positions.end());
  if (smooth) {
    meshes_->normals.resize(first_vertex, Vec3::Zero());
    meshes_->normals.insert(meshes_->normals.end(), mesh.normals.begin(), mesh.normals.end());
  }
  if (has_uv) {
    meshes_->uvs.resize(first_vertex, Vec2::Zero());
    meshes_->uvs.insert(meshes_->uvs.end(), mesh.uvs.begin(), mesh.uvs.end());
  }
  meshes_->triangles.reserve(meshes_->triangles.size() + mesh.triangles.size());
  for (const auto& t : mesh.triangles) {
    meshes_->triangles.push_back({t[0] + first_vertex, t[1] + first_vertex, t[2] + first_vertex});
  }
}

std::vector<Bounds> World::surface_bounds(std::size_t count) const {
  std::vector<Bounds> out(count);
  for (const PlacedShape& s : shapes_) {
    Bounds box{Vec3::Constant(-kFar), Vec3::Constant(kFar)};
    if (s.shape.bounded()) {
      Vec3d lo, hi;
      extents(s.shape, lo, hi);
      box = turned_box(lo, hi, s.to_world);
    } else if (s.shape.kind == ShapeKind::kPlane) {  // level with two axes: thin
      const Vec3d normal = s.to_local.linear.row(2).transpose().normalized();
      for (int a = 0; a < 3; ++a) {
        if (std::abs(std::abs(normal[a]) - 1) < 1e-12) {
          box.lo[a] = box.hi[a] = static_cast<float>(s.to_world.offset[a]);
        }
      }
    }
    out[s.surface].add(box);
  }
  for (const PlacedSolid& s : solids_) {
    out[s.surface].add(s.solid->bounded() ? turned_box(s.solid->lo(), s.solid->hi(), s.to_world) : Bounds{Vec3::Constant(-kFar), Vec3::Constant(kFar)});
  }
  for (std::size_t r = 0; r < meshes_->ranges.size(); ++r) {
    const std::size_t last = r + 1 < meshes_->ranges.size() ? meshes_->ranges[r + 1].first_triangle : meshes_->triangles.size();
    for (std::size_t t = meshes_->ranges[r].first_triangle; t < last; ++t) {
      for (const std::uint32_t corner : meshes_->triangles[t]) {
        out[meshes_->ranges[r].surface].add(meshes_->positions[corner]);
      }
    }
  }
  return out;
}

void World::build() {
  std::vector<BoxedItem> items;
  const auto add = [&](std::uint32_t id, const Bounds& box) {
    BoxedItem item{};
    for (int a = 0; a < 3; ++a) {
      item.lo[a] = box.lo[a];
      item.hi[a] = box.hi[a];
    }
    item.id = id;
    items.push_back(item);
  };
  for (std::uint32_t i = 0; i < shapes_.size(); ++i) {
    if (shapes_[i].shape.bounded()) {
      Vec3d lo, hi;
      extents(shapes_[i].shape, lo, hi);
      add(i, turned_box(lo, hi, shapes_[i].to_world));
    }
  }
  for (std::size_t i = 0; i < solids_.size(); ++i) {
    const PlacedSolid& s = solids_[i];
    const auto id = static_cast<std::uint32_t>(shapes_.size() + i);
    if (s.solid->bounded()) {
      add(id, turned_box(s.solid->lo(), s.solid->hi(), s.to_world));
    } else {
      endless_.push_back(id);
    }
  }
  shape_bvh_ = build_bvh(items, {.leaf_size = 2, .items_per_test = 1, .node_cost = 0.5f});
  bounds_ = shape_bvh_.bounds;

  if (!meshes_->built) {
    build_meshes();
  }
  if (!meshes_->bvh.nodes.empty()) {
    bounds_.add(meshes_->bvh.bounds);
  }
}

void World::build_meshes() {
  meshes_->built = true;
  std::vector<BoxedItem> items;
  items.assign(meshes_->triangles.size(), BoxedItem{});
  for (std::uint32_t i = 0; i < meshes_->triangles.size(); ++i) {
    const auto& t = meshes_->triangles[i];
    const Vec3 lo = meshes_->positions[t[0]].cwiseMin(meshes_->positions[t[1]]).cwiseMin(meshes_->positions[t[2]]);
    const Vec3 hi = meshes_->positions[t[0]].cwiseMax(meshes_->positions[t[1]]).cwiseMax(meshes_->positions[t[2]]);
    for (int a = 0; a < 3; ++a) {
      items[i].lo[a] = lo[a];
      items[i].hi[a] = hi[a];
    }
    items[i].id = i;
  }
  meshes_->bvh = build_bvh(items, {.leaf_size = 8, .items_per_test = 4, .node_cost = 0.5f});
  items = {};

  meshes_->packets.reserve(meshes_->triangles.size() / 3 + 1);
  for (BvhNode& node : meshes_->bvh.nodes) {
    for (std::uint32_t& child : node.child) {
      if (child == BvhNode::kNoChild || !BvhNode::is_leaf(child)) {
        continue;
      }
      const std::uint32_t first = BvhNode::leaf_first(child), count = BvhNode::leaf_count(child);
      const auto first_packet = static_cast<std::uint32_t>(meshes_->packets.size());
      for (std::uint32_t i = 0; i < count; i += 4) {
        TrianglePacket packet;
        for (std::uint32_t lane = 0; lane < 4; ++lane) {
          const bool used = i + lane < count;
          packet.id[lane] = used ? meshes_->bvh.order[first + i + lane] : kNoIndex;
          for (int corner = 0; corner < 3; ++corner) {
            for (int axis = 0; axis < 3; ++axis) {
              packet.corner[corner][axis][lane] =
                  used ? meshes_->positions[meshes_->triangles[packet.id[lane]][static_cast<std::size_t>(corner)]][axis] : 0.0f;
            }
          }
        }
        meshes_->packets.push_back(packet);
      }
      child = BvhNode::leaf(first_packet, (count + 3) / 4);
    }
  }
  meshes_->packets.shrink_to_fit();
  meshes_->bvh.order = {};
}

std::uint32_t World::surface_of(const Hit& hit) const {
  if (hit.shape != kNoIndex) {
    return hit.shape < shapes_.size() ? shapes_[hit.shape].surface : solids_[hit.shape - shapes_.size()].surface;
  }
  const auto after = std::upper_bound(meshes_->ranges.begin(), meshes_->ranges.end(), hit.triangle, [](std::uint32_t t, const MeshRange& m) {
    return t < m.first_triangle;
  });
  return std::prev(after)->surface;
}

SurfacePoint World::point(const Ray& ray, const Hit& hit) const {
  JOVILUX_HOT_ASSERT(hit.found());
  SurfacePoint out;
  if (hit.shape != kNoIndex && hit.shape >= shapes_.size()) {
    const PlacedSolid& placed = solids_[hit.shape - shapes_.size()];
    const Vec3d world = ray.origin.cast<double>() + static_cast<double>(hit.t) * ray.direction.cast<double>();
    const Vec3d local = placed.to_local.point(world);
    // What is finer than the tolerance, or than a pixel would show from the ray's start, is no part of the normal.
    const double speed = placed.to_local.vector(ray.direction.cast<double>()).norm();
    const double h = std::max(0.25 * placed.march.tolerance, 1e-5 * speed * static_cast<double>(hit.t));
    const Vec3d normal = placed.solid->normal(local, h);
    out.position = world.cast<float>();
    out.normal = (placed.to_local.linear.transpose() * normal).normalized().cast<float>();
    out.shading_normal = out.normal;
    out.surface = placed.surface;
    out.uv = flat_uv(local, normal);
  } else if (hit.shape != kNoIndex) {
    const PlacedShape& placed = shapes_[hit.shape];
    const Vec3d world = ray.origin.cast<double>() + static_cast<double>(hit.t) * ray.direction.cast<double>();
    const Vec3d local = placed.to_local.point(world);
    out.position = world.cast<float>();
    const Vec3d normal = normal_at(placed.shape, local);
    out.normal = (placed.to_local.linear.transpose() * normal).normalized().cast<float>();
    out.shading_normal = out.normal;
    out.surface = placed.surface;
    out.uv = placed.shape.kind == ShapeKind::kPlane ? flat_uv(local, normal) : uv_at(placed.shape, local);
  } else {
    const auto& t = meshes_->triangles[hit.triangle];
    const Vec3 &a = meshes_->positions[t[0]], &b = meshes_->positions[t[1]], &c = meshes_->positions[t[2]];
    const float u = hit.u, v = hit.v, w = 1 - u - v;
    out.position = w * a + u * b + v * c;
    const Vec3 n = (b - a).cross(c - a);
    const float length = n.norm();
    out.normal = length > 0 ? Vec3(n / length) : Vec3(-ray.direction);
    out.shading_normal = out.normal;
    const auto after = std::upper_bound(
        meshes_->ranges.begin(), meshes_->ranges.end(), hit.triangle, [](std::uint32_t id, const MeshRange& m) { return id < m.first_triangle; });
    const MeshRange& mesh = *std::prev(after);
    out.surface = mesh.surface;
    if (mesh.has_uv) {
      out.uv = w * meshes_->uvs[t[0]] + u * meshes_->uvs[t[1]] + v * meshes_->uvs[t[2]];
    } else {
      out.uv = flat_uv(out.position.cast<double>(), out.normal.cast<double>());
    }
    if (mesh.smooth) {
      const Vec3 s = w * meshes_->normals[t[0]] + u * meshes_->normals[t[1]] + v * meshes_->normals[t[2]];
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
         meshes_->positions.size() * sizeof(Vec3) + (meshes_->normals.size() * sizeof(Vec3) + meshes_->uvs.size() * sizeof(Vec2)) + meshes_->triangles.size() * sizeof(meshes_->triangles[0]) +
         meshes_->packets.size() * sizeof(TrianglePacket) + meshes_->bvh.nodes.size() * sizeof(BvhNode);
}

}  // namespace jovilux
