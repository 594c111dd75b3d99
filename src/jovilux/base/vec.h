#pragma once

#include <Eigen/Core>
#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <numbers>
#include <utility>

namespace jovilux {

using Vec2 = Eigen::Vector2f;
using Vec3 = Eigen::Vector3f;
using Vec3d = Eigen::Vector3d;
using Mat3d = Eigen::Matrix3d;

inline constexpr float kPi = std::numbers::pi_v<float>;
inline constexpr double kPiD = std::numbers::pi;
inline constexpr double kDegree = kPiD / 180;  ///< [rad]

/// An orthonormal frame; z is usually a surface normal.
struct Frame {
  Vec3 x, y, z;

  /// Any right-handed frame around the unit vector n.
  /// Source: T. Duff et al., "Building an Orthonormal Basis, Revisited", JCGT 6(1), 2017.
  static Frame around(const Vec3& n) {
    const float s = std::copysign(1.0f, n.z());
    const float a = -1.0f / (s + n.z());
    const float b = n.x() * n.y() * a;
    return {Vec3(1.0f + s * n.x() * n.x() * a, s * b, -s * n.x()),
            Vec3(b, s + n.y() * n.y() * a, -n.y()),
            n};
  }
  // Written out: GCC leaves Eigen's dot products out of line in large functions.
  Vec3 to_local(const Vec3& v) const {
    return {x.x() * v.x() + x.y() * v.y() + x.z() * v.z(),
            y.x() * v.x() + y.y() * v.y() + y.z() * v.z(),
            z.x() * v.x() + z.y() * v.y() + z.z() * v.z()};
  }
  Vec3 to_world(const Vec3& v) const { return x * v.x() + y * v.y() + z * v.z(); }
};

/// A direction, evenly over the sphere, of u in [0, 1)^2.
inline Vec3 even_direction(const Vec2& u) {
  const float z = 1 - 2 * u.x(), r = std::sqrt(std::max(0.0f, 1 - z * z)), phi = 2 * kPi * u.y();
  return {r * std::cos(phi), r * std::sin(phi), z};
}

template <class T>
constexpr T sqr(T v) {
  return v * v;
}

}  // namespace jovilux
