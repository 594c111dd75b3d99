#pragma once

#include "jovilux/geometry/bvh.h"
#include "jovilux/geometry/mesh.h"
#include "jovilux/geometry/ray.h"
#include "jovilux/geometry/shapes.h"
#include "jovilux/geometry/solid.h"
#include "jovilux/geometry/transform.h"
#include "jovilux/geometry/triangle_set.h"

#include <array>
#include <cstdint>
#include <memory>
#include <vector>

namespace jovilux {

/// Where a ray meets the world.
struct Hit {
  float t = kFar;
  /// The analytic shape or, counted on behind those, the solid; or.
  std::uint32_t shape = kNoIndex;
  /// The triangle, with the weights of its second and third corner,.
  std::uint32_t triangle = kNoIndex;
  std::uint32_t copy = kNoIndex;  ///< of this copy's set; kNoIndex: of the world's own
  float u = 0, v = 0;

  bool found() const { return shape != kNoIndex || triangle != kNoIndex; }
};

/// A point of a surface, in world space.
struct SurfacePoint {
  Vec3 position;
  Vec3 normal;          ///< geometric, unit, outwards where the surface has an outside
  Vec3 shading_normal;  ///< unit; the mesh's interpolated normal, in the same half space
  std::uint32_t surface = kNoIndex;  ///< the number given when it was added
  /// How far along the normal a new ray must start to be clear of the surface [m].
  float offset = 0;
  /// Where pictures on the surface are read; of what has none of its own, see World::point.
  Vec2 uv = Vec2::Zero();
};

/// An analytic shape with its place. Its ray test runs in its own space, in double precision.
struct PlacedShape {
  Shape shape;
  Transform to_world, to_local;
  std::uint32_t surface = kNoIndex;
};

/// A solid with its place.
struct PlacedSolid {
  std::shared_ptr<const Solid> solid;
  Transform to_world, to_local;
  MarchSettings march;  ///< in the solid's own space
  std::uint32_t surface = kNoIndex;
};

/// A copy of a set of triangles, at a place of its own.
struct PlacedTriangles {
  std::shared_ptr<const TriangleSet> triangles;
  Transform to_world, to_local;
  std::vector<std::uint32_t> surfaces;  ///< by the number of the mesh in the set
};

/// What lies in a ray's way: nothing, only surfaces that let some light straight on as far as is
/// known, or one that does not.
enum class Obstacle { kNone, kPassable, kOpaque };

/// All surfaces of a scene and the answers to rays. Filled by add_*, then build(); immutable and
/// shared afterwards.
class World {
 public:
  /// `surface` is a number of the caller's that comes back with each hit.
  void add_shape(const Shape& shape, const Transform& to_world, std::uint32_t surface);
  void add_solid(std::shared_ptr<const Solid> solid,
                 const Transform& to_world,
                 std::uint32_t surface,
                 const MarchSettings& march);
  /// The mesh must be faultless (mesh_fault) and in world space already.
  void add_mesh(const Mesh& mesh, std::uint32_t surface);
  /// Places a built set of triangles once more: its memory is shared. `surfaces` by the number of
  /// the mesh in the set.
  void add_copy(std::shared_ptr<const TriangleSet> triangles,
                const Transform& to_world,
                std::vector<std::uint32_t> surfaces);
  /// Takes the meshes and copies of another world that is built, instead of any of its own.
  void share_meshes(const World& other) {
    meshes_ = other.meshes_;
    copies_ = other.copies_;
  }
  /// For scenes without pictures: point() leaves the places of shapes and solids on pictures at 0,
  /// which saves an arc tangent and an arc sine a hit.
  void skip_places() { tells_places_ = false; }
  /// `split`: see TriangleSet::build.
  void build(bool split = true);

  /// The nearest hit with t in (0, ray.t_max). Triangles are watertight: a ray cannot pass between
  /// two that share an edge.
  Hit closest(const Ray& ray) const;
  /// Whether anything lies in (0, ray.t_max), not counting the analytic shapes of surface
  /// `ignored`.
  bool blocked(const Ray& ray, std::uint32_t ignored = kNoIndex) const;

  /// After build(): which surface numbers let some light straight on, as panes and masks do. Those
  /// beyond the list's end do not.
  void mark_passable(const std::vector<bool>& surfaces);
  /// As blocked(), telling what blocks the ray; needs mark_passable().
  Obstacle obstacle(const Ray& ray, std::uint32_t ignored = kNoIndex) const;

  /// Places on pictures: of meshes their own; of shapes over the unit square (sphere, cylinder,
  /// cone and torus: around and along the axis; box: each side); of planes, solids and meshes
  /// without any, meters along the two axes that the normal turns away from most.
  SurfacePoint point(const Ray& ray, const Hit& hit) const;
  std::uint32_t surface_of(const Hit& hit) const;
  /// A starting point for a ray that leaves p towards `direction`, clear of the surface on that
  /// side.
  static Vec3 leave(const SurfacePoint& p, const Vec3& direction) {
    return p.position + (p.normal.dot(direction) > 0 ? p.offset : -p.offset) * p.normal;
  }

  /// The box of all bounded surfaces.
  const Bounds& bounds() const { return bounds_; }
  /// Whether there are surfaces without bounds, such as planes.
  bool has_endless() const { return !endless_.empty(); }
  /// The box of all that bears each surface number below `count`; empty where nothing does, endless
  /// where something is.
  std::vector<Bounds> surface_bounds(std::size_t count) const;
  /// Triangles of the world's own meshes, and how many boxes stand for them
  /// (TriangleSet::box_count).
  std::size_t triangle_count() const { return meshes_->triangle_count(); }
  std::size_t box_count() const { return meshes_->box_count(); }
  const std::vector<PlacedShape>& shapes() const { return shapes_; }
  const std::vector<PlacedSolid>& solids() const { return solids_; }
  /// Bytes held by triangles, shapes and hierarchies; a set that has copies counts once.
  std::size_t memory_bytes() const;
  /// The vector instructions that ray queries run on, such as "AVX2".
  static const char* instruction_set();

 private:
  friend struct WorldQueries;

  // `passable_meshes`, `passable_copies`: the world's own meshes, all copies count as passable.
  Obstacle first_obstacle(const Ray& ray,
                          std::uint32_t ignored,
                          bool passable_meshes,
                          bool passable_copies) const;

  SurfacePoint shape_point(const Ray& ray, const Hit& hit) const;
  SurfacePoint solid_point(const Ray& ray, const Hit& hit) const;
  SurfacePoint triangle_point(const Ray& ray, const Hit& hit) const;
  static float move_to_copy(const PlacedTriangles& copy, const Ray& ray, TriangleSet::Place& place);

  std::vector<PlacedShape> shapes_;
  std::vector<PlacedSolid> solids_;
  std::vector<std::uint32_t> endless_;  ///< shapes and solids without bounds, tested by every ray
  Bvh shape_bvh_;

  /// In world space; several worlds may share them.
  std::shared_ptr<TriangleSet> meshes_ = std::make_shared<TriangleSet>();
  std::vector<PlacedTriangles> copies_;
  Bounds bounds_;
  bool tells_places_ = true;
  // By shape, solid and copy: whether it lets light straight on; and the world's own meshes.
  std::vector<std::uint8_t> passable_;
  bool passable_meshes_ = false;
  std::vector<bool> in_meshes_;  // surface numbers that meshes and copies bear
};

/// What traversal reads of a World; internal to geometry.
struct WorldQueries {
  const PlacedShape* shapes;
  std::size_t shape_count;
  const PlacedSolid* solids;
  std::size_t solid_count;
  const PlacedTriangles* copies;
  const std::uint32_t* endless;
  std::size_t endless_count;
  const BvhNode* shape_nodes;
  const std::uint32_t* shape_order;
  const TriangleSet* triangles;
  const std::uint8_t* passable;

  static WorldQueries of(const World& world) {
    return {world.shapes_.data(),
            world.shapes_.size(),
            world.solids_.data(),
            world.solids_.size(),
            world.copies_.data(),
            world.endless_.data(),
            world.endless_.size(),
            world.shape_bvh_.nodes.empty() ? nullptr : world.shape_bvh_.nodes.data(),
            world.shape_bvh_.order.data(),
            world.meshes_.get(),
            world.passable_.data()};
  }
};

}  // namespace jovilux
