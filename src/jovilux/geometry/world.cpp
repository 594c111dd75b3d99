#include "jovilux/geometry/world.h"

#include "jovilux/base/assert.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

namespace jovilux {
namespace {

// The box of a turned box, moved out by a rounding: a hit lies inside it in single precision as
// well.
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

void World::add_solid(std::shared_ptr<const Solid> solid,
                      const Transform& to_world,
                      std::uint32_t surface,
                      const MarchSettings& march) {
  PlacedSolid placed{std::move(solid), to_world, to_world.inverse(), march, surface};
  // The tolerance in the solid's own space, where its scale is least.
  placed.march.tolerance *= placed.to_local.linear.colwise().norm().minCoeff();
  solids_.push_back(std::move(placed));
}

void World::add_mesh(const Mesh& mesh, std::uint32_t surface) { meshes_->add(mesh, surface); }

void World::add_copy(std::shared_ptr<const TriangleSet> triangles,
                     const Transform& to_world,
                     std::vector<std::uint32_t> surfaces) {
  JOVILUX_ASSERT(triangles != nullptr && triangles->is_built());
  copies_.push_back({std::move(triangles), to_world, to_world.inverse(), std::move(surfaces)});
}

std::vector<Bounds> World::surface_bounds(std::size_t count) const {
  std::vector<Bounds> out(count);
  for (const PlacedShape& s : shapes_) {
    Bounds box = Bounds::everywhere();
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
    out[s.surface].add(s.solid->bounded() ? turned_box(s.solid->lo(), s.solid->hi(), s.to_world)
                                          : Bounds::everywhere());
  }
  meshes_->mesh_bounds([&](std::uint32_t surface, const Bounds& box) { out[surface].add(box); });
  // Of each set's meshes, looked at once.
  std::map<const TriangleSet*, std::vector<std::pair<std::uint32_t, Bounds>>> boxes;
  for (const PlacedTriangles& c : copies_) {
    auto& meshes = boxes[c.triangles.get()];
    if (meshes.empty()) {
      c.triangles->mesh_bounds(
          [&](std::uint32_t mesh, const Bounds& box) { meshes.emplace_back(mesh, box); });
    }
    for (const auto& [mesh, box] : meshes) {
      out[c.surfaces[mesh]].add(
          turned_box(box.lo.cast<double>(), box.hi.cast<double>(), c.to_world));
    }
  }
  return out;
}

// Prepared once: whether a surface may let light pass decides how a shadow ray is followed.
void World::mark_passable(const std::vector<bool>& surfaces) {
  const auto passes = [&](std::uint32_t surface) {
    return surface < surfaces.size() && surfaces[surface];
  };
  passable_.clear();
  for (const PlacedShape& s : shapes_) {
    passable_.push_back(passes(s.surface) ? 1 : 0);
  }
  for (const PlacedSolid& s : solids_) {
    passable_.push_back(passes(s.surface) ? 1 : 0);
  }
  passable_meshes_ = false;
  in_meshes_.clear();
  const auto bears = [&](std::uint32_t surface) {
    in_meshes_.resize(std::max<std::size_t>(in_meshes_.size(), surface + std::size_t{1}));
    in_meshes_[surface] = true;
    return passes(surface);
  };
  meshes_->mesh_numbers(
      [&](std::uint32_t surface) { passable_meshes_ = bears(surface) || passable_meshes_; });
  for (const PlacedTriangles& c : copies_) {
    bool any = false;
    for (const std::uint32_t surface : c.surfaces) {
      any = bears(surface) || any;
    }
    passable_.push_back(any ? 1 : 0);
  }
}

Obstacle World::obstacle(const Ray& ray, std::uint32_t ignored) const {
  JOVILUX_ASSERT(passable_.size() == shapes_.size() + solids_.size() + copies_.size());
  // A light's body that meshes bear is not told from the rest of them here.
  const bool unknown = ignored < in_meshes_.size() && in_meshes_[ignored];
  return first_obstacle(ray, ignored, unknown || passable_meshes_, unknown);
}

// Shapes, solids and copies share one hierarchy; triangles of meshes have their own.
void World::build(bool split) {
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
  for (std::size_t i = 0; i < copies_.size(); ++i) {
    const Bounds& own = copies_[i].triangles->bounds();
    add(static_cast<std::uint32_t>(shapes_.size() + solids_.size() + i),
        turned_box(own.lo.cast<double>(), own.hi.cast<double>(), copies_[i].to_world));
  }
  shape_bvh_ = build_bvh(items, {.leaf_size = 2, .items_per_test = 1, .node_cost = 0.5f});
  bounds_ = shape_bvh_.bounds;

  if (!meshes_->is_built()) {
    meshes_->build(split);
  }
  if (meshes_->triangle_count() > 0) {
    bounds_.add(meshes_->bounds());
  }
}

std::uint32_t World::surface_of(const Hit& hit) const {
  if (hit.shape != kNoIndex) {
    return hit.shape < shapes_.size() ? shapes_[hit.shape].surface
                                      : solids_[hit.shape - shapes_.size()].surface;
  }
  if (hit.copy != kNoIndex) {
    return copies_[hit.copy].surfaces[copies_[hit.copy].triangles->mesh_of(hit.triangle)];
  }
  return meshes_->mesh_of(hit.triangle);
}

SurfacePoint World::point(const Ray& ray, const Hit& hit) const {
  JOVILUX_HOT_ASSERT(hit.found());
  SurfacePoint out = hit.shape == kNoIndex        ? triangle_point(ray, hit)
                     : hit.shape < shapes_.size() ? shape_point(ray, hit)
                                                  : solid_point(ray, hit);
  // Rounding of the hit's place: a few units in the last place of its coordinates and of the path
  // to it.
  out.offset +=
      4e-7f * (out.position.cwiseAbs().maxCoeff() + ray.origin.cwiseAbs().maxCoeff() + hit.t);
  return out;
}

SurfacePoint World::shape_point(const Ray& ray, const Hit& hit) const {
  const PlacedShape& placed = shapes_[hit.shape];
  const Vec3d world =
      ray.origin.cast<double>() + static_cast<double>(hit.t) * ray.direction.cast<double>();
  const Vec3d local = placed.to_local.point(world);
  const Vec3d normal = normal_at(placed.shape, local);
  SurfacePoint out;
  out.position = world.cast<float>();
  out.normal = (placed.to_local.linear.transpose() * normal).normalized().cast<float>();
  out.shading_normal = out.normal;
  out.surface = placed.surface;
  if (tells_places_) {
    out.uv = placed.shape.kind == ShapeKind::kPlane ? flat_uv(local, normal)
                                                    : uv_at(placed.shape, local);
  }
  return out;
}

SurfacePoint World::solid_point(const Ray& ray, const Hit& hit) const {
  const PlacedSolid& placed = solids_[hit.shape - shapes_.size()];
  const Vec3d world =
      ray.origin.cast<double>() + static_cast<double>(hit.t) * ray.direction.cast<double>();
  const Vec3d local = placed.to_local.point(world);
  // What is finer than the tolerance, or than a pixel would show from the ray's start, is no part
  // of the normal.
  const double speed = placed.to_local.vector(ray.direction.cast<double>()).norm();
  const double h =
      std::max(0.25 * placed.march.tolerance, 1e-5 * speed * static_cast<double>(hit.t));
  const Vec3d normal = placed.solid->normal(local, h);
  SurfacePoint out;
  out.position = world.cast<float>();
  out.normal = (placed.to_local.linear.transpose() * normal).normalized().cast<float>();
  out.shading_normal = out.normal;
  out.surface = placed.surface;
  if (tells_places_) {
    out.uv = flat_uv(local, normal);
  }
  return out;
}

// The place on a triangle of a copy, moved to where the copy stands; the rounding that this adds.
float World::move_to_copy(const PlacedTriangles& copy, const Ray& ray, TriangleSet::Place& place) {
  // Rounding of the ray and the place in the copy's own space.
  const Vec3d start = copy.to_local.point(ray.origin.cast<double>());
  const double rounding = 8e-7 * copy.to_world.linear.cwiseAbs().rowwise().sum().maxCoeff() *
                          std::max(start.cwiseAbs().maxCoeff(),
                                   static_cast<double>(place.position.cwiseAbs().maxCoeff()));
  const auto moved = [&](const Vec3& p) {
    return Vec3(copy.to_world.point(p.cast<double>()).cast<float>());
  };
  place.position = moved(place.position);
  for (Vec3& c : place.corner) {
    c = moved(c);
  }
  place.normal = (copy.to_local.linear.transpose() * place.normal.cast<double>()).cast<float>();
  return static_cast<float>(rounding);
}

SurfacePoint World::triangle_point(const Ray& ray, const Hit& hit) const {
  const PlacedTriangles* copy = hit.copy == kNoIndex ? nullptr : &copies_[hit.copy];
  TriangleSet::Place place =
      (copy == nullptr ? *meshes_ : *copy->triangles).place(hit.triangle, hit.u, hit.v);
  SurfacePoint out;
  out.surface = copy == nullptr ? place.mesh : copy->surfaces[place.mesh];
  if (copy != nullptr) {
    out.offset = move_to_copy(*copy, ray, place);
  }
  out.position = place.position;
  const Vec3 n = (place.corner[1] - place.corner[0]).cross(place.corner[2] - place.corner[0]);
  const float length = n.norm();
  out.normal = length > 0 ? Vec3(n / length) : Vec3(-ray.direction);
  out.shading_normal = out.normal;
  out.uv =
      place.has_uv ? place.uv : flat_uv(out.position.cast<double>(), out.normal.cast<double>());
  if (const float smooth = place.normal.norm(); smooth > 1e-6f) {
    out.shading_normal = place.normal / smooth;
    if (out.shading_normal.dot(out.normal) < 0) {
      out.normal = -out.normal;  // the file's normals say which side is out
    }
  }
  return out;
}

std::size_t World::memory_bytes() const {
  std::size_t bytes = shapes_.size() * sizeof(PlacedShape) +
                      copies_.size() * sizeof(PlacedTriangles) +
                      shape_bvh_.nodes.size() * sizeof(BvhNode) + meshes_->memory_bytes();
  std::set<const TriangleSet*> counted;
  for (const PlacedTriangles& c : copies_) {
    bytes += counted.insert(c.triangles.get()).second ? c.triangles->memory_bytes() : 0;
  }
  return bytes;
}

}  // namespace jovilux
