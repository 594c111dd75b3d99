#pragma once

#include "jovilux/base/vec.h"

#include <cstdint>
#include <limits>

namespace jovilux {

inline constexpr float kFar = std::numeric_limits<float>::infinity();
/// "No such index".
inline constexpr std::uint32_t kNoIndex = 0xffffffffU;

/// Points origin + t direction for t in (0, t_max). The direction is a unit vector in world space.
struct Ray {
  Vec3 origin;
  Vec3 direction;
  float t_max = kFar;

  Vec3 at(float t) const { return origin + t * direction; }
};

/// An axis-aligned box; empty when lo > hi.
struct Bounds {
  Vec3 lo = Vec3::Constant(kFar);
  Vec3 hi = Vec3::Constant(-kFar);

  static Bounds everywhere() { return {Vec3::Constant(-kFar), Vec3::Constant(kFar)}; }
  bool empty() const { return (lo.array() > hi.array()).any(); }
  void add(const Vec3& p) {
    lo = lo.cwiseMin(p);
    hi = hi.cwiseMax(p);
  }
  void add(const Bounds& b) {
    lo = lo.cwiseMin(b.lo);
    hi = hi.cwiseMax(b.hi);
  }
  Vec3 center() const { return 0.5f * (lo + hi); }
  float diagonal() const { return empty() ? 0.0f : (hi - lo).norm(); }
  /// Half of the surface area, which is what comparisons need.
  float half_area() const {
    const Vec3 e = hi - lo;
    return e.x() * e.y() + e.y() * e.z() + e.z() * e.x();
  }
};

}  // namespace jovilux
