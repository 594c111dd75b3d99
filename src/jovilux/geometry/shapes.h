#pragma once

#include "jovilux/geometry/ray.h"
#include "jovilux/geometry/transform.h"

#include <cmath>
#include <cstdint>
#include <optional>
#include <string_view>
#include <vector>

namespace jovilux {

/// Analytic surfaces, centered on their origin.
enum class ShapeKind : std::uint8_t {
  kBox,
  kSphere,
  kPlane,
  kRect,
  kDisk,
  kCylinder,
  kCone,
  kTorus
};
std::string_view to_string(ShapeKind kind);
std::optional<ShapeKind> parse_shape_kind(std::string_view text);
std::vector<std::string> shape_kind_names();

/// Sizes in meters:
///
///     box       half extents a, b, c
///     sphere    radius a
///     plane     none: z = 0, endless
///     rect      half sides a, b in z = 0
///     disk      radius a in z = 0
///     cylinder  radius a, half height c along z
///     cone      radius a at z = -c, b at z = +c
///     torus     ring radius a, tube radius b, about z
///
/// `open` leaves out the caps of cylinder and cone.
struct Shape {
  ShapeKind kind = ShapeKind::kSphere;
  double a = 1, b = 1, c = 1;
  bool open = false;

  /// Whether it encloses a volume.
  bool closed() const {
    return kind == ShapeKind::kBox || kind == ShapeKind::kSphere || kind == ShapeKind::kTorus ||
           ((kind == ShapeKind::kCylinder || kind == ShapeKind::kCone) && !open);
  }
  /// Whether it lies in z = 0.
  bool is_flat() const {
    return kind == ShapeKind::kPlane || kind == ShapeKind::kRect || kind == ShapeKind::kDisk;
  }
  /// Whether z is its axis or normal, which follows the scene's up; a box has none.
  bool has_axis() const { return kind != ShapeKind::kBox; }
  /// An endless cylinder has c = infinity.
  bool bounded() const {
    return kind != ShapeKind::kPlane && !(kind == ShapeKind::kCylinder && std::isinf(c));
  }
};

/// The smallest t in (t_min, t_max) at which origin + t direction meets the shape, in the shape's
/// own space; the direction need not be of length 1. Negative where there is none. Double precision
/// throughout, so that a hit lies on the surface within 1e-12 of the coordinates' size.
double intersect(
    const Shape& shape, const Vec3d& origin, const Vec3d& direction, double t_min, double t_max);

/// The unit normal at a point of the surface, outwards (rect, disk, plane: +z).
Vec3d normal_at(const Shape& shape, const Vec3d& p);

/// The place on a picture of a point of the surface, in the unit square: box: across each side;
/// rect, disk: across; sphere:
/// around z and up; cylinder, cone: around z and up the mantle, across the caps; torus: around and
/// about the tube. The plane: (x, y) in meters.
Vec2 uv_at(const Shape& shape, const Vec3d& p);

/// The place on a picture of surfaces without places of their own: meters along the two axes that
/// the normal turns away from most.
Vec2 flat_uv(const Vec3d& p, const Vec3d& normal);

/// Whether a point lies inside a closed shape, or below a plane; false for shapes that enclose
/// nothing.
bool contains(const Shape& shape, const Vec3d& p);

/// Corners of the box that holds the shape. Requires bounded().
void extents(const Shape& shape, Vec3d& lo, Vec3d& hi);

/// Real roots of c[0] + c[1] t + .. + c[degree] t^degree in [lo, hi], increasing, at most `degree`;
/// returns their number. degree <= 4. Each lies in an interval of monotony and is found by
/// bisection with Newton steps, so none is lost to cancellation but double ones that the rounding
/// of the coefficients erases.
int polynomial_roots(const double* c, int degree, double lo, double hi, double* roots);

}  // namespace jovilux
