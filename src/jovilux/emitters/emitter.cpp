#include "jovilux/emitters/emitter.h"

#include "jovilux/color/rgb.h"
#include "jovilux/emitters/emitter_luminance.h"
#include "jovilux/emitters/form_parts.h"
#include "jovilux/emitters/light_form.h"
#include "jovilux/emitters/mask_window.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace jovilux {

Eigen::Array3f PositionTint::at(const Vec3& p) const {
  const double values[4] = {p.x(), p.y(), p.z(), time_s};
  const double v = formula(values);
  Eigen::Array3f c = ramp.front().second;
  for (std::size_t i = 0; i < ramp.size(); ++i) {
    if (v < ramp[i].first) {
      if (i > 0) {
        const auto t =
            static_cast<float>((v - ramp[i - 1].first) / (ramp[i].first - ramp[i - 1].first));
        c = (1 - t) * ramp[i - 1].second + t * ramp[i].second;
      }
      break;
    }
    c = ramp[i].second;
  }
  // Tints are scaled to a luminance of 1: a light's power is stated apart.
  return c / std::max(1e-6f, (c * luminance).sum());
}

LightTint tint_between(const Emitter& e, const Vec3& p, const Vec3& place, const Vec3& wi) {
  LightTint out;
  if (e.detail == nullptr) {
    return out;
  }
  // Factors in the order in which light meets them: mask, screen, doors, picture of a dome, tint.
  if (float x, y; e.detail->gobo && mask_crossing(e, p, place, wi, x, y)) {
    const Eigen::Array3f t = e.detail->gobo->transmittance(x, y);
    if (e.detail->gobo->colored()) {
      out.rgb = t;
      out.colored = true;
      out.gray = t.maxCoeff() > 0 ? 1.0f : 0.0f;
    } else {
      out.gray = t[0];
    }
  }
  if (e.detail->screen) {
    const Vec3 at = e.frame.to_local(place - e.center);
    const Eigen::Array3f& pixel =
        e.detail->screen->at(at.x() / e.half_width, at.y() / e.half_height);
    const float luminance = luminance_of(pixel);
    out.gray *= luminance;
    if (luminance > 0) {
      out.rgb *= pixel / luminance;
      out.colored = true;
    }
  }
  if (e.detail->doors &&
      !e.detail->doors->lets_pass(e.frame.to_local(place - e.center), e.frame.to_local(-wi))) {
    out.gray = 0;
  }
  if (e.detail->dome) {
    const Eigen::Array3f& pixel = e.detail->dome->rgb[e.detail->map.cell(mapped(e, wi))];
    const float luminance = luminance_of(pixel);
    if (luminance > 0) {
      out.rgb *= pixel / luminance;
      out.colored = true;
    }
  }
  if (e.detail->tint) {
    out.rgb *= e.detail->tint->at(p);
    out.colored = true;
  }
  return out;
}

float falloff_at(const Emitter& e, const Vec3& p) {
  if (e.falloff.is_physical() || e.is_distant()) {
    return 1;
  }
  // A law's distance is to the lamp's middle, or to the axis of an endless tube.
  Vec3 to = e.center - p;
  if (e.endless) {
    to -= to.dot(e.frame.x) * e.frame.x;
  }
  return falloff_weight(e.falloff, to.norm());
}

namespace {

// A density over the light's plane (sun: the mask's) as one over solid angle around wi: d omega =
// cos^3 / height^2 dA.
double per_solid_angle(const Emitter& e,
                       const MaskWindow& window,
                       const Vec3& wi,
                       double per_area) {
  const double cosine = std::abs(static_cast<double>(wi.dot(e.frame.z)));
  return cosine > 0 ? per_area * sqr(window.height()) / (cosine * cosine * cosine) : 0;
}

// One-sample multiple importance sampling: a share of the places is chosen by what the mask lets
// pass, the others as without a mask; the density is that of both.
LightSample through_mask(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3* side) {
  const MaskWindow window(e, p);
  if (window.dark()) {
    return {};
  }
  const float share = window.share();
  if (!(share > 0)) {
    return form_of(e).sample(e, p, u, side);
  }
  LightSample out;
  LightPlace at;
  double by_mask;
  if (u.x() < share) {
    const auto [q, density] = window.place({u.x() / share, u.y()});
    by_mask = density;
    const Vec3 in_plane =
        static_cast<float>(q.x()) * e.frame.x + static_cast<float>(q.y()) * e.frame.y;
    if (e.is_distant()) {
      out.wi = (in_plane - static_cast<float>(window.height()) * e.frame.z).normalized();
      out.distance = kFar;
      out.weight = e.luminance;
    } else {
      at.position = e.center + in_plane;
      out = toward_place(e, p, at.position, 1);
    }
  } else {
    out = form_of(e).sample(e, p, {(u.x() - share) / (1 - share), u.y()}, side);
    at.position = e.is_distant() ? p : Vec3(p + out.wi * out.distance);
    by_mask = out.pdf > 0 ? window.density(window.seen(out.wi, at.position)) : 0;
    out.weight *= out.pdf;
  }
  if (!(out.weight > 0)) {
    return {};
  }
  by_mask = per_solid_angle(e, window, out.wi, by_mask);
  if (u.x() < share && !(by_mask > 0)) {  // a row without light, from a strip that has some
    return {};
  }
  out.pdf = static_cast<float>(
      share * by_mask +
      (share < 1 ? (1 - share) * static_cast<double>(form_of(e).pdf(e, p, out.wi, at, side))
                 : 0.0));
  out.weight /= out.pdf;
  return out;
}

}  // namespace

LightSample sample_toward(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3* side) {
  LightSample out =
      MaskWindow::suits(e) ? through_mask(e, p, u, side) : form_of(e).sample(e, p, u, side);
  if (e.detail != nullptr && out.weight > 0) {
    const LightTint tint =
        tint_between(e, p, e.is_distant() ? p : Vec3(p + out.wi * out.distance), out.wi);
    out.weight *= tint.gray;
    out.colored = tint.colored;
    out.rgb = tint.rgb;
  }
  return out;
}

float light_pdf(
    const Emitter& e, const Vec3& p, const Vec3& wi, const LightPlace& at, const Vec3* side) {
  const float bare = form_of(e).pdf(e, p, wi, at, side);
  if (!MaskWindow::suits(e) || !(bare > 0)) {
    return bare;
  }
  const MaskWindow window(e, p);
  if (window.dark() || !(window.share() > 0)) {
    return window.dark() ? 0 : bare;
  }
  const double by_mask =
      per_solid_angle(e, window, wi, window.density(window.seen(wi, at.position)));
  return static_cast<float>(window.share() * by_mask +
                            (1 - window.share()) * static_cast<double>(bare));
}

float seen_luminance(const Emitter& e, const Vec3& along, const LightPlace& at) {
  return form_of(e).luminance(e, along, at);
}

bool covers(const Emitter& e, const Vec3& along) { return form_of(e).covers(e, along); }

}  // namespace jovilux
