// What lights bring to places where nothing is in the way, roughly: what they are chosen by.
#include "jovilux/emitters/emitter.h"
#include "jovilux/emitters/emitter_luminance.h"
#include "jovilux/emitters/light_form.h"
#include "jovilux/emitters/mask_window.h"

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

// The share of five places on a light from which barn doors let light pass to p.
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
  // A rough answer of nothing may be wrong, and a light that is never chosen would be lost.
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

float unmasked_illuminance(const Emitter& e, const Vec3& p, const Vec3& n, std::uint64_t links) {
  if (!e.shines() || !may_reach(e, p, links)) {
    return 0;
  }
  const float falloff = falloff_at(e, p);
  return falloff > 0 ? form_of(e).expected_illuminance(e, p, n) * falloff : 0;
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
  // What the nearest place of the ray gets, spread along the ray as the inverse square spreads it.
  const float t =
      std::clamp(span.nearest, 0.0f, std::isinf(end) ? std::max(span.nearest, 0.0f) : end);
  const float d2 = span.apart * span.apart + (t - span.nearest) * (t - span.nearest);
  // Without masks: the ray may cross light and dark.
  return unmasked_fluence(e, ray.at(t), links) * d2 / span.apart * (span.last - span.first);
}

}  // namespace jovilux
