// What lights bring to places where nothing is in the way, roughly: what they are chosen by.
#include "jovilux/emitters/emitter.h"
#include "jovilux/emitters/emitter_luminance.h"
#include "jovilux/emitters/mask_window.h"
#include "jovilux/emitters/seen_shapes.h"

#include <algorithm>
#include <cmath>

namespace jovilux {

BeamSteps beam_steps(const Emitter& spot) {
  constexpr float kEdge = 1e-5f;  // cosines of equal angles may differ by roundings
  if (spot.beam_exponent == 0) {
    return {spot.cos_beam - kEdge, spot.cos_beam - kEdge, 1, 0, 0};
  }
  return {spot.cos_beam, spot.cos_field, 0.75f, 0.3f, 0.02f};
}

namespace {

// The share of some places on a light from which barn doors let light pass to p.
float rough_doors(const Emitter& e, const Vec3& p) {
  const float x = 0.7f * std::max(e.half_width, 0.7f * e.radius),
              y = 0.7f * std::max(e.half_height, 0.7f * e.radius);
  int passed = 0, places = 0;
  for (const Vec2& at : {Vec2(0, 0), Vec2(-x, -y), Vec2(x, -y), Vec2(-x, y), Vec2(x, y)}) {
    const Vec3 from(at.x(), at.y(), 0);
    const Vec3 to = e.frame.to_local(p - e.center) - from;
    ++places;
    passed += e.detail->doors->lets_pass(from, to.normalized()) ? 1 : 0;
  }
  return static_cast<float>(passed) / static_cast<float>(places);
}

// What a mask and doors let through to p of all that they cover; never nothing.
float rough_mask(const Emitter& e, const Vec3& p) {
  constexpr float kLeast = 0.02f;
  if (e.detail == nullptr) {
    return 1;
  }
  if (e.detail->doors) {
    return std::max(kLeast, rough_doors(e, p));
  }
  if (!e.detail->gobo) {
    return 1;
  }
  if (MaskWindow::suits(e)) {
    return std::max(kLeast, MaskWindow(e, p, MaskWindow::Detail::kRough).open());
  }
  const LightTint t = tint_between(e, p, e.center, (e.center - p).normalized());
  return std::max(kLeast, t.gray * (t.colored ? luminance_of(t.rgb) : 1.0f));
}

// A dome or sky, whose horizon the surface may cut.
float illuminance_of_sky(const Emitter& e, const Vec3& n) {
  if (e.kind == LightKind::kDome) {
    return e.luminance * e.detail->mean_luminance * 4 * kPi * e.detail->map.projected(mapped(e, n));
  }
  if (has_map(e)) {
    return e.luminance * e.detail->mean_luminance * 2 * kPi * e.detail->map.projected(mapped(e, n));
  }
  // Half of it rises above a wall, none above a ceiling.
  const float open = 0.5f * (1 - n.dot(e.frame.z));
  return open > 1e-6f ? e.luminance * kPi * open : 0;
}

float illuminance_of_sun(const Emitter& e, const Vec3& n) {
  const float sine = std::sqrt(e.sin2_disc);
  const float cosine = std::min(1.0f, -n.dot(e.frame.z) + sine);
  return cosine > 0 ? e.luminance * kPi * sine * sine * cosine : 0;
}

float illuminance_of_tube(const Emitter& e, const Vec3& p, const Vec3& n, float falloff) {
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
  return per_meter / near * std::max(span, 1e-4f) * cosine * falloff;
}

// A light as a ball around its center that is seen from a place.
struct BallView {
  Vec3 to;           // from the place to the center
  float d, d2;       // distance
  float reach;       // the ball's radius
  float sine_reach;  // of the half angle that the ball fills
  float near2;       // squared distance, not below that of a place on a light of this size
  float cos_axis;    // between the light's axis and the way to the place

  BallView(const Emitter& e, const Vec3& p)
      : to(e.center - p), d(0), d2(to.squaredNorm()), reach(reach_of(e)) {
    d = std::sqrt(d2);
    sine_reach = std::min(1.0f, reach / std::max(d, 1e-12f));
    near2 = std::max(d2, 0.25f * reach * reach);
    cos_axis = -to.dot(e.frame.z) / std::max(d, 1e-12f);
  }
};

// A source without size; `cosine` at the surface.
float illuminance_of_point(const Emitter& e, const BallView& ball, float cosine, float falloff) {
  const float shape = e.detail != nullptr && e.detail->profile
                          ? relative_intensity_along(e, -ball.to / std::max(ball.d, 1e-12f))
                      : e.kind == LightKind::kSpot ? beam_steps(e).at(ball.cos_axis)
                                                   : 1.0f;
  return e.intensity * shape / std::max(ball.d2, 1e-12f) * cosine * falloff;
}

// A source with size whose intensity is given. It fills more than one direction: its share along
// the middle one, and never nothing.
float illuminance_of_beam(const Emitter& e, const BallView& ball, float cosine, float falloff) {
  const bool profiled = e.detail != nullptr && e.detail->profile;
  const float shape =
      profiled ? std::max(0.1f, relative_intensity_along(e, -ball.to / std::max(ball.d, 1e-12f)))
               : beam_steps(e).at(std::min(1.0f, ball.cos_axis + ball.sine_reach));
  const bool behind = e.kind != LightKind::kSphere && !e.two_sided && ball.cos_axis <= 0;
  return behind ? 0 : e.intensity * shape / ball.near2 * cosine * falloff;
}

// Disk and rect: nothing behind their plane; in front, the cosine at the light like that at the
// surface.
float illuminance_of_flat(const Emitter& e, const BallView& ball, float cosine, float falloff) {
  const float height = e.two_sided ? std::abs(ball.to.dot(e.frame.z)) : -ball.to.dot(e.frame.z);
  if (height <= 0) {
    return 0;
  }
  const float cos_light = mean_cosine(height / std::max(ball.d, 1e-12f), ball.sine_reach);
  if (e.half_spread > 0) {
    const float angle = std::acos(std::clamp(height / std::max(ball.d, 1e-12f), -1.0f, 1.0f));
    const float widest = angle - (ball.d > ball.reach ? std::asin(ball.sine_reach) : kPi);
    if (widest > e.half_spread) {
      return 0;
    }
  }
  return e.luminance * e.area() / ball.near2 * cosine * cos_light * falloff;
}

float unmasked_illuminance(const Emitter& e, const Vec3& p, const Vec3& n, std::uint64_t links) {
  if (!e.shines() || !may_reach(e, p, links)) {
    return 0;
  }
  if (e.kind == LightKind::kDome || e.kind == LightKind::kSky) {
    return illuminance_of_sky(e, n);
  }
  if (e.is_distant()) {
    return illuminance_of_sun(e, n);
  }
  const float falloff = falloff_at(e, p);
  if (falloff <= 0) {
    return 0;
  }
  if (e.kind == LightKind::kTube) {
    return illuminance_of_tube(e, p, n, falloff);
  }
  const BallView ball(e, p);
  // The cosine at the surface, over the angle that the light may fill.
  const float cosine = mean_cosine(n.dot(ball.to) / std::max(ball.d, 1e-12f), ball.sine_reach);
  if (cosine <= 0) {
    return 0;
  }
  if (e.kind == LightKind::kObject) {
    return e.luminance * static_cast<float>(e.detail->surface->area()) * 0.25f / ball.near2 *
           cosine * falloff;
  }
  if (e.kind == LightKind::kPoint || (e.kind == LightKind::kSpot && e.radius == 0)) {
    return illuminance_of_point(e, ball, cosine, falloff);
  }
  if (e.by_intensity) {
    return illuminance_of_beam(e, ball, cosine, falloff);
  }
  if (e.kind == LightKind::kSphere) {
    return e.luminance * e.area() / ball.near2 * cosine * falloff;
  }
  return illuminance_of_flat(e, ball, cosine, falloff);
}

float unmasked_fluence(const Emitter& e, const Vec3& p, std::uint64_t links) {
  if (e.is_distant()) {
    if (has_map(e)) {
      return e.shines() && may_reach(e, p, links) ? e.luminance * e.detail->mean_luminance * kPi
                                                  : 0;
    }
    return unmasked_illuminance(e, p, -e.frame.z, links);
  }
  Vec3 to = e.center - p;
  if (e.endless) {
    to -= to.dot(e.frame.x) * e.frame.x;
  }
  const float d = to.norm();
  return unmasked_illuminance(e, p, d > 0 ? Vec3(to / d) : Vec3(Vec3::UnitZ()), links);
}

}  // namespace

float expected_illuminance(const Emitter& e, const Vec3& p, const Vec3& n, std::uint64_t links) {
  const float bare = unmasked_illuminance(e, p, n, links);
  return bare > 0 ? bare * rough_mask(e, p) : 0;
}

float expected_fluence(const Emitter& e, const Vec3& p, std::uint64_t links) {
  const float bare = unmasked_fluence(e, p, links);
  return bare > 0 ? bare * rough_mask(e, p) : 0;
}

EquiangularSpan::EquiangularSpan(const Vec3& center, const Ray& ray, float end) {
  const Vec3 to = center - ray.origin;
  nearest = to.dot(ray.direction);
  apart = std::max((to - nearest * ray.direction).norm(), 1e-5f * (1e-3f + to.norm()));
  first = std::atan2(-nearest, apart);
  last = std::isinf(end) ? 0.5f * kPi : std::atan2(end - nearest, apart);
}

float expected_along(const Emitter& e, const Ray& ray, float end, std::uint64_t links) {
  if (e.is_distant() || !e.shines()) {
    return 0;
  }
  const EquiangularSpan span(e.center, ray, end);
  if (!(span.last > span.first)) {
    return 0;
  }
  // What the nearest place of the ray gets, spread as the inverse square spreads it along the ray.
  const float t =
      std::clamp(span.nearest, 0.0f, std::isinf(end) ? std::max(span.nearest, 0.0f) : end);
  const float d2 = span.apart * span.apart + (t - span.nearest) * (t - span.nearest);
  // Without masks: the ray may cross light and dark.
  return unmasked_fluence(e, ray.at(t), links) * d2 / span.apart * (span.last - span.first);
}

}  // namespace jovilux
