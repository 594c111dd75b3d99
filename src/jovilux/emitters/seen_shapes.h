#pragma once

#include "jovilux/base/length.h"
#include "jovilux/emitters/emitter.h"

#include <algorithm>
#include <cmath>
#include <utility>

namespace jovilux {

/// Radius of the ball around its center that holds a light [m]; 0 for a light without size and for
/// a distant one.
inline float reach_of(const Emitter& e) {
  switch (e.kind) {
    case LightKind::kSphere:
    case LightKind::kSpot:
    case LightKind::kDisk:
      return e.radius;
    case LightKind::kRect:
      return std::hypot(e.half_width, e.half_height);
    case LightKind::kTube:
      return std::hypot(e.half_width, e.radius);
    case LightKind::kObject:
      return static_cast<float>(e.detail->surface->reach());
    default:
      return 0;
  }
}

/// A rectangle as seen from a point: the pyramid of its edges. Double precision, for thin pyramids.
struct SphericalRect {
  double x0, x1, y0, y1, z0;
  double b0, b1, k, solid_angle;

  SphericalRect(const Emitter& e, const Vec3& p) {
    const Vec3d d = (e.center - p).cast<double>();
    const Vec3d x = e.frame.x.cast<double>(), y = e.frame.y.cast<double>(),
                z = e.frame.z.cast<double>();
    x0 = d.dot(x) - e.half_width;
    x1 = d.dot(x) + e.half_width;
    y0 = d.dot(y) - e.half_height;
    y1 = d.dot(y) + e.half_height;
    z0 = d.dot(z);  // negative: the light faces p
    if (z0 > 0) {
      z0 = -z0;
    }
    const auto edge = [&](double v0) { return -v0 / std::sqrt(z0 * z0 + v0 * v0); };
    // z components of the pyramid's side normals; inner angles follow from their products.
    const double n0 = edge(y0), n1 = -edge(x1), n2 = -edge(y1), n3 = edge(x0);
    const auto angle = [](double a, double b) { return std::acos(std::clamp(-a * b, -1.0, 1.0)); };
    const double g0 = angle(n0, n1), g1 = angle(n1, n2), g2 = angle(n2, n3), g3 = angle(n3, n0);
    b0 = n0;
    b1 = n2;
    k = 2 * kPiD - g2 - g3;
    solid_angle = g0 + g1 - k;
  }

  // The place in the rectangle's frame.
  Vec3d place(double u, double v) const {
    const double au = u * solid_angle + k;
    const double fu = (std::cos(au) * b0 - b1) / std::sin(au);
    const double cu = std::clamp(std::copysign(1.0, fu) / std::sqrt(fu * fu + b0 * b0), -1.0, 1.0);
    const double xu = std::clamp(-cu * z0 / std::sqrt(std::max(1e-30, 1 - cu * cu)), x0, x1);
    const double d = std::sqrt(xu * xu + z0 * z0);
    const double h0 = y0 / std::sqrt(d * d + y0 * y0), h1 = y1 / std::sqrt(d * d + y1 * y1);
    const double hv = h0 + v * (h1 - h0), hv2 = hv * hv;
    const double yv = hv2 < 1 - 1e-12 ? hv * d / std::sqrt(1 - hv2) : y1;
    return {xu, std::clamp(yv, y0, y1), z0};
  }
};

/// Below this the differences of angles lose digits; evenly over the area is as good there.
inline constexpr double kSmallSolidAngle = 1e-3;

/// A disk as seen from a point near it, in narrow strips that run away from the point's foot on the
/// disk's plane: a strip by its azimuth, then a direction evenly over the solid angle that it
/// fills. Double precision, for points close to the plane.
struct DiskStrips {
  double height, apart, radius;  // of p over the plane; of its foot from the center
  Vec3d ex, ey;                  // in the plane, ex from the foot to the center
  // Half of the azimuths that meet the disk; 0: all do, the foot is inside.
  double widest;

  DiskStrips(const Emitter& e, const Vec3& p) : radius(static_cast<double>(e.radius)) {
    const Vec3d z = e.frame.z.cast<double>(), d = (e.center - p).cast<double>();
    height = std::abs(d.dot(z));
    ex = d - d.dot(z) * z;
    apart = ex.norm();
    ex = apart > 1e-9 * radius ? Vec3d(ex / apart) : e.frame.x.cast<double>();
    ey = z.cross(ex);
    widest = apart > radius && near() ? std::asin(radius / apart) : 0;
  }

  // Where spreading points evenly over the area serves badly: nearer than this share of the radius.
  // Farther, strips would.
  bool near() const {
    constexpr double kNear = 0.8;
    return height > 0 && length_of(height, std::max(0.0, apart - radius)) < kNear * radius;
  }
  // Distances from the foot at which a strip begins and ends; empty where it does not meet the
  // disk.
  std::pair<double, double> ends(double azimuth) const {
    const double along = apart * std::cos(azimuth), across = apart * std::sin(azimuth),
                 half = std::sqrt(std::max(0.0, radius * radius - across * across));
    return {std::max(0.0, along - half), along + half};
  }
  double cosine(double from_foot) const { return height / length_of(height, from_foot); }
  // Of the azimuth: even where all meet the disk; else by a cosine that is 0 where the strips are
  // short.
  double azimuth_pdf(double azimuth) const {
    return widest > 0 ? std::cos(kPiD / 2 * azimuth / widest) * kPiD / (4 * widest)
                      : 1 / (2 * kPiD);
  }
  // Over solid angle, at an azimuth.
  double pdf(double azimuth) const {
    const auto [from, to] = ends(azimuth);
    const double strip = cosine(from) - cosine(to);
    return strip > 0 ? azimuth_pdf(azimuth) / strip : 0;
  }
  // The place relative to the foot, and its density.
  Vec3d place(double u, double v, double* density) const {
    const double azimuth = widest > 0
                               ? widest * 2 / kPiD * std::asin(std::clamp(2 * u - 1, -1.0, 1.0))
                               : (2 * u - 1) * kPiD;
    const auto [from, to] = ends(azimuth);
    const double c = cosine(from) + v * (cosine(to) - cosine(from));
    const double out =
        std::clamp(height * std::sqrt(std::max(0.0, 1 - c * c)) / std::max(c, 1e-12), from, to);
    *density = pdf(azimuth);
    return out * (std::cos(azimuth) * ex + std::sin(azimuth) * ey);
  }
};

/// The part of an even or overcast sky above the horizon of a surface: a lune between two half
/// circles that share the axis a, which is level and lies in the surface. Directions a t + sqrt(1 -
/// t^2) (b cos psi + up sin psi) with 0 < psi < pi - theta, theta the surface's tilt; d omega = dt
/// d psi. Without a surface: the whole sky, theta = 0.
///
/// Chosen in proportion to the luminance, 1 or 1 + 2 sin(elevation), times the cosine to the
/// surface's normal where there is one: a diffuse surface under an open sky then gets the same from
/// each direction. Both terms of the luminance are products of a function of t and one of psi:
///
///     cos            = sqrt(1 - t^2) sin(psi + theta)
///     2 sin(el.) cos = 2 (1 - t^2) sin(psi) sin(psi + theta)
struct SkyLune {
  Vec3 a, b, up;
  Vec3 normal = Vec3::Zero();                    // of the surface; zero: none
  float span = kPi, sin_tilt = 0, cos_tilt = 1;  // pi - theta, sin theta, cos theta
  float even_part = 0, elevation_part = 0;       // integrals over the lune

  SkyLune(const Emitter& e, const Vec3* side) : up(-e.frame.z) {
    a = e.frame.x;
    b = e.frame.y;
    const bool by_elevation = e.sky == SkyModel::kOvercast;
    if (side == nullptr) {
      even_part = 2 * kPi;
      elevation_part = by_elevation ? 2 * kPi : 0;
      return;
    }
    normal = *side;
    cos_tilt = std::clamp(normal.dot(up), -1.0f, 1.0f);
    const Vec3 level = normal - cos_tilt * up;
    sin_tilt = level.norm();
    span = kPi - std::atan2(sin_tilt, cos_tilt);
    if (sin_tilt > 1e-6f) {
      b = level / sin_tilt;
      a = b.cross(up);
    }
    even_part = kPi / 2 * (1 + cos_tilt);
    elevation_part = by_elevation ? 4.0f / 3 * (span * cos_tilt + sin_tilt) : 0;
  }
  bool empty() const { return !(span > 1e-3f) || !(even_part > 0); }
  float pdf(const Vec3& wi, bool by_elevation) const {
    const float sine = std::max(0.0f, wi.dot(up)),
                cosine = normal.isZero() ? 1 : std::max(0.0f, wi.dot(normal));
    return (by_elevation ? 1 + 2 * sine : 1) * cosine / (even_part + elevation_part);
  }
  Vec3 place(Vec2 u) const {
    const float even = even_part / (even_part + elevation_part);
    const bool by_even = u.x() < even;
    u.x() = by_even ? u.x() / even : (u.x() - even) / (1 - even);
    float t, psi;
    if (normal.isZero()) {
      t = 1 - 2 * u.x();
      psi = u.y() * kPi;
      if (!by_even) {  // even over a disk
        const float r = std::sqrt(u.x()), phi = 2 * kPi * u.y(), y = r * std::sin(phi);
        const Vec3 level = r * std::cos(phi) * a + y * b;
        return (level + std::sqrt(std::max(0.0f, 1 - u.x())) * up).normalized();
      }
    } else if (by_even) {
      t = -std::cos(sine_place(u.x(), 1, 0, kPi));  // the density of a chord
      psi = std::acos(std::clamp(cos_tilt - u.y() * (1 + cos_tilt), -1.0f, 1.0f)) - (kPi - span);
    } else {
      t = 2 * std::sin(std::asin(2 * u.x() - 1) / 3);  // 3 t - t^3 = 2 (2 u - 1)
      psi = sine_place(u.y(), cos_tilt, sin_tilt, span);
    }
    const float s = std::sqrt(std::max(0.0f, 1 - t * t));
    return (t * a + s * (std::cos(psi) * b + std::sin(psi) * up)).normalized();
  }

 private:
  // psi in 0..span with the density of sin(psi) sin(psi + theta), whose integral from 0 is
  // (psi cos theta - cos(psi + theta) sin(psi)) / 2: Newton's method in a bracket. `c`, `s`: cosine
  // and sine of theta.
  static float sine_place(float u, float c, float s, float span) {
    const float wanted = u * (span * c + s);
    float low = 0, high = span, psi = span / 2;
    constexpr float kLastStep = 1e-3f;  // leaves its square: convergence is quadratic
    for (int i = 0; i < 24; ++i) {
      const float sine = std::sin(psi), cosine = std::cos(psi);
      const float rises = 2 * sine * (sine * c + cosine * s),
                  off = psi * c - (cosine * c - sine * s) * sine - wanted;
      (off > 0 ? high : low) = psi;
      const float newton = psi - off / std::max(1e-12f, rises),
                  next = newton > low && newton < high ? newton : (low + high) / 2;
      const float step = std::abs(next - psi);
      psi = next;
      if (step < kLastStep) {
        break;
      }
    }
    return psi;
  }
};

/// A tube or line as seen from p.
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

}  // namespace jovilux
