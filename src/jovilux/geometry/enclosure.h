#pragma once

#include "jovilux/geometry/ray.h"
#include "jovilux/geometry/shapes.h"
#include "jovilux/geometry/solid.h"
#include "jovilux/geometry/world.h"

#include <memory>
#include <variant>
#include <vector>

namespace jovilux {

/// A volume: what lies inside a closed shape, a solid or a mesh without holes. Cheap to copy.
class Enclosure {
 public:
  Enclosure(const Shape& shape, const Transform& to_world)
      : to_local_(to_world.inverse()), inside_(shape) {}
  Enclosure(std::shared_ptr<const Solid> solid,
            const Transform& to_world,
            const MarchSettings& march);
  /// `world` holds the mesh alone, in world space.
  explicit Enclosure(std::shared_ptr<const World> world) : inside_(std::move(world)) {}

  bool contains(const Vec3d& p) const;
  /// Whether a point of a surface, computed in single precision, lies inside or on the boundary: a
  /// floor in the plane of a box's face is inside, whatever the rounding of its points.
  bool contains_or_touches(const Vec3d& p) const;
  /// Appends the distances in (0, end) at which a ray passes the surface, increasing.
  void crossings(const Ray& ray, double end, std::vector<float>& out) const;
  /// A box that holds it [m]; Bounds::everywhere() where it has no end on some side.
  Bounds bounds() const;

 private:
  struct Marched {
    std::shared_ptr<const Solid> solid;
    MarchSettings march;
  };
  Transform to_local_;
  std::variant<Shape, std::shared_ptr<const Marched>, std::shared_ptr<const World>> inside_;
};

}  // namespace jovilux
