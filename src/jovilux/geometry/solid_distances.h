#pragma once

#include "jovilux/base/length.h"
#include "jovilux/base/vec.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

namespace jovilux {

// Closed forms and bounds of the distance [m] from `p` to the surface of a solid about the origin,
// negative inside. Sizes in meters, as in `SolidNode`.

inline double box_distance(const Vec3d& p, double a, double b, double c) {
  const Vec3d q(std::abs(p.x()) - a, std::abs(p.y()) - b, std::abs(p.z()) - c);
  const double inside = q.maxCoeff();
  return inside <= 0 ? inside : q.cwiseMax(0.0).norm();
}

inline double cylinder_distance(const Vec3d& p, double radius, double half) {
  const double r = length_of(p.x(), p.y()) - radius, z = std::abs(p.z()) - half;
  return std::max(r, z) <= 0 ? std::max(r, z) : length_of(std::max(r, 0.0), std::max(z, 0.0));
}

// The cross section is a trapezoid: the distance to its slanted side or to its ends, whichever is
// nearer.
inline double cone_distance(const Vec3d& p, double bottom, double top, double half) {
  const double r = length_of(p.x(), p.y()), z = p.z();
  const double end = std::max(0.0, r - (z < 0 ? bottom : top)), past = std::abs(z) - half;
  const double dr = top - bottom, dz = 2 * half;
  const double t =
      std::clamp(((r - bottom) * dr + (z + half) * dz) / (dr * dr + dz * dz), 0.0, 1.0);
  const double side = length_of(r - bottom - t * dr, z + half - t * dz);
  const double outward = ((r - bottom) * dz - (z + half) * dr) / length_of(dr, dz);
  if (outward < 0 && past < 0) {
    return -std::min(side, -past);
  }
  return std::min(side, length_of(end, past));
}

inline double capsule_distance(const Vec3d& p, double radius, double half) {
  const double straight = std::max(0.0, half - radius);
  return Vec3d(p.x(), p.y(), p.z() - std::clamp(p.z(), -straight, straight)).norm() - radius;
}

inline double frame_distance(const Vec3d& p, const std::array<double, 7>& v) {
  // Twelve bars: along each axis a box, folded into the octant of its edge.
  const double bar = v[3] / 2;
  double nearest = std::numeric_limits<double>::infinity();
  for (int axis = 0; axis < 3; ++axis) {
    Vec3d q, half;
    for (int i = 0; i < 3; ++i) {
      const double extent = v[static_cast<std::size_t>(i)];
      q[i] = i == axis ? p[i] : std::abs(p[i]) - (extent - bar);
      half[i] = i == axis ? extent : bar;
    }
    nearest = std::min(nearest, box_distance(q, half.x(), half.y(), half.z()));
  }
  return nearest;
}

// Each step cuts a cross out of every cell, whose walls are then nearest from within.
inline double menger_distance(const Vec3d& p, double half, int iterations) {
  double d = box_distance(p, half, half, half);
  double cell = 2 * half;
  for (int i = 0; i < iterations && d < cell; ++i, cell /= 3) {
    Vec3d q;
    for (int k = 0; k < 3; ++k) {
      q[k] = std::abs(p[k] - cell * std::round(p[k] / cell));
    }
    const double cross =
        std::min({std::max(q.x(), q.y()), std::max(q.y(), q.z()), std::max(q.z(), q.x())}) -
        cell / 6;
    d = std::max(d, -cross);
  }
  return d;
}

// Mirrors fold space onto one corner's tetrahedron, which is then magnified.
inline double sierpinski_distance(Vec3d p, double half, int iterations) {
  p /= half;
  double scale = 1;
  for (int i = 0; i < iterations; ++i) {
    if (p.x() + p.y() < 0) {
      p = Vec3d(-p.y(), -p.x(), p.z());
    }
    if (p.x() + p.z() < 0) {
      p = Vec3d(-p.z(), p.y(), -p.x());
    }
    if (p.y() + p.z() < 0) {
      p = Vec3d(p.x(), -p.z(), -p.y());
    }
    p = 2 * p - Vec3d::Ones();
    scale *= 2;
  }
  // The tetrahedron of (1, 1, 1), (1, -1, -1), (-1, 1, -1), (-1, -1, 1).
  const double d = std::max(std::abs(p.x() + p.y()) - p.z(), std::abs(p.x() - p.y()) + p.z()) - 1;
  return d / std::sqrt(3.0) / scale * half;
}

// The set where |q| stays below 2. Source of the bound: J. Hart, D. Sandin, L. Kauffman, "Ray
// Tracing Deterministic 3-D Fractals", SIGGRAPH 1989: |q| log |q| / (2 |q'|); with |q| / 2 in the
// logarithm its zero is the set of this many iterations.
inline double julia_distance(const Vec3d& p,
                             double half,
                             const std::array<double, 7>& v,
                             int iterations) {
  constexpr double kReach = 1.5;  // it lies within
  const double to_unit = kReach / half;
  double x = p.x() * to_unit, y = p.y() * to_unit, z = p.z() * to_unit, w = 0, rise = 1;
  double r2 = x * x + y * y + z * z;
  for (int i = 0; i < iterations && r2 < 1e4; ++i) {
    rise *= 2 * std::sqrt(r2);
    const double xx = x * x - y * y - z * z - w * w;
    y = 2 * x * y + v[2];
    z = 2 * x * z + v[3];
    w = 2 * x * w + v[4];
    x = xx + v[1];
    r2 = x * x + y * y + z * z + w * w;
  }
  const double r = std::sqrt(r2);
  return 0.5 * r * std::log(std::max(r, 1e-30) / 2) / std::max(rise, 1.0) / to_unit;
}

// Polynomial blends: equal to min and max where the two differ by k or more; they rise no steeper
// than their arguments.
inline double smooth_min(double a, double b, double k) {
  const double h = std::max(0.0, k - std::abs(a - b));
  return std::min(a, b) - h * h / (4 * k);
}

// The largest stretch [1] of a twist of `rate` [rad/m] within the way from `p` to a surface within
// `radius` of the axis: the largest singular value of a shear by rate x distance from the axis.
inline double steepest_of_twist(const Vec3d& p, double rate, double radius) {
  const double shear = std::abs(rate) * std::max(length_of(p.x(), p.y()), radius);
  return 0.5 * (shear + std::sqrt(shear * shear + 4));
}

}  // namespace jovilux
