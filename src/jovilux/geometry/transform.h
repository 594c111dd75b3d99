#pragma once

#include "jovilux/base/vec.h"
#include "jovilux/geometry/ray.h"

namespace jovilux {

/// p -> linear p + offset, invertible.
struct Transform {
  Mat3d linear = Mat3d::Identity();
  Vec3d offset = Vec3d::Zero();

  Vec3d point(const Vec3d& p) const {
    return {row(0, p) + offset.x(), row(1, p) + offset.y(), row(2, p) + offset.z()};
  }
  Vec3d vector(const Vec3d& v) const { return {row(0, v), row(1, v), row(2, v)}; }
  /// One coordinate of vector(v). Written out: a product of matrices is a call in each ray query.
  double row(int i, const Vec3d& v) const {
    return linear(i, 0) * v.x() + linear(i, 1) * v.y() + linear(i, 2) * v.z();
  }
  Transform inverse() const {
    const Mat3d inv = linear.inverse();
    return {inv, -(inv * offset)};
  }
};

/// Scale, then turn about x, y and z in that order [rad], then move to `at`.
inline Transform placement(const Vec3d& at, const Vec3d& turn, const Vec3d& scale) {
  using Eigen::AngleAxisd;
  const Mat3d rotation =
      (AngleAxisd(turn.z(), Vec3d::UnitZ()) * AngleAxisd(turn.y(), Vec3d::UnitY()) *
       AngleAxisd(turn.x(), Vec3d::UnitX()))
          .toRotationMatrix();
  return {rotation * scale.asDiagonal(), at};
}

/// The turn that takes z to y, and y (north) to -z: from shapes along z to a scene with y up.
inline Mat3d up_from_z() {
  Mat3d m;
  m << 1, 0, 0, 0, 0, 1, 0, -1, 0;
  return m;
}

/// A frame whose z is `axis` (unit), x as level as it can be against `up`, turned by `roll` [rad]
/// about z.
inline Mat3d aimed(const Vec3d& axis, const Vec3d& up, double roll) {
  Vec3d x = up.cross(axis);
  if (x.norm() < 1e-6) {
    x = Vec3d::UnitX() - axis * axis.x();
    if (x.norm() < 1e-6) {
      x = Vec3d::UnitY() - axis * axis.y();
    }
  }
  x.normalize();
  const Vec3d y = axis.cross(x);
  Mat3d m;
  m.col(0) = std::cos(roll) * x + std::sin(roll) * y;
  m.col(1) = -std::sin(roll) * x + std::cos(roll) * y;
  m.col(2) = axis;
  return m;
}

}  // namespace jovilux
