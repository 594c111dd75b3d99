#pragma once

#include "jovilux/base/vec.h"
#include "jovilux/geometry/mesh.h"
#include "jovilux/geometry/shapes.h"
#include "jovilux/geometry/transform.h"

#include <functional>
#include <optional>
#include <vector>

namespace jovilux {

/// A place on a surface.
struct SurfaceSample {
  Vec3 position = Vec3::Zero();
  Vec3 normal = Vec3::UnitZ();  ///< unit, as World::point gives it
  float pdf_area = 0;           ///< [1/m2]; 0: no place
  float covered = 1;            ///< how much of the surface is there, 0..1
};

/// How much of a surface a mask leaves at a place on its picture, 0..1; empty: all of it.
using Cover = std::function<float(const Vec2& uv)>;

/// The surface of an object that emits, ready for choosing places on it: triangles evenly over
/// their area; analytic shapes evenly in their own space, so that a place's density follows from
/// how the transform stretches it there.
class LuminousSurface {
 public:
  /// A mesh in world space. Its mask is looked up by the mesh's own places, or by flat_uv().
  explicit LuminousSurface(Mesh mesh, Cover cover = {});
  /// Requires bounded().
  LuminousSurface(const Shape& shape, const Transform& to_world, Cover cover = {});

  /// What emits [m2], in world space, without what a mask cuts out.
  double area() const { return area_ * share_left_; }
  const Vec3d& center() const { return center_; }  ///< mean of the area
  /// Radius of the ball around it that holds the surface.
  double reach() const { return reach_; }
  SurfaceSample sample(const Vec2& u) const;
  /// Density with which sample() chooses the place of this normal [1/m2].
  float pdf_area(const Vec3& normal) const;

 private:
  double stretch(const Vec3d& local_normal) const;  // world area per local area
  double share_left() const;                        // of the area, by the mask

  Mesh mesh_;
  std::vector<double> cumulative_;
  std::optional<Shape> shape_;
  Transform to_world_, to_local_;
  double local_area_ = 0;
  double area_ = 0, reach_ = 0;
  Cover cover_;
  double share_left_ = 1;
  Vec3d center_ = Vec3d::Zero();
};

/// Surface area of a bounded shape, caps included where it has them.
double surface_area(const Shape& shape);
/// A place of a bounded shape's surface, even over its area. u in [0, 1)^2.
Vec3d surface_place(const Shape& shape, double u, double v, Vec3d& normal);

}  // namespace jovilux
