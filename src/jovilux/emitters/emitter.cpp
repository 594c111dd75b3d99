#include "jovilux/emitters/emitter.h"

#include "jovilux/base/length.h"
#include "jovilux/color/rgb.h"
#include "jovilux/emitters/mask_window.h"

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

// A rectangle as seen from a point: the pyramid of its edges. Double precision, for thin pyramids.
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

// Below this the differences of angles lose digits; evenly over the area is as good there.
constexpr double kSmallSolidAngle = 1e-3;

// A disk as seen from a point near it, in narrow strips that run away from the point's foot on the
// disk's plane: a strip by its azimuth, then a direction evenly over the solid angle that the strip
// fills. Double precision, for points close to the plane.
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

// The angle between unit vectors, exact for small ones, where acos loses half of its digits.
float angle_between(const Vec3& a, const Vec3& b) {
  return std::atan2(a.cross(b).norm(), a.dot(b));
}

float spread_factor(const Emitter& e, const Vec3& away) {
  if (e.half_spread <= 0) {
    return 1;
  }
  const float t = angle_between(away, e.frame.z) / e.half_spread;
  return t >= 1 ? 0 : 1 - t * t * (3 - 2 * t);
}

float spot_factor(const Emitter& e, const Vec3& away) {
  const float theta = angle_between(away, e.frame.z);
  if (e.beam_exponent == 0) {
    return theta <= e.half_beam ? 1 : 0;
  }
  return std::exp(-std::numbers::ln2_v<float> * std::pow(theta / e.half_beam, e.beam_exponent));
}

// The sky's luminance over that at the zenith; `up` is the sine of the elevation.
float relative_sky(const Emitter& e, float up) {
  return e.sky == SkyModel::kUniform ? 1.0f : (1 + 2 * up) / 3;
}

// The part of an even or overcast sky above the horizon of a surface: a lune between two half
// circles that share the axis a, which is level and lies in the surface. Directions a t + sqrt(1 -
// t^2) (b cos psi + up sin psi) with 0 < psi < pi - theta, theta the surface's tilt; without a
// surface, theta = 0 and the whole sky.
// Chosen in proportion to the luminance: even over solid angle and by the sine of the elevation, in
// their shares.
struct SkyLune {
  Vec3 a, b, up;
  float span = kPi, cos_tilt = 1;  // pi - theta, cos theta
  bool by_elevation;               // half and half

  SkyLune(const Emitter& e, const Vec3* side)
      : up(-e.frame.z), by_elevation(e.sky == SkyModel::kOvercast) {
    a = e.frame.x;
    b = e.frame.y;
    if (side != nullptr) {
      const Vec3 level = *side - side->dot(up) * up;
      const float sine = level.norm();
      cos_tilt = std::clamp(side->dot(up), -1.0f, 1.0f);
      span = kPi - std::atan2(sine, cos_tilt);
      if (sine > 1e-6f) {
        b = level / sine;
        a = b.cross(up);
      }
    }
  }
  bool empty() const { return !(span > 1e-6f); }
  float even_part() const { return 2 * span; }  // integral of 1
  // Of 2 sin(elevation).
  float elevation_part() const { return by_elevation ? kPi * (1 + cos_tilt) : 0; }
  float pdf(float sine_of_elevation) const {
    return (by_elevation ? 1 + 2 * sine_of_elevation : 1) / (even_part() + elevation_part());
  }
  Vec3 place(Vec2 u) const {
    const float even = even_part() / (even_part() + elevation_part());
    float t, psi;
    if (u.x() < even) {
      t = 1 - 2 * u.x() / even;
      psi = u.y() * span;
    } else {
      // Even over a disk: t has the density of a chord.
      const float r = std::sqrt((u.x() - even) / (1 - even)), phi = 2 * kPi * u.y();
      t = r * std::cos(phi);
      const float chord = std::sqrt(std::max(1e-12f, 1 - t * t)),
                  w = std::clamp(r * std::sin(phi) / chord, -1.0f, 1.0f);
      psi = std::acos(std::clamp(1 - 0.5f * (w + 1) * (1 + cos_tilt), -1.0f, 1.0f));
    }
    const float s = std::sqrt(std::max(0.0f, 1 - t * t));
    return (t * a + s * (std::cos(psi) * b + std::sin(psi) * up)).normalized();
  }
};

// Of dome and general sky: east, north, up.
Vec3 mapped(const Emitter& e, const Vec3& d) {
  return {d.dot(e.frame.x), d.dot(e.frame.y), -d.dot(e.frame.z)};
}
Vec3 unmapped(const Emitter& e, const Vec3& m) {
  return m.x() * e.frame.x + m.y() * e.frame.y - m.z() * e.frame.z;
}
bool has_map(const Emitter& e) {
  return e.kind == LightKind::kDome || (e.kind == LightKind::kSky && e.sky == SkyModel::kGeneral);
}

// Luminance of a dome or general sky in a mapped direction.
float map_luminance(const Emitter& e, const Vec3& m) {
  if (e.kind == LightKind::kDome) {
    return e.luminance * luminance_of(e.detail->dome->rgb[e.detail->map.cell(m)]);
  }
  return e.luminance * static_cast<float>(relative_sky_luminance(e.detail->sky, m.cast<double>()));
}

// Relative intensity of a beam or profile in the unit direction `away` from the light.
float relative_intensity_along(const Emitter& e, const Vec3& away) {
  if (e.detail != nullptr && e.detail->profile) {
    return e.detail->profile->intensity(e.frame.to_local(away)) /
           static_cast<float>(e.detail->profile->peak());
  }
  return e.kind == LightKind::kSpot ? spot_factor(e, away) : 1.0f;
}

// Luminance over its mean at a place of a flat light.
float weighting_at(const Emitter& e, const Vec3& place) {
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

// Luminance of a flat light at a place, towards the unit direction `away`.
float flat_luminance(const Emitter& e, const Vec3& place, const Vec3& away) {
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

float sphere_luminance(const Emitter& e, const Vec3& away, float mu) {
  const float weighting =
      e.hot_center > 0 ? e.weight_scale * std::pow(std::max(0.0f, mu * mu), e.hot_center) : 1.0f;
  return weighting * (e.by_intensity ? e.intensity * relative_intensity_along(e, away) / e.area()
                                     : e.luminance);
}

// Density over a flat light's area of places chosen by disk_place or evenly.
float place_pdf(const Emitter& e, const Vec3& place) {
  return (e.kind != LightKind::kRect && e.hot_center > 0 ? weighting_at(e, place) : 1.0f) /
         e.area();
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
LightSample bare_sample(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3* side) {
  LightSample out;
  switch (e.kind) {
    case LightKind::kSpot:
      if (e.radius > 0) {
        const Vec2 q = disk_place(u, e.hot_center) * e.radius;
        return toward_place(e, p, e.center + q.x() * e.frame.x + q.y() * e.frame.y, 0);
      }
      [[fallthrough]];
    case LightKind::kPoint: {
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
    case LightKind::kSphere: {
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
    case LightKind::kDisk: {
      if (e.hot_center == 0) {
        if (const DiskStrips strips(e, p); strips.near()) {
          double density = 0;
          const Vec3d q = strips.place(u.x(), u.y(), &density) - strips.apart * strips.ex;
          return density > 0
                     ? toward_place(e, p, e.center + q.cast<float>(), static_cast<float>(density))
                     : out;
        }
      }
      const Vec2 q = disk_place(u, e.hot_center) * e.radius;
      return toward_place(e, p, e.center + q.x() * e.frame.x + q.y() * e.frame.y, 0);
    }
    case LightKind::kRect: {
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
    case LightKind::kTube:
      return toward_tube(e, p, u, side);
    case LightKind::kObject:
      return toward_object(e, p, u);
    case LightKind::kSun: {
      const float omc = one_minus_cos(e.sin2_disc);
      out.wi = Frame::around(-e.frame.z).to_world(cone_direction(omc, u));
      out.pdf = cone_pdf(omc);
      out.distance = kFar;
      out.weight = e.luminance / out.pdf;
      return out;
    }
    case LightKind::kSky:
      if (!has_map(e)) {
        const SkyLune lune(e, side);
        if (lune.empty()) {
          return out;
        }
        out.wi = lune.place(u);
        const float up = std::max(0.0f, -out.wi.dot(e.frame.z));
        out.pdf = lune.pdf(up);
        out.distance = kFar;
        out.weight = e.luminance * relative_sky(e, up) / out.pdf;
        return out;
      }
      [[fallthrough]];
    case LightKind::kDome: {
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
  }
  return out;
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
        return lune.empty() ? 0 : lune.pdf(std::max(0.0f, -wi.dot(e.frame.z)));
      }
      [[fallthrough]];
    case LightKind::kDome:
      return side != nullptr ? e.detail->map.pdf_above(mapped(e, *side), mapped(e, wi))
                             : e.detail->map.pdf(mapped(e, wi));
    case LightKind::kRect: {
      const SphericalRect rect(e, p);
      if (rect.solid_angle > kSmallSolidAngle) {
        return static_cast<float>(1 / rect.solid_angle);
      }
      [[fallthrough]];
    }
    case LightKind::kSpot:
    case LightKind::kDisk: {
      if (e.kind == LightKind::kDisk && e.hot_center == 0) {
        if (const DiskStrips strips(e, p); strips.near()) {
          const Vec3d way = wi.cast<double>();
          const bool facing = e.two_sided || wi.dot(e.frame.z) < 0;
          return facing ? static_cast<float>(
                              strips.pdf(std::atan2(way.dot(strips.ey), way.dot(strips.ex))))
                        : 0;
        }
      }
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

float unmasked_illuminance(const Emitter& e, const Vec3& p, const Vec3& n, std::uint64_t links) {
  if (!e.shines() || !may_reach(e, p, links)) {
    return 0;
  }
  if (e.kind == LightKind::kDome) {
    return e.luminance * e.detail->mean_luminance * 4 * kPi * e.detail->map.projected(mapped(e, n));
  }
  if (e.kind == LightKind::kSky) {  // half of it rises above a wall, none above a ceiling
    const float open = 0.5f * (1 - n.dot(e.frame.z));
    if (has_map(e)) {
      return e.luminance * e.detail->mean_luminance * 2 * kPi *
             e.detail->map.projected(mapped(e, n));
    }
    return open > 1e-6f ? e.luminance * kPi * open : 0;
  }
  if (e.is_distant()) {
    const float sine = std::sqrt(e.sin2_disc);
    const float cosine = std::min(1.0f, -n.dot(e.frame.z) + sine);
    return cosine > 0 ? e.luminance * kPi * sine * sine * cosine : 0;
  }
  const float falloff = falloff_at(e, p);
  if (falloff <= 0) {
    return 0;
  }
  if (e.kind == LightKind::kTube) {
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
  const Vec3 to = e.center - p;
  const float d2 = to.squaredNorm();
  float reach = 0;  // radius of the ball around its center that holds the light
  switch (e.kind) {
    case LightKind::kSphere:
    case LightKind::kSpot:
    case LightKind::kDisk:
      reach = e.radius;
      break;
    case LightKind::kRect:
      reach = std::hypot(e.half_width, e.half_height);
      break;
    case LightKind::kObject:
      reach = static_cast<float>(e.detail->surface->reach());
      break;
    default:
      break;
  }
  const float d = std::sqrt(d2);
  // The cosine at the surface, over the angle that the light may fill.
  const float sine_reach = std::min(1.0f, reach / std::max(d, 1e-12f));
  const float cosine = mean_cosine(n.dot(to) / std::max(d, 1e-12f), sine_reach);
  if (cosine <= 0) {
    return 0;
  }
  const float near2 = std::max(d2, 0.25f * reach * reach);
  const float cos_axis = -to.dot(e.frame.z) / std::max(d, 1e-12f);
  if (e.kind == LightKind::kObject) {
    return e.luminance * static_cast<float>(e.detail->surface->area()) * 0.25f / near2 * cosine *
           falloff;
  }
  if (e.kind == LightKind::kPoint || (e.kind == LightKind::kSpot && e.radius == 0)) {
    const float shape = e.detail != nullptr && e.detail->profile
                            ? relative_intensity_along(e, -to / std::max(d, 1e-12f))
                        : e.kind == LightKind::kSpot ? beam_steps(e).at(cos_axis)
                                                     : 1.0f;
    return e.intensity * shape / std::max(d2, 1e-12f) * cosine * falloff;
  }
  if (e.by_intensity) {
    // The light fills more than one direction: its share along the middle one, and never nothing.
    const bool profiled = e.detail != nullptr && e.detail->profile;
    const float shape = profiled
                            ? std::max(0.1f, relative_intensity_along(e, -to / std::max(d, 1e-12f)))
                            : beam_steps(e).at(std::min(1.0f, cos_axis + sine_reach));
    const bool behind = e.kind != LightKind::kSphere && !e.two_sided && cos_axis <= 0;
    return behind ? 0 : e.intensity * shape / near2 * cosine * falloff;
  }
  if (e.kind == LightKind::kSphere) {
    return e.luminance * e.area() / near2 * cosine * falloff;
  }
  // Disk and rect: nothing behind their plane; in front, the cosine at the light like that at the
  // surface.
  const float height = e.two_sided ? std::abs(to.dot(e.frame.z)) : -to.dot(e.frame.z);
  if (height <= 0) {
    return 0;
  }
  const float cos_light = mean_cosine(height / std::max(d, 1e-12f), sine_reach);
  if (e.half_spread > 0) {
    const float angle = std::acos(std::clamp(height / std::max(d, 1e-12f), -1.0f, 1.0f));
    const float widest = angle - (d > reach ? std::asin(sine_reach) : kPi);
    if (widest > e.half_spread) {
      return 0;
    }
  }
  return e.luminance * e.area() / near2 * cosine * cos_light * falloff;
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
