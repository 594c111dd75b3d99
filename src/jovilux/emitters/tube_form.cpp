// Tubes and ideal lines.
#include "jovilux/emitters/form_parts.h"

#include <algorithm>
#include <cmath>
#include <utility>

namespace jovilux {
namespace {

// A tube or line as seen from p.
struct TubeView {
  Vec3 to, side, axis;   // unit: straight to the axis, across it, along it
  float d = 0;           // from p to the axis
  float z0 = 0, z1 = 0;  // the ends along the axis from p's foot; infinite when endless
  float widest = 0;      // half of the angle that the tube fills around p

  TubeView(const Emitter& e, const Vec3& p) {
    const Vec3 from = e.center - p;
    const float z = from.dot(e.frame.x);
    to = from - z * e.frame.x;
    d = to.norm();
    if (d > 0) {
      to /= d;
    }
    axis = e.frame.x;
    side = axis.cross(to);
    z0 = e.endless ? -HUGE_VALF : z - e.half_width;
    z1 = e.endless ? HUGE_VALF : z + e.half_width;
    widest = d > e.radius ? std::asin(std::min(1.0f, e.radius / d)) : 0;
  }
  bool outside(const Emitter& e) const { return d > e.radius; }
  // Distance, square to the axis, to the mantle in the half plane at phi.
  float mantle(const Emitter& e, float phi) const {
    const float s = d * std::sin(phi);
    return d * std::cos(phi) - std::sqrt(std::max(0.0f, e.radius * e.radius - s * s));
  }
  // The part of the axis, at the distance s in the half plane at phi, that rises above a surface
  // with the normal n: what lies below its horizon brings it nothing. Null: all of it.
  std::pair<float, float> above(float phi, float s, const Vec3* n) const {
    const float along = n != nullptr ? n->dot(axis) : 0;
    constexpr float kLevel = 1e-6f;
    if (std::abs(along) < kLevel) {
      return {z0, z1};
    }
    const float horizon = -s * (std::cos(phi) * n->dot(to) + std::sin(phi) * n->dot(side)) / along;
    return along > 0 ? std::pair(std::max(z0, horizon), z1) : std::pair(z0, std::min(z1, horizon));
  }
  // Sine of the angle along the axis at which an end is seen over the distance s.
  static float end_sine(float z, float s) {
    return std::isinf(z) ? std::copysign(1.0f, z) : z / std::hypot(z, s);
  }
};

LightSample sample_tube(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3* normal) {
  LightSample out;
  const TubeView view(e, p);
  if (!view.outside(e)) {
    return out;
  }
  const bool line = e.radius == 0;
  const float phi = line ? 0 : view.widest * (2 * u.x() - 1);
  const float s = line ? view.d : view.mantle(e, phi);
  if (!(s > 0)) {
    return out;
  }
  const auto [z0, z1] = view.above(phi, s, normal);
  const float b0 = TubeView::end_sine(z0, s), b1 = TubeView::end_sine(z1, s);
  const float sine = b0 + (b1 - b0) * (line ? u.x() : u.y());
  const float cosine = std::sqrt(std::max(0.0f, 1 - sine * sine));
  if (!(b1 > b0) || !(cosine > 1e-6f)) {
    return out;
  }
  out.wi = (cosine * (std::cos(phi) * view.to + std::sin(phi) * view.side) + sine * e.frame.x)
               .normalized();
  out.distance = s / cosine;
  const float falloff = falloff_at(e, p);
  if (line) {
    out.weight = e.intensity / view.d * (b1 - b0) * falloff;
  } else {
    out.pdf = 1 / (2 * view.widest * (b1 - b0));
    out.weight = e.luminance * falloff / out.pdf;
  }
  return out;
}

float tube_pdf(
    const Emitter& e, const Vec3& p, const Vec3& wi, const LightPlace&, const Vec3* normal) {
  const TubeView view(e, p);
  const Vec3 across = wi - wi.dot(e.frame.x) * e.frame.x;
  if (e.radius == 0 || !view.outside(e) || !(across.squaredNorm() > 0)) {
    return 0;
  }
  // What met the tube lies on it, whatever the rounding at its limb says.
  const float phi =
      std::clamp(std::atan2(across.dot(view.side), across.dot(view.to)), -view.widest, view.widest);
  const float s = view.mantle(e, phi);
  const auto [z0, z1] = view.above(phi, s, normal);
  const float span = TubeView::end_sine(z1, s) - TubeView::end_sine(z0, s);
  return span > 0 ? 1 / (2 * view.widest * span) : 0;
}

// Its ends are dark.
float tube_luminance(const Emitter& e, const Vec3& along, const LightPlace& at) {
  return e.radius > 0 && -along.dot(at.normal) > 0 && std::abs(at.normal.dot(e.frame.x)) < 0.5f
             ? e.luminance
             : 0;
}

float tube_expected(const Emitter& e, const Vec3& p, const Vec3& n) {
  const TubeView view(e, p);
  if (!view.outside(e)) {
    return 0;
  }
  // The higher of its ends above the surface; an endless one rises somewhere unless it is level.
  const float along = n.dot(e.frame.x), across = n.dot(view.to) * view.d + e.radius;
  const float highest = e.endless ? (std::abs(along) > 1e-6f ? HUGE_VALF : across)
                                  : across + std::max(view.z0 * along, view.z1 * along);
  if (highest <= 0) {
    return 0;
  }
  const float near = std::max(view.d - e.radius, 0.25f * e.radius + 1e-6f);
  const float cosine = std::min(1.0f, highest / near);
  const float per_meter = e.radius > 0 ? e.luminance * 2 * e.radius : e.intensity;
  const float span = TubeView::end_sine(view.z1, near) - TubeView::end_sine(view.z0, near);
  return per_meter / near * std::max(span, 1e-4f) * cosine;
}

float tube_intensity(const Emitter& e) {
  return (e.radius > 0 ? e.luminance * 2 * e.radius : e.intensity) * 2 * e.half_width;
}

float tube_reach(const Emitter& e) { return std::hypot(e.half_width, e.radius); }

}  // namespace

const LightForm kTubeForm = {sample_tube,
                             tube_pdf,
                             tube_luminance,
                             tube_expected,
                             tube_intensity,
                             tube_reach,
                             shines_everywhere,
                             covers_nothing};

}  // namespace jovilux
