// Sun, sky and dome.
#include "jovilux/emitters/form_parts.h"

#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

// The part of an even or overcast sky above the horizon of a surface: a lune between two half
// circles that share the axis a, which is level and lies in the surface. Directions a t + sqrt(1 -
// t^2) (b cos psi + up sin psi) with 0 < psi < pi - theta, theta the surface's tilt; d omega = dt
// d psi. Without a surface: the whole sky, theta = 0.
//
// Chosen in proportion to the luminance, 1 or 1 + 2 sin(elevation), times the cosine to the
// surface's normal where there is one: a diffuse surface under an open sky then gets the same from
// each direction. Both terms of the luminance are products of a function of t and one of psi:
//
//     cos            = sqrt(1 - t^2) sin(psi + theta)
//     2 sin(el.) cos = 2 (1 - t^2) sin(psi) sin(psi + theta)
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
    if (!is_level()) {
      span = kPi - std::atan2(sin_tilt, cos_tilt);
      b = level / sin_tilt;
      a = b.cross(up);
    } else if (cos_tilt < 0) {
      span = 0;
    }
    even_part = kPi / 2 * (1 + cos_tilt);
    elevation_part = by_elevation ? 4.0f / 3 * (span * cos_tilt + sin_tilt) : 0;
  }
  bool is_level() const { return !(sin_tilt > 1e-6f); }
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
    if (!normal.isZero() && by_even) {
      return by_cosine(u);
    }
    if (is_level() && !by_even) {
      // Without a surface even over a disk, the density of the sine; above a level one that of its
      // square.
      const float rise = normal.isZero() ? std::sqrt(u.x()) : std::cbrt(u.x()),
                  r = std::sqrt(std::max(0.0f, 1 - rise * rise)), phi = 2 * kPi * u.y();
      return (r * (std::cos(phi) * a + std::sin(phi) * b) + rise * up).normalized();
    }
    float t, psi;
    if (by_even) {
      t = 1 - 2 * u.x();
      psi = u.y() * kPi;
    } else {
      t = 2 * std::sin(std::asin(2 * u.x() - 1) / 3);  // 3 t - t^3 = 2 (2 u - 1)
      psi = sine_place(u.y(), cos_tilt, sin_tilt, span);
    }
    const float s = std::sqrt(std::max(0.0f, 1 - t * t));
    return (t * a + s * (std::cos(psi) * b + std::sin(psi) * up)).normalized();
  }

 private:
  // By the cosine to the surface: even over what the lune covers of the unit disk in the surface
  // (J. H. Lambert; Nusselt's analog), between the half circle y = h, h = sqrt(1 - x^2), and the
  // half ellipse y = -h cos theta, x along a. Chords of a half disk stretched by 1 + cos theta.
  Vec3 by_cosine(const Vec2& u) const {
    const float r = std::sqrt(u.x()), phi = kPi * u.y();
    const float x = r * std::cos(phi), half_chord = std::sqrt(std::max(0.0f, 1 - x * x)),
                y = (1 + cos_tilt) * r * std::sin(phi) - cos_tilt * half_chord,
                z = std::sqrt(std::max(0.0f, 1 - x * x - y * y));
    return (x * a + y * a.cross(normal) + z * normal).normalized();
  }
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

LightSample sample_sun(const Emitter& e, const Vec3&, const Vec2& u, const Vec3*) {
  LightSample out;
  const float omc = one_minus_cos(e.sin2_disc);
  out.wi = Frame::around(-e.frame.z).to_world(cone_direction(omc, u));
  out.pdf = cone_pdf(omc);
  out.distance = kFar;
  out.weight = e.luminance / out.pdf;
  return out;
}

// A sky whose luminance is even, or grows with the elevation alone.
LightSample toward_plain_sky(const Emitter& e, const Vec2& u, const Vec3* side) {
  LightSample out;
  const SkyLune lune(e, side);
  if (lune.empty()) {
    return out;
  }
  out.wi = lune.place(u);
  out.pdf = lune.pdf(out.wi, e.sky == SkyModel::kOvercast);
  if (!(out.pdf > 0)) {
    return {};
  }
  out.distance = kFar;
  out.weight = e.luminance * relative_sky(e, std::max(0.0f, -out.wi.dot(e.frame.z))) / out.pdf;
  return out;
}

// A dome or a general sky: directions by a table of their luminance.
LightSample toward_map(const Emitter& e, const Vec2& u, const Vec3* side) {
  LightSample out;
  const Vec3 m = side != nullptr ? e.detail->map.sample_above(mapped(e, *side), u, out.pdf)
                                 : e.detail->map.sample(u, out.pdf);
  if (!(out.pdf > 0)) {
    return {};
  }
  out.wi = unmapped(e, m).normalized();
  out.distance = kFar;
  out.weight = map_luminance(e, m) / out.pdf;
  return out;
}

LightSample sample_dome(const Emitter& e, const Vec3&, const Vec2& u, const Vec3* side) {
  return toward_map(e, u, side);
}

LightSample sample_sky(const Emitter& e, const Vec3&, const Vec2& u, const Vec3* side) {
  return has_map(e) ? toward_map(e, u, side) : toward_plain_sky(e, u, side);
}

float sun_pdf(const Emitter& e, const Vec3&, const Vec3&, const LightPlace&, const Vec3*) {
  return cone_pdf(one_minus_cos(e.sin2_disc));
}

float dome_pdf(const Emitter& e, const Vec3&, const Vec3& wi, const LightPlace&, const Vec3* side) {
  return side != nullptr ? e.detail->map.pdf_above(mapped(e, *side), mapped(e, wi))
                         : e.detail->map.pdf(mapped(e, wi));
}

float sky_pdf(
    const Emitter& e, const Vec3& p, const Vec3& wi, const LightPlace& at, const Vec3* side) {
  if (has_map(e)) {
    return dome_pdf(e, p, wi, at, side);
  }
  const SkyLune lune(e, side);
  return lune.empty() ? 0 : lune.pdf(wi, e.sky == SkyModel::kOvercast);
}

float sun_luminance(const Emitter& e, const Vec3&, const LightPlace&) { return e.luminance; }

float dome_luminance(const Emitter& e, const Vec3& along, const LightPlace&) {
  return map_luminance(e, mapped(e, along));
}

float sky_luminance(const Emitter& e, const Vec3& along, const LightPlace& at) {
  if (has_map(e)) {
    return dome_luminance(e, along, at);
  }
  const float up = -along.dot(e.frame.z);
  return up > 0 ? e.luminance * relative_sky(e, up) : 0;
}

float dome_expected(const Emitter& e, const Vec3&, const Vec3& n) {
  return e.luminance * e.detail->mean_luminance * 4 * kPi * e.detail->map.projected(mapped(e, n));
}

// Its horizon may be cut by the surface's.
float sky_expected(const Emitter& e, const Vec3&, const Vec3& n) {
  if (has_map(e)) {
    return e.luminance * e.detail->mean_luminance * 2 * kPi * e.detail->map.projected(mapped(e, n));
  }
  // Half of it rises above a wall, none above a ceiling.
  const float open = 0.5f * (1 - n.dot(e.frame.z));
  return open > 1e-6f ? e.luminance * kPi * open : 0;
}

float sun_expected(const Emitter& e, const Vec3&, const Vec3& n) {
  const float sine = std::sqrt(e.sin2_disc);
  const float cosine = std::min(1.0f, -n.dot(e.frame.z) + sine);
  return cosine > 0 ? e.luminance * kPi * sine * sine * cosine : 0;
}

float distant_intensity(const Emitter&) { return 0; }

bool sky_covers(const Emitter& e, const Vec3& along) { return along.dot(e.frame.z) < 0; }

// |direction x axis|^2 is sin^2 of the angle between them.
bool sun_covers(const Emitter& e, const Vec3& along) {
  return sky_covers(e, along) && along.cross(e.frame.z).squaredNorm() < e.sin2_disc;
}

bool dome_covers(const Emitter&, const Vec3&) { return true; }

}  // namespace

const LightForm kSunForm = {sample_sun,
                            sun_pdf,
                            sun_luminance,
                            sun_expected,
                            distant_intensity,
                            no_reach,
                            shines_everywhere,
                            sun_covers};
const LightForm kSkyForm = {sample_sky,
                            sky_pdf,
                            sky_luminance,
                            sky_expected,
                            distant_intensity,
                            no_reach,
                            shines_everywhere,
                            sky_covers};
const LightForm kDomeForm = {sample_dome,
                             dome_pdf,
                             dome_luminance,
                             dome_expected,
                             distant_intensity,
                             no_reach,
                             shines_everywhere,
                             dome_covers};

}  // namespace jovilux
