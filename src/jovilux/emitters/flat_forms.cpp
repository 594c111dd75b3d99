// Disk, rect and spot, whose lens is a disk or a point.
#include "jovilux/base/length.h"
#include "jovilux/emitters/form_parts.h"

#include <algorithm>
#include <cmath>
#include <utility>

namespace jovilux {
namespace {

// A rectangle as seen from a point: the pyramid of its edges. Places are even over its solid angle
// (C. Urena, M. Fajardo, A. King, "An Area-Preserving Parametrization for Spherical Rectangles",
// CGF 32(4), 2013). Double precision, for thin pyramids.
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

  // The place in the rectangle's frame: an edge of the pyramid in x that cuts off the share u of
  // the solid angle, then the height in y by the sine.
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

// Below this the differences of angles lose digits; places even over the area are as good there.
constexpr double kSmallSolidAngle = 1e-3;

// A disk as seen from a point near it, in narrow strips that run away from the point's foot on the
// disk's plane: a strip by its azimuth, then a direction evenly over the solid angle that it
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

  // Where places even over the area serve badly: nearer than this share of the radius. Farther
  // away, strips serve worse.
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
  // The density of the azimuth: even where all strips meet the disk; else by a cosine that is 0
  // where strips are short.
  double azimuth_pdf(double azimuth) const {
    return widest > 0 ? std::cos(kPiD / 2 * azimuth / widest) * kPiD / (4 * widest)
                      : 1 / (2 * kPiD);
  }
  // The density over solid angle, at an azimuth.
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

// On the unit disk, in proportion to (1 - rho^2)^w.
Vec2 disk_place(const Vec2& u, float w) {
  const float r =
      w > 0 ? std::sqrt(std::max(0.0f, 1 - std::pow(1 - u.x(), 1 / (w + 1)))) : std::sqrt(u.x());
  const float phi = 2 * kPi * u.y();
  return {r * std::cos(phi), r * std::sin(phi)};
}

// For a spot's lens as well: places even over the area, or by the hot center.
LightSample toward_disk_area(const Emitter& e, const Vec3& p, const Vec2& u) {
  const Vec2 q = disk_place(u, e.hot_center) * e.radius;
  return toward_place(e, p, e.center + q.x() * e.frame.x + q.y() * e.frame.y, 0);
}

LightSample sample_disk(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3*) {
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

LightSample sample_rect(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3*) {
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

LightSample sample_spot(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3*) {
  return e.radius > 0 ? toward_disk_area(e, p, u) : toward_point(e, p);
}

// The density over solid angle of a place chosen over a flat light's area.
float flat_pdf(const Emitter& e, const Vec3& p, const Vec3& wi, const LightPlace& at, const Vec3*) {
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

float disk_pdf(
    const Emitter& e, const Vec3& p, const Vec3& wi, const LightPlace& at, const Vec3* side) {
  if (e.hot_center == 0) {
    if (const DiskStrips strips(e, p); strips.near()) {
      const Vec3d way = wi.cast<double>();
      const bool facing = e.two_sided || wi.dot(e.frame.z) < 0;
      return facing ? static_cast<float>(
                          strips.pdf(std::atan2(way.dot(strips.ey), way.dot(strips.ex))))
                    : 0;
    }
  }
  return flat_pdf(e, p, wi, at, side);
}

float rect_pdf(
    const Emitter& e, const Vec3& p, const Vec3& wi, const LightPlace& at, const Vec3* side) {
  const SphericalRect rect(e, p);
  return rect.solid_angle > kSmallSolidAngle ? static_cast<float>(1 / rect.solid_angle)
                                             : flat_pdf(e, p, wi, at, side);
}

float luminance_of_flat(const Emitter& e, const Vec3& along, const LightPlace& at) {
  return e.is_zero_size() ? 0 : flat_luminance(e, at.position, -along);
}

// Disk and rect: nothing behind their plane; in front, the cosine at the light is estimated like
// that at the surface.
float lambert_expected(const Emitter& e, const BallView& ball, float cosine) {
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
  return e.luminance * e.area() / ball.near2 * cosine * cos_light;
}

float flat_expected(const Emitter& e, float reach, const Vec3& p, const Vec3& n) {
  return expected_of_ball(e, reach, p, n, [&](const BallView& ball, float cosine) {
    return e.by_intensity ? expected_of_beam(e, ball, cosine, e.two_sided)
                          : lambert_expected(e, ball, cosine);
  });
}

float disk_reach(const Emitter& e) { return e.radius; }
float rect_reach(const Emitter& e) { return std::hypot(e.half_width, e.half_height); }

float disk_expected(const Emitter& e, const Vec3& p, const Vec3& n) {
  return flat_expected(e, disk_reach(e), p, n);
}
float rect_expected(const Emitter& e, const Vec3& p, const Vec3& n) {
  return flat_expected(e, rect_reach(e), p, n);
}

float spot_expected(const Emitter& e, const Vec3& p, const Vec3& n) {
  return expected_of_ball(e, e.radius, p, n, [&](const BallView& ball, float cosine) {
    if (e.radius > 0) {
      return expected_of_beam(e, ball, cosine, e.two_sided);
    }
    return expected_of_point(
        e,
        ball,
        cosine,
        has_profile(e) ? profile_toward(e, ball) : beam_steps(e).at(ball.cos_axis));
  });
}

float flat_intensity(const Emitter& e) {
  return e.by_intensity ? e.intensity : e.luminance * e.area();
}
float spot_intensity(const Emitter& e) { return e.intensity; }

ShiningCone flat_cone(const Emitter& e) {
  return e.two_sided || has_profile(e) ? ShiningCone{} : ShiningCone{e.frame.z, 0, 0.5f * kPi};
}

ShiningCone spot_cone(const Emitter& e) {
  if (has_profile(e)) {
    return {};
  }
  constexpr float kRounding = 0.01f;
  const float widest = std::acos(std::clamp(e.cos_beam, -1.0f, 1.0f)) + kRounding;
  return {e.frame.z, 0, e.beam_exponent == 0 && !e.two_sided ? std::min(kPi, widest) : kPi};
}

}  // namespace

const LightForm kSpotForm = {sample_spot,
                             flat_pdf,
                             luminance_of_flat,
                             spot_expected,
                             spot_intensity,
                             disk_reach,
                             spot_cone,
                             covers_nothing};
const LightForm kDiskForm = {sample_disk,
                             disk_pdf,
                             luminance_of_flat,
                             disk_expected,
                             flat_intensity,
                             disk_reach,
                             flat_cone,
                             covers_nothing};
const LightForm kRectForm = {sample_rect,
                             rect_pdf,
                             luminance_of_flat,
                             rect_expected,
                             flat_intensity,
                             rect_reach,
                             flat_cone,
                             covers_nothing};

}  // namespace jovilux
