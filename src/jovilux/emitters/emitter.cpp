#include "jovilux/emitters/emitter.h"

#include "jovilux/color/rgb.h"
#include "jovilux/emitters/emitter_luminance.h"
#include "jovilux/emitters/mask_window.h"
#include "jovilux/emitters/seen_shapes.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace jovilux {
namespace {

// A direction evenly chosen inside a cone around z, given 1 - cos of its half angle (exact for
// narrow cones).
Vec3 cone_direction(float one_minus_cos, const Vec2& u) {
  const float v = u.x() * one_minus_cos;
  const float cosine = 1 - v, sine = std::sqrt(std::max(0.0f, v * (2 - v)));
  const float phi = 2 * kPi * u.y();
  return {sine * std::cos(phi), sine * std::sin(phi), cosine};
}

float cone_pdf(float one_minus_cos) { return 1 / (2 * kPi * one_minus_cos); }

// 1 - cos of the half angle that a sphere fills, from sin^2.
float one_minus_cos(float sin2) { return sin2 / (1 + std::sqrt(std::max(0.0f, 1 - sin2))); }

// On the unit disk, in proportion to (1 - rho^2)^w.
Vec2 disk_place(const Vec2& u, float w) {
  const float r =
      w > 0 ? std::sqrt(std::max(0.0f, 1 - std::pow(1 - u.x(), 1 / (w + 1)))) : std::sqrt(u.x());
  const float phi = 2 * kPi * u.y();
  return {r * std::cos(phi), r * std::sin(phi)};
}

LightSample toward_place(const Emitter& e,
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

LightSample toward_tube(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3* normal) {
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

float tube_pdf(const Emitter& e, const Vec3& p, const Vec3& wi, const Vec3* normal) {
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

LightSample toward_object(const Emitter& e, const Vec3& p, const Vec2& u) {
  LightSample out;
  const SurfaceSample place = e.detail->surface->sample(u);
  const Vec3 to = place.position - p;
  const float d2 = to.squaredNorm();
  if (!(place.pdf_area > 0) || !(d2 > 0)) {
    return out;
  }
  out.distance = std::sqrt(d2);
  out.wi = to / out.distance;
  const float cos_light =
      e.two_sided ? std::abs(out.wi.dot(place.normal)) : -out.wi.dot(place.normal);
  if (!(cos_light > 0)) {
    return {};
  }
  out.pdf = place.pdf_area * d2 / cos_light;
  out.weight = e.luminance * place.covered * falloff_at(e, p) / out.pdf;
  return out;
}

// Sampling without masks and tints.
LightSample toward_point(const Emitter& e, const Vec3& p) {
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

LightSample toward_sphere(const Emitter& e, const Vec3& p, const Vec2& u) {
  LightSample out;
  const Vec3 to = e.center - p;
  const float d2 = to.squaredNorm(), r2 = e.radius * e.radius;
  if (d2 <= r2) {
    return out;
  }
  const float omc = one_minus_cos(r2 / d2);
  const Frame frame = Frame::around(to / std::sqrt(d2));
  const Vec3 local = cone_direction(omc, u);
  out.wi = frame.to_world(local);
  out.pdf = cone_pdf(omc);
  // The near side along wi: the center's foot less half the chord.
  const float foot = std::sqrt(d2) * local.z();
  const float sin2 = local.x() * local.x() + local.y() * local.y();
  const float chord = std::sqrt(std::max(0.0f, r2 - d2 * sin2));
  out.distance = foot - chord;
  out.weight = sphere_luminance(e, -out.wi, chord / e.radius) * falloff_at(e, p) / out.pdf;
  return out;
}

// A spot's lens as well: evenly over the area, or by its hot center.
LightSample toward_disk_area(const Emitter& e, const Vec3& p, const Vec2& u) {
  const Vec2 q = disk_place(u, e.hot_center) * e.radius;
  return toward_place(e, p, e.center + q.x() * e.frame.x + q.y() * e.frame.y, 0);
}

LightSample toward_disk(const Emitter& e, const Vec3& p, const Vec2& u) {
  if (e.hot_center == 0) {
    if (const DiskStrips strips(e, p); strips.near()) {
      double density = 0;
      const Vec3d q = strips.place(u.x(), u.y(), &density) - strips.apart * strips.ex;
      return density > 0
                 ? toward_place(e, p, e.center + q.cast<float>(), static_cast<float>(density))
                 : LightSample{};
    }
  }
  return toward_disk_area(e, p, u);
}

LightSample toward_rect(const Emitter& e, const Vec3& p, const Vec2& u) {
  const SphericalRect rect(e, p);
  if (rect.solid_angle > kSmallSolidAngle) {
    const Vec3d q = rect.place(u.x(), u.y());
    const Vec3d d = (e.center - p).cast<double>();
    const Vec3 place = e.center +
                       static_cast<float>(q.x() - d.dot(e.frame.x.cast<double>())) * e.frame.x +
                       static_cast<float>(q.y() - d.dot(e.frame.y.cast<double>())) * e.frame.y;
    return toward_place(e, p, place, static_cast<float>(1 / rect.solid_angle));
  }
  return toward_place(e,
                      p,
                      e.center + (2 * u.x() - 1) * e.half_width * e.frame.x +
                          (2 * u.y() - 1) * e.half_height * e.frame.y,
                      0);
}

LightSample toward_sun(const Emitter& e, const Vec2& u) {
  LightSample out;
  const float omc = one_minus_cos(e.sin2_disc);
  out.wi = Frame::around(-e.frame.z).to_world(cone_direction(omc, u));
  out.pdf = cone_pdf(omc);
  out.distance = kFar;
  out.weight = e.luminance / out.pdf;
  return out;
}

// An even or overcast sky.
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

// A dome or a general sky.
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

LightSample bare_sample(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3* side) {
  switch (e.kind) {
    case LightKind::kSpot:
      return e.radius > 0 ? toward_disk_area(e, p, u) : toward_point(e, p);
    case LightKind::kPoint:
      return toward_point(e, p);
    case LightKind::kSphere:
      return toward_sphere(e, p, u);
    case LightKind::kDisk:
      return toward_disk(e, p, u);
    case LightKind::kRect:
      return toward_rect(e, p, u);
    case LightKind::kTube:
      return toward_tube(e, p, u, side);
    case LightKind::kObject:
      return toward_object(e, p, u);
    case LightKind::kSun:
      return toward_sun(e, u);
    case LightKind::kSky:
      return has_map(e) ? toward_map(e, u, side) : toward_plain_sky(e, u, side);
    case LightKind::kDome:
      return toward_map(e, u, side);
  }
  return {};
}

}  // namespace

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
  return c / std::max(1e-6f, (c * luminance).sum());
}

LightTint tint_between(const Emitter& e, const Vec3& p, const Vec3& place, const Vec3& wi) {
  LightTint out;
  if (e.detail == nullptr) {
    return out;
  }
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
  if (e.kind == LightKind::kDome) {
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
  Vec3 to = e.center - p;
  if (e.endless) {
    to -= to.dot(e.frame.x) * e.frame.x;
  }
  return falloff_weight(e.falloff, to.norm());
}

namespace {

// Over the solid angle of a flat light, of places chosen over its area.
float flat_pdf(const Emitter& e, const Vec3& p, const Vec3& wi, const LightPlace& at) {
  if (e.is_zero_size()) {
    return 0;
  }
  const float cos_light = e.two_sided ? std::abs(wi.dot(e.frame.z)) : -wi.dot(e.frame.z);
  if (cos_light <= 0) {
    return 0;
  }
  // To the light's plane along wi.
  const float t = std::abs((p - e.center).dot(e.frame.z)) / cos_light;
  return place_pdf(e, at.position) * t * t / cos_light;
}

float disk_pdf(const Emitter& e, const Vec3& p, const Vec3& wi, const LightPlace& at) {
  if (e.hot_center == 0) {
    if (const DiskStrips strips(e, p); strips.near()) {
      const Vec3d way = wi.cast<double>();
      const bool facing = e.two_sided || wi.dot(e.frame.z) < 0;
      return facing ? static_cast<float>(
                          strips.pdf(std::atan2(way.dot(strips.ey), way.dot(strips.ex))))
                    : 0;
    }
  }
  return flat_pdf(e, p, wi, at);
}

float rect_pdf(const Emitter& e, const Vec3& p, const Vec3& wi, const LightPlace& at) {
  const SphericalRect rect(e, p);
  return rect.solid_angle > kSmallSolidAngle ? static_cast<float>(1 / rect.solid_angle)
                                             : flat_pdf(e, p, wi, at);
}

// Density of bare_sample over solid angle.
float bare_pdf(
    const Emitter& e, const Vec3& p, const Vec3& wi, const LightPlace& at, const Vec3* side) {
  switch (e.kind) {
    case LightKind::kPoint:
      return 0;
    case LightKind::kSphere: {
      const float d2 = (e.center - p).squaredNorm(), r2 = e.radius * e.radius;
      return d2 > r2 ? cone_pdf(one_minus_cos(r2 / d2)) : 0;
    }
    case LightKind::kTube:
      return tube_pdf(e, p, wi, side);
    case LightKind::kObject: {
      const float cos_light = std::abs(wi.dot(at.normal));
      return cos_light > 0 ? e.detail->surface->pdf_area(at.normal) *
                                 (at.position - p).squaredNorm() / cos_light
                           : 0;
    }
    case LightKind::kSun:
      return cone_pdf(one_minus_cos(e.sin2_disc));
    case LightKind::kSky:
      if (!has_map(e)) {
        const SkyLune lune(e, side);
        return lune.empty() ? 0 : lune.pdf(wi, e.sky == SkyModel::kOvercast);
      }
      [[fallthrough]];
    case LightKind::kDome:
      return side != nullptr ? e.detail->map.pdf_above(mapped(e, *side), mapped(e, wi))
                             : e.detail->map.pdf(mapped(e, wi));
    case LightKind::kRect:
      return rect_pdf(e, p, wi, at);
    case LightKind::kDisk:
      return disk_pdf(e, p, wi, at);
    case LightKind::kSpot:
      return flat_pdf(e, p, wi, at);
  }
  return 0;
}

// Per solid angle around wi, of a density over the light's plane (sun: the mask's).
double per_solid_angle(const Emitter& e,
                       const MaskWindow& window,
                       const Vec3& wi,
                       double per_area) {
  const double cosine = std::abs(static_cast<double>(wi.dot(e.frame.z)));
  return cosine > 0 ? per_area * sqr(window.height()) / (cosine * cosine * cosine) : 0;
}

// Chosen by the mask and, in the share that is left, as without it.
LightSample through_mask(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3* side) {
  const MaskWindow window(e, p);
  if (window.dark()) {
    return {};
  }
  const float share = window.share();
  if (!(share > 0)) {
    return bare_sample(e, p, u, side);
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
    out = bare_sample(e, p, {(u.x() - share) / (1 - share), u.y()}, side);
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
      (share < 1 ? (1 - share) * static_cast<double>(bare_pdf(e, p, out.wi, at, side)) : 0.0));
  out.weight /= out.pdf;
  return out;
}

}  // namespace

LightSample sample_toward(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3* side) {
  LightSample out = MaskWindow::suits(e) ? through_mask(e, p, u, side) : bare_sample(e, p, u, side);
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
  const float bare = bare_pdf(e, p, wi, at, side);
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
  switch (e.kind) {
    case LightKind::kPoint:
      return 0;
    case LightKind::kSphere:
      return sphere_luminance(e, -along, -along.dot(at.normal));
    case LightKind::kTube:  // its ends are dark
      return e.radius > 0 && -along.dot(at.normal) > 0 && std::abs(at.normal.dot(e.frame.x)) < 0.5f
                 ? e.luminance
                 : 0;
    case LightKind::kObject:
      return e.two_sided || -along.dot(at.normal) > 0 ? e.luminance : 0;
    case LightKind::kSun:
      return e.luminance;
    case LightKind::kSky:
      if (!has_map(e)) {
        const float up = -along.dot(e.frame.z);
        return up > 0 ? e.luminance * relative_sky(e, up) : 0;
      }
      [[fallthrough]];
    case LightKind::kDome:
      return map_luminance(e, mapped(e, along));
    case LightKind::kSpot:
    case LightKind::kDisk:
    case LightKind::kRect:
      return e.is_zero_size() ? 0 : flat_luminance(e, at.position, -along);
  }
  return 0;
}

bool covers(const Emitter& e, const Vec3& along) {
  if (e.kind == LightKind::kDome) {
    return true;
  }
  const float down = along.dot(e.frame.z);
  // |direction x axis|^2 is sin^2 of the angle between them.
  return down < 0 &&
         (e.kind == LightKind::kSky || along.cross(e.frame.z).squaredNorm() < e.sin2_disc);
}

}  // namespace jovilux
