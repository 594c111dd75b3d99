#pragma once

#include "jovilux/color/rgb.h"
#include "jovilux/emitters/emitter.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace jovilux {

/// The angle between unit vectors, exact for small ones, where acos loses half of its digits.
inline float angle_between(const Vec3& a, const Vec3& b) {
  return std::atan2(a.cross(b).norm(), a.dot(b));
}

inline float spread_factor(const Emitter& e, const Vec3& away) {
  if (e.half_spread <= 0) {
    return 1;
  }
  const float t = angle_between(away, e.frame.z) / e.half_spread;
  return t >= 1 ? 0 : 1 - t * t * (3 - 2 * t);
}

inline float spot_factor(const Emitter& e, const Vec3& away) {
  const float theta = angle_between(away, e.frame.z);
  if (e.beam_exponent == 0) {
    return theta <= e.half_beam ? 1 : 0;
  }
  return std::exp(-std::numbers::ln2_v<float> * std::pow(theta / e.half_beam, e.beam_exponent));
}

/// The sky's luminance over that at the zenith; `up` is the sine of the elevation.
inline float relative_sky(const Emitter& e, float up) {
  return e.sky == SkyModel::kUniform ? 1.0f : (1 + 2 * up) / 3;
}

/// Of dome and general sky: east, north, up.
inline Vec3 mapped(const Emitter& e, const Vec3& d) {
  return {d.dot(e.frame.x), d.dot(e.frame.y), -d.dot(e.frame.z)};
}
inline Vec3 unmapped(const Emitter& e, const Vec3& m) {
  return m.x() * e.frame.x + m.y() * e.frame.y - m.z() * e.frame.z;
}
inline bool has_map(const Emitter& e) {
  return e.kind == LightKind::kDome || (e.kind == LightKind::kSky && e.sky == SkyModel::kGeneral);
}

/// Luminance of a dome or general sky in a mapped direction.
inline float map_luminance(const Emitter& e, const Vec3& m) {
  if (e.kind == LightKind::kDome) {
    return e.luminance * luminance_of(e.detail->dome->rgb[e.detail->map.cell(m)]);
  }
  return e.luminance * static_cast<float>(relative_sky_luminance(e.detail->sky, m.cast<double>()));
}

/// Relative intensity of a beam or profile in the unit direction `away` from the light.
inline float relative_intensity_along(const Emitter& e, const Vec3& away) {
  if (e.detail != nullptr && e.detail->profile) {
    return e.detail->profile->intensity(e.frame.to_local(away)) /
           static_cast<float>(e.detail->profile->peak());
  }
  return e.kind == LightKind::kSpot ? spot_factor(e, away) : 1.0f;
}

/// Luminance over its mean at a place of a flat light.
inline float weighting_at(const Emitter& e, const Vec3& place) {
  if (e.hot_center == 0) {
    return 1;
  }
  const Vec3 q = place - e.center;
  const float x = q.dot(e.frame.x), y = q.dot(e.frame.y);
  const auto bell = [&](float v2) { return std::pow(std::max(0.0f, 1 - v2), e.hot_center); };
  return e.kind == LightKind::kRect
             ? e.weight_scale * bell(sqr(x / e.half_width)) * bell(sqr(y / e.half_height))
             : e.weight_scale * bell((x * x + y * y) / (e.radius * e.radius));
}

/// Luminance of a flat light at a place, towards the unit direction `away`.
inline float flat_luminance(const Emitter& e, const Vec3& place, const Vec3& away) {
  float cosine = away.dot(e.frame.z);
  if (cosine <= 0) {
    if (!e.two_sided) {
      return 0;
    }
    cosine = -cosine;
  }
  if (!(cosine > 0)) {
    return 0;
  }
  if (e.by_intensity) {
    return e.intensity * relative_intensity_along(e, away) * weighting_at(e, place) /
           (e.area() * cosine);
  }
  const Vec3 facing = e.two_sided && away.dot(e.frame.z) < 0
                          ? Vec3(away - 2 * away.dot(e.frame.z) * e.frame.z)
                          : away;
  return e.luminance * spread_factor(e, facing) * weighting_at(e, place);
}

inline float sphere_luminance(const Emitter& e, const Vec3& away, float mu) {
  const float weighting =
      e.hot_center > 0 ? e.weight_scale * std::pow(std::max(0.0f, mu * mu), e.hot_center) : 1.0f;
  return weighting * (e.by_intensity ? e.intensity * relative_intensity_along(e, away) / e.area()
                                     : e.luminance);
}

/// Density over a flat light's area of places chosen by disk_place or evenly.
inline float place_pdf(const Emitter& e, const Vec3& place) {
  return (e.kind != LightKind::kRect && e.hot_center > 0 ? weighting_at(e, place) : 1.0f) /
         e.area();
}

}  // namespace jovilux
