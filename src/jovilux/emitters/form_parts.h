#pragma once

// What several forms of light share; only their sources include it.

#include "jovilux/emitters/emitter.h"
#include "jovilux/emitters/emitter_luminance.h"
#include "jovilux/emitters/light_form.h"

#include <algorithm>
#include <cmath>

namespace jovilux {

/// A direction evenly chosen inside a cone around z, given 1 - cos of its half angle (exact for
/// narrow cones).
inline Vec3 cone_direction(float one_minus_cos, const Vec2& u) {
  const float v = u.x() * one_minus_cos;
  const float cosine = 1 - v, sine = std::sqrt(std::max(0.0f, v * (2 - v)));
  const float phi = 2 * kPi * u.y();
  return {sine * std::cos(phi), sine * std::sin(phi), cosine};
}

/// Its density [1/sr].
inline float cone_pdf(float one_minus_cos) { return 1 / (2 * kPi * one_minus_cos); }

/// 1 - cos of the half angle that a sphere fills, from sin^2.
inline float one_minus_cos(float sin2) { return sin2 / (1 + std::sqrt(std::max(0.0f, 1 - sin2))); }

/// The one sample toward a source without size.
inline LightSample toward_point(const Emitter& e, const Vec3& p) {
  LightSample out;
  const Vec3 to = e.center - p;
  const float d2 = to.squaredNorm();
  if (!(d2 > 0)) {
    return out;
  }
  out.distance = std::sqrt(d2);
  out.wi = to / out.distance;
  out.weight = e.intensity / d2 * falloff_at(e, p) * relative_intensity_along(e, -out.wi);
  return out;
}

/// A sample toward a place of a flat light that was chosen with a density over solid angle; 0: with
/// place_pdf() over its area.
inline LightSample toward_place(const Emitter& e,
                                const Vec3& p,
                                const Vec3& place,
                                float pdf_of_solid_angle) {
  LightSample out;
  const Vec3 to = place - p;
  const float d2 = to.squaredNorm();
  out.distance = std::sqrt(d2);
  out.wi = to / out.distance;
  const float cos_light = e.two_sided ? std::abs(out.wi.dot(e.frame.z)) : -out.wi.dot(e.frame.z);
  if (!(cos_light > 0) || !(out.distance > 0)) {
    return {};
  }
  out.pdf = pdf_of_solid_angle > 0 ? pdf_of_solid_angle : place_pdf(e, place) * d2 / cos_light;
  out.weight = flat_luminance(e, place, -out.wi) * falloff_at(e, p) / out.pdf;
  return out;
}

/// A light as a ball around its center that is seen from a place.
struct BallView {
  Vec3 to;           // from the place to the center
  float d, d2;       // distance
  float reach;       // the ball's radius
  float sine_reach;  // of the half angle that the ball fills
  float near2;       // squared distance, not below that of a place on a light of this size
  float cos_axis;    // between the light's axis and the way to the place

  BallView(const Emitter& e, const Vec3& p, float radius)
      : to(e.center - p), d(0), d2(to.squaredNorm()), reach(radius) {
    d = std::sqrt(d2);
    sine_reach = std::min(1.0f, reach / std::max(d, 1e-12f));
    near2 = std::max(d2, 0.25f * reach * reach);
    cos_axis = -to.dot(e.frame.z) / std::max(d, 1e-12f);
  }
};

/// Expected illuminance of a light that fits into a ball [lx]: at(ball, cosine), with the mean
/// cosine at the surface over the angle that the ball fills; 0 where all of the ball lies below the
/// surface's horizon.
template <class At>
float expected_of_ball(const Emitter& e, float radius, const Vec3& p, const Vec3& n, const At& at) {
  const BallView ball(e, p, radius);
  const float cosine = mean_cosine(n.dot(ball.to) / std::max(ball.d, 1e-12f), ball.sine_reach);
  return cosine > 0 ? at(ball, cosine) : 0;
}

/// Expected illuminance of a light without size [lx]; `shape`: the relative intensity toward p.
inline float expected_of_point(const Emitter& e, const BallView& ball, float cosine, float shape) {
  return e.intensity * shape / std::max(ball.d2, 1e-12f) * cosine;
}

/// The relative intensity that a light's profile has toward the place seen from.
inline float profile_toward(const Emitter& e, const BallView& ball) {
  return relative_intensity_along(e, -ball.to / std::max(ball.d, 1e-12f));
}
inline bool has_profile(const Emitter& e) { return e.detail != nullptr && e.detail->profile; }

/// Expected illuminance of a light with size whose intensity by direction is given [lx]. The light
/// fills many directions as seen from p: the intensity toward its center stands for all of them,
/// and is never 0 on a side where the light shines.
inline float expected_of_beam(const Emitter& e,
                              const BallView& ball,
                              float cosine,
                              bool shines_behind) {
  constexpr float kLeastShare = 0.1f;
  const float shape = has_profile(e)
                          ? std::max(kLeastShare, profile_toward(e, ball))
                          : beam_steps(e).at(std::min(1.0f, ball.cos_axis + ball.sine_reach));
  const bool behind = !shines_behind && ball.cos_axis <= 0;
  return behind ? 0 : e.intensity * shape / ball.near2 * cosine;
}

}  // namespace jovilux
