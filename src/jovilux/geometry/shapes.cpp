#include "jovilux/geometry/shapes.h"

#include "jovilux/base/length.h"

#include <algorithm>
#include <cmath>
#include <string>
#include <utility>

namespace jovilux {
namespace {

constexpr std::pair<ShapeKind, std::string_view> kNames[] = {{ShapeKind::kBox, "box"},
                                                             {ShapeKind::kSphere, "sphere"},
                                                             {ShapeKind::kPlane, "plane"},
                                                             {ShapeKind::kRect, "rect"},
                                                             {ShapeKind::kDisk, "disk"},
                                                             {ShapeKind::kCylinder, "cylinder"},
                                                             {ShapeKind::kCone, "cone"},
                                                             {ShapeKind::kTorus, "torus"}};

// The nearest of several candidates inside an interval.
struct Nearest {
  double lo, hi;
  double best = -1;

  bool wants(double t) const { return t > lo && t < hi && (best < 0 || t < best); }
  void offer(double t) {
    if (wants(t)) {
      best = t;
    }
  }
};

double in_plane_z(const Vec3d& o, const Vec3d& d, double z) { return (z - o.z()) / d.z(); }

double box(const Shape& s, const Vec3d& o, const Vec3d& d, Nearest n) {
  double near = -HUGE_VAL, far = HUGE_VAL;
  const double half[3] = {s.a, s.b, s.c};
  for (int i = 0; i < 3; ++i) {
    if (d[i] == 0) {
      if (std::abs(o[i]) > half[i]) {
        return -1;
      }
      continue;
    }
    const double t0 = (-half[i] - o[i]) / d[i], t1 = (half[i] - o[i]) / d[i];
    near = std::max(near, std::min(t0, t1));
    far = std::min(far, std::max(t0, t1));
  }
  if (near <= far) {
    n.offer(near);
    n.offer(far);
  }
  return n.best;
}

double sphere(const Shape& s, const Vec3d& o, const Vec3d& d, Nearest n) {
  // From the point nearest to the center, which keeps the digits of far, small spheres.
  const double dd = d.squaredNorm();
  const double mid = -o.dot(d) / dd;
  const double gap2 = s.a * s.a - (o + mid * d).squaredNorm();
  if (gap2 < 0) {
    return -1;
  }
  const double half = std::sqrt(gap2 / dd);
  n.offer(mid - half);
  n.offer(mid + half);
  return n.best;
}

double flat(const Shape& s, const Vec3d& o, const Vec3d& d, Nearest n) {
  if (d.z() == 0) {
    return -1;
  }
  const double t = in_plane_z(o, d, 0);
  if (!n.wants(t)) {
    return -1;
  }
  const Vec3d p = o + t * d;
  const bool inside = s.kind == ShapeKind::kPlane ||
                      (s.kind == ShapeKind::kRect ? std::abs(p.x()) <= s.a && std::abs(p.y()) <= s.b
                                                  : p.x() * p.x() + p.y() * p.y() <= s.a * s.a);
  return inside ? t : -1;
}

// Cylinder and cone: x^2 + y^2 = (m + k z)^2 between the caps.
double round_wall(const Shape& s, const Vec3d& o, const Vec3d& d, Nearest n) {
  const double bottom = s.a, top = s.kind == ShapeKind::kCone ? s.b : s.a;
  // Endless cylinder: 0 / infinity = 0.
  const double m = 0.5 * (bottom + top), k = (top - bottom) / (2 * s.c);
  const double r0 = m + k * o.z(), r1 = k * d.z();
  const double a = d.x() * d.x() + d.y() * d.y() - r1 * r1;
  const double b = o.x() * d.x() + o.y() * d.y() - r0 * r1;
  const double c = o.x() * o.x() + o.y() * o.y() - r0 * r0;
  const auto offer_wall = [&](double t) {
    const double z = o.z() + t * d.z();
    if (std::abs(z) <= s.c && m + k * z >= 0) {
      n.offer(t);
    }
  };
  const double discriminant = b * b - a * c;
  if (discriminant >= 0) {
    // q and c / q: both roots without cancellation.
    const double q = -(b + std::copysign(std::sqrt(discriminant), b));
    if (a != 0) {
      offer_wall(q / a);
    }
    if (q != 0) {
      offer_wall(c / q);
    }
  }
  if (!s.open && d.z() != 0) {
    for (const double side : {-1.0, 1.0}) {
      const double t = in_plane_z(o, d, side * s.c);
      const Vec3d p = o + t * d;
      const double r = side < 0 ? bottom : top;
      if (p.x() * p.x() + p.y() * p.y() <= r * r) {
        n.offer(t);
      }
    }
  }
  return n.best;
}

double torus(const Shape& s, const Vec3d& o_in, const Vec3d& d_in, Nearest n) {
  // Unit direction, from the point nearest to the center: coefficients of the torus' own size.
  const double length = d_in.norm();
  const Vec3d d = d_in / length;
  const double shift = -o_in.dot(d);
  const Vec3d o = o_in + shift * d;
  const double outer = s.a + s.b;
  const double reach2 = outer * outer - o.squaredNorm();
  if (reach2 < 0) {
    return -1;
  }
  const double oo = o.squaredNorm(), R2 = s.a * s.a;
  const double k = oo + R2 - s.b * s.b;  // (t^2 + k)^2 = 4 R^2 (x^2 + y^2), as o.d = 0
  const double c[5] = {k * k - 4 * R2 * (o.x() * o.x() + o.y() * o.y()),
                       -8 * R2 * (o.x() * d.x() + o.y() * d.y()),
                       2 * k - 4 * R2 * (d.x() * d.x() + d.y() * d.y()),
                       0,
                       1};
  // A little wider than the sphere around the torus, so that a grazing root is not cut off.
  const double half = std::sqrt(reach2) * (1 + 1e-9);
  double roots[4];
  const int count = polynomial_roots(c, 4, -half, half, roots);
  for (int i = 0; i < count; ++i) {
    n.offer((roots[i] + shift) / length);
  }
  return n.best;
}

double polynomial(const double* c, int degree, double t) {
  double v = c[degree];
  for (int i = degree - 1; i >= 0; --i) {
    v = v * t + c[i];
  }
  return v;
}

}  // namespace

std::string_view to_string(ShapeKind kind) {
  for (const auto& [k, name] : kNames) {
    if (k == kind) {
      return name;
    }
  }
  return "";
}

std::optional<ShapeKind> parse_shape_kind(std::string_view text) {
  for (const auto& [kind, name] : kNames) {
    if (name == text) {
      return kind;
    }
  }
  return std::nullopt;
}

std::vector<std::string> shape_kind_names() {
  std::vector<std::string> names;
  for (const auto& [kind, name] : kNames) {
    names.emplace_back(name);
  }
  return names;
}

double intersect(
    const Shape& shape, const Vec3d& origin, const Vec3d& direction, double t_min, double t_max) {
  const Nearest n{t_min, t_max};
  switch (shape.kind) {
    case ShapeKind::kBox:
      return box(shape, origin, direction, n);
    case ShapeKind::kSphere:
      return sphere(shape, origin, direction, n);
    case ShapeKind::kPlane:
    case ShapeKind::kRect:
    case ShapeKind::kDisk:
      return flat(shape, origin, direction, n);
    case ShapeKind::kCylinder:
    case ShapeKind::kCone:
      return round_wall(shape, origin, direction, n);
    case ShapeKind::kTorus:
      return torus(shape, origin, direction, n);
  }
  return -1;
}

// The face, wall or cap that a point is nearest to, relative to the shape's size: a hit lies on it
// to rounding only.
Vec3d normal_at(const Shape& s, const Vec3d& p) {
  switch (s.kind) {
    case ShapeKind::kBox: {
      const Vec3d q(std::abs(p.x()) / s.a, std::abs(p.y()) / s.b, std::abs(p.z()) / s.c);
      Vec3d n = Vec3d::Zero();
      Eigen::Index axis = 0;
      q.maxCoeff(&axis);
      n[axis] = std::copysign(1.0, p[axis]);
      return n;
    }
    case ShapeKind::kSphere:
      return p.normalized();
    case ShapeKind::kPlane:
    case ShapeKind::kRect:
    case ShapeKind::kDisk:
      return Vec3d::UnitZ();
    case ShapeKind::kCylinder:
    case ShapeKind::kCone: {
      const double bottom = s.a, top = s.kind == ShapeKind::kCone ? s.b : s.a;
      const double k = (top - bottom) / (2 * s.c);
      const double rho = length_of(p.x(), p.y());
      const double wall = std::abs(rho - (0.5 * (bottom + top) + k * p.z()));
      if (!s.open && std::abs(std::abs(p.z()) - s.c) < wall) {
        return {0, 0, std::copysign(1.0, p.z())};
      }
      return rho > 0 ? Vec3d(p.x() / rho, p.y() / rho, -k).normalized() : Vec3d::UnitZ();
    }
    case ShapeKind::kTorus: {
      const double rho = length_of(p.x(), p.y());
      const Vec3d ring =
          rho > 0 ? Vec3d(p.x() * s.a / rho, p.y() * s.a / rho, 0) : Vec3d(s.a, 0, 0);
      return (p - ring).normalized();
    }
  }
  return Vec3d::UnitZ();
}

// Without a shape's own coordinates: along the plane that the normal is most square to, in meters.
Vec2 flat_uv(const Vec3d& p, const Vec3d& normal) {
  int axis = 0;
  normal.cwiseAbs().maxCoeff(&axis);
  const Vec3 q = p.cast<float>();
  return axis == 0 ? Vec2(q.y(), q.z()) : axis == 1 ? Vec2(q.x(), q.z()) : Vec2(q.x(), q.y());
}

Vec2 uv_at(const Shape& shape, const Vec3d& p) {
  const auto around = [](double y, double x) { return std::atan2(y, x) / (2 * kPiD) + 0.5; };
  double u = 0, v = 0;
  switch (shape.kind) {
    case ShapeKind::kBox: {
      const Vec3d q(p.x() / shape.a, p.y() / shape.b, p.z() / shape.c);
      int axis = 0;
      q.cwiseAbs().maxCoeff(&axis);
      u = 0.5 + 0.5 * q[axis == 0 ? 1 : 0];
      v = 0.5 + 0.5 * q[axis == 2 ? 1 : 2];
      break;
    }
    case ShapeKind::kSphere:
      u = around(p.y(), p.x());
      v = std::asin(std::clamp(p.z() / shape.a, -1.0, 1.0)) / kPiD + 0.5;
      break;
    case ShapeKind::kPlane:
      return {static_cast<float>(p.x()), static_cast<float>(p.y())};
    case ShapeKind::kRect:
      u = 0.5 + 0.5 * p.x() / shape.a;
      v = 0.5 + 0.5 * p.y() / shape.b;
      break;
    case ShapeKind::kDisk:
      u = 0.5 + 0.5 * p.x() / shape.a;
      v = 0.5 + 0.5 * p.y() / shape.a;
      break;
    case ShapeKind::kCylinder:
    case ShapeKind::kCone:
      if (const double r = shape.kind == ShapeKind::kCone ? std::max(shape.a, shape.b) : shape.a;
          !shape.open && std::abs(p.z()) > shape.c * (1 - 1e-9)) {
        u = 0.5 + 0.5 * p.x() / r;
        v = 0.5 + 0.5 * p.y() / r;
      } else {
        u = around(p.y(), p.x());
        v = std::isfinite(shape.c) ? 0.5 + 0.5 * p.z() / shape.c : p.z();
      }
      break;
    case ShapeKind::kTorus:
      u = around(p.y(), p.x());
      v = around(p.z(), length_of(p.x(), p.y()) - shape.a);
      break;
  }
  return {static_cast<float>(u), static_cast<float>(v)};
}

bool contains(const Shape& s, const Vec3d& p) {
  switch (s.kind) {
    case ShapeKind::kBox:
      return std::abs(p.x()) <= s.a && std::abs(p.y()) <= s.b && std::abs(p.z()) <= s.c;
    case ShapeKind::kSphere:
      return p.squaredNorm() <= s.a * s.a;
    case ShapeKind::kPlane:
      return p.z() <= 0;
    case ShapeKind::kRect:
    case ShapeKind::kDisk:
      return false;
    case ShapeKind::kCylinder:
    case ShapeKind::kCone: {
      const double top = s.kind == ShapeKind::kCone ? s.b : s.a, t = (p.z() + s.c) / (2 * s.c);
      return !s.open && std::abs(p.z()) <= s.c && length_of(p.x(), p.y()) <= s.a + (top - s.a) * t;
    }
    case ShapeKind::kTorus:
      return sqr(length_of(p.x(), p.y()) - s.a) + sqr(p.z()) <= s.b * s.b;
  }
  return false;
}

void extents(const Shape& s, Vec3d& lo, Vec3d& hi) {
  switch (s.kind) {
    case ShapeKind::kBox:
      hi = {s.a, s.b, s.c};
      break;
    case ShapeKind::kSphere:
      hi = Vec3d::Constant(s.a);
      break;
    case ShapeKind::kPlane:
      hi = {HUGE_VAL, HUGE_VAL, 0};
      break;
    case ShapeKind::kRect:
      hi = {s.a, s.b, 0};
      break;
    case ShapeKind::kDisk:
      hi = {s.a, s.a, 0};
      break;
    case ShapeKind::kCylinder:
      hi = {s.a, s.a, s.c};
      break;
    case ShapeKind::kCone:
      hi = {std::max(s.a, s.b), std::max(s.a, s.b), s.c};
      break;
    case ShapeKind::kTorus:
      hi = {s.a + s.b, s.a + s.b, s.b};
      break;
  }
  lo = -hi;
}

// The roots of the derivative, found the same way, cut the interval into parts on each of which the
// polynomial is monotone: at most one root each, by Newton's method kept within a bracket.
int polynomial_roots(const double* c, int degree, double lo, double hi, double* roots) {
  if (degree == 1) {
    if (c[1] == 0) {
      return 0;
    }
    const double t = -c[0] / c[1];
    roots[0] = t;
    return t >= lo && t <= hi ? 1 : 0;
  }
  double slope[4] = {};
  for (int i = 0; i < degree; ++i) {
    slope[i] = (i + 1) * c[i + 1];
  }
  double turns[4];
  const int turn_count = polynomial_roots(slope, degree - 1, lo, hi, turns);
  int count = 0;
  double a = lo, fa = polynomial(c, degree, a);
  for (int i = 0; i <= turn_count; ++i) {
    const double b = i < turn_count ? turns[i] : hi;
    const double fb = polynomial(c, degree, b);
    if ((fa < 0) != (fb < 0)) {
      double l = a, r = b, t = 0.5 * (a + b);
      for (int step = 0; step < 80 && r - l > 1e-15 * (std::abs(l) + std::abs(r)); ++step) {
        const double ft = polynomial(c, degree, t);
        ((ft < 0) == (fa < 0) ? l : r) = t;
        const double s = polynomial(slope, degree - 1, t);
        const double newton = s != 0 ? t - ft / s : l;
        const double next = newton > l && newton < r ? newton : 0.5 * (l + r);
        if (next == t) {
          break;
        }
        t = next;
      }
      roots[count++] = t;
    }
    a = b;
    fa = fb;
  }
  return count;
}

}  // namespace jovilux
