#include "jovilux/emitters/emitter.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace jovilux {
namespace {

// A direction evenly chosen inside a cone around z, given 1 - cos of its half angle (exact for narrow cones).
Vec3 cone_direction(float one_minus_cos, const Vec2& u) {
  const float v = u.x() * one_minus_cos;
  const float cosine = 1 - v, sine = std::sqrt(std::max(0.0f, v * (2 - v)));
  const float phi = 2 * kPi * u.y();
  return {sine * std::cos(phi), sine * std::sin(phi), cosine};
}

float cone_pdf(float one_minus_cos) { return 1 / (2 * kPi * one_minus_cos); }

// 1 - cos of the half angle that a sphere fills, from sin^2.
float one_minus_cos(float sin2) { return sin2 / (1 + std::sqrt(std::max(0.0f, 1 - sin2))); }

Vec2 disk_place(const Vec2& u) {
  const float r = std::sqrt(u.x()), phi = 2 * kPi * u.y();
  return {r * std::cos(phi), r * std::sin(phi)};
}

// A rectangle as seen from a point: the pyramid of its edges. Double precision, for thin pyramids.
struct SphericalRect {
  double x0, x1, y0, y1, z0;
  double b0, b1, k, solid_angle;

  SphericalRect(const Emitter& e, const Vec3& p) {
    const Vec3d d = (e.center - p).cast<double>();
    const Vec3d x = e.frame.x.cast<double>(), y = e.frame.y.cast<double>(), z = e.frame.z.cast<double>();
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

float area_pdf(const Emitter& e, float distance2, float cos_light) { return distance2 / (cos_light * e.area()); }

// The angle between unit vectors, exact for small ones, where acos loses half of its digits.
float angle_between(const Vec3& a, const Vec3& b) { return std::atan2(a.cross(b).norm(), a.dot(b)); }

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

// The beam in three steps, from the cosine to the axis: enough for choosing among lights, and never 0 inside it.
float rough_spot_factor(const Emitter& e, float cos_axis) {
  constexpr float kEdge = 1e-5f;  // cosines of equal angles may differ by roundings
  if (e.beam_exponent == 0) {
    return cos_axis >= e.cos_beam - kEdge ? 1.0f : 0.0f;
  }
  return cos_axis >= e.cos_beam ? 0.75f : cos_axis >= e.cos_field ? 0.3f : 0.02f;
}

// The sky's luminance over that at the zenith; `up` is the sine of the elevation.
float relative_sky(const Emitter& e, float up) { return e.sky == SkyModel::kUniform ? 1.0f : (1 + 2 * up) / 3; }

// Both models are sampled in proportion to their luminance: (1 + 2 up) / (4 pi) is half even, half by the cosine.
float sky_pdf(const Emitter& e, float up) { return e.sky == SkyModel::kUniform ? 0.5f / kPi : (1 + 2 * up) / (4 * kPi); }

LightSample toward_place(const Emitter& e, const Vec3& p, const Vec3& place, float pdf_of_solid_angle) {
  LightSample out;
  const Vec3 to = place - p;
  const float d2 = to.squaredNorm();
  out.distance = std::sqrt(d2);
  out.wi = to / out.distance;
  const float cos_light = -out.wi.dot(e.frame.z);
  if (!(cos_light > 0) || !(out.distance > 0)) {
    return {};
  }
  out.pdf = pdf_of_solid_angle > 0 ? pdf_of_solid_angle : area_pdf(e, d2, cos_light);
  out.weight = e.luminance * spread_factor(e, -out.wi) * falloff_at(e, p) / out.pdf;
  return out;
}

}  // namespace

float falloff_at(const Emitter& e, const Vec3& p) {
  return e.falloff.is_physical() || e.is_distant() ? 1.0f : falloff_weight(e.falloff, (e.center - p).norm());
}

LightSample sample_toward(const Emitter& e, const Vec3& p, const Vec2& u) {
  LightSample out;
  switch (e.form) {
    case Form::kPoint:
    case Form::kSpot: {
      const Vec3 to = e.center - p;
      const float d2 = to.squaredNorm();
      if (!(d2 > 0)) {
        return out;
      }
      out.distance = std::sqrt(d2);
      out.wi = to / out.distance;
      out.weight = e.intensity / d2 * falloff_at(e, p);
      if (e.form == Form::kSpot) {
        out.weight *= spot_factor(e, -out.wi);
      }
      return out;
    }
    case Form::kSphere: {
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
      out.distance = foot - std::sqrt(std::max(0.0f, r2 - d2 * sin2));
      out.weight = e.luminance * falloff_at(e, p) / out.pdf;
      return out;
    }
    case Form::kDisk: {
      const Vec2 q = disk_place(u) * e.radius;
      return toward_place(e, p, e.center + q.x() * e.frame.x + q.y() * e.frame.y, 0);
    }
    case Form::kRect: {
      const SphericalRect rect(e, p);
      if (rect.solid_angle > kSmallSolidAngle) {
        const Vec3d q = rect.place(u.x(), u.y());
        const Vec3d d = (e.center - p).cast<double>();
        const Vec3 place = e.center + static_cast<float>(q.x() - d.dot(e.frame.x.cast<double>())) * e.frame.x +
                           static_cast<float>(q.y() - d.dot(e.frame.y.cast<double>())) * e.frame.y;
        return toward_place(e, p, place, static_cast<float>(1 / rect.solid_angle));
      }
      return toward_place(e,
                          p,
                          e.center + (2 * u.x() - 1) * e.half_width * e.frame.x +
                              (2 * u.y() - 1) * e.half_height * e.frame.y,
                          0);
    }
    case Form::kSun: {
      const float omc = one_minus_cos(e.sin2_disc);
      out.wi = Frame::around(-e.frame.z).to_world(cone_direction(omc, u));
      out.pdf = cone_pdf(omc);
      out.distance = kFar;
      out.weight = e.luminance / out.pdf;
      return out;
    }
    case Form::kSky: {
      float up = u.x();
      if (e.sky == SkyModel::kOvercast) {
        up = u.x() < 0.5f ? 2 * u.x() : std::sqrt(2 * u.x() - 1);
      }
      const float r = std::sqrt(std::max(0.0f, 1 - up * up)), phi = 2 * kPi * u.y();
      out.wi = Frame::around(-e.frame.z).to_world({r * std::cos(phi), r * std::sin(phi), up});
      out.pdf = sky_pdf(e, up);
      out.distance = kFar;
      out.weight = e.luminance * relative_sky(e, up) / out.pdf;
      return out;
    }
  }
  return out;
}

float light_pdf(const Emitter& e, const Vec3& p, const Vec3& wi) {
  switch (e.form) {
    case Form::kPoint:
    case Form::kSpot: return 0;
    case Form::kSphere: {
      const float d2 = (e.center - p).squaredNorm(), r2 = e.radius * e.radius;
      return d2 > r2 ? cone_pdf(one_minus_cos(r2 / d2)) : 0;
    }
    case Form::kSun: return cone_pdf(one_minus_cos(e.sin2_disc));
    case Form::kSky: return sky_pdf(e, std::max(0.0f, -wi.dot(e.frame.z)));
    case Form::kRect: {
      const SphericalRect rect(e, p);
      if (rect.solid_angle > kSmallSolidAngle) {
        return static_cast<float>(1 / rect.solid_angle);
      }
      [[fallthrough]];
    }
    case Form::kDisk: {
      const float cos_light = -wi.dot(e.frame.z);
      if (cos_light <= 0) {
        return 0;
      }
      const float t = (p - e.center).dot(e.frame.z) / cos_light;  // to the light's plane along wi
      return area_pdf(e, t * t, cos_light);
    }
  }
  return 0;
}

float seen_luminance(const Emitter& e, const Vec3& along) {
  switch (e.form) {
    case Form::kPoint:
    case Form::kSpot: return 0;
    case Form::kSphere:
    case Form::kSun: return e.luminance;
    case Form::kSky: {
      const float up = -along.dot(e.frame.z);
      return up > 0 ? e.luminance * relative_sky(e, up) : 0;
    }
    case Form::kDisk:
    case Form::kRect: {
      const float cos_light = -along.dot(e.frame.z);
      return cos_light > 0 ? e.luminance * spread_factor(e, -along) : 0;
    }
  }
  return 0;
}

bool covers(const Emitter& e, const Vec3& along) {
  const float down = along.dot(e.frame.z);
  // |direction x axis|^2 is sin^2 of the angle between them.
  return down < 0 && (e.form == Form::kSky || along.cross(e.frame.z).squaredNorm() < e.sin2_disc);
}

float expected_illuminance(const Emitter& e, const Vec3& p, const Vec3& n) {
  if (!e.shines()) {
    return 0;
  }
  if (e.form == Form::kSky) {  // half of it rises above a wall, none above a ceiling
    const float open = 0.5f * (1 - n.dot(e.frame.z));
    return open > 1e-6f ? e.luminance * kPi * open : 0;
  }
  if (e.is_distant()) {
    const float sine = std::sqrt(e.sin2_disc);
    const float cosine = std::min(1.0f, -n.dot(e.frame.z) + sine);
    return cosine > 0 ? e.luminance * kPi * sine * sine * cosine : 0;
  }
  const Vec3 to = e.center - p;
  const float d2 = to.squaredNorm();
  float reach = 0;  // radius of the ball around its center that holds the light
  switch (e.form) {
    case Form::kSphere:
    case Form::kDisk: reach = e.radius; break;
    case Form::kRect: reach = std::hypot(e.half_width, e.half_height); break;
    default: break;
  }
  const float d = std::sqrt(d2);
  // The cosine at the surface, widened by the angle that the light may fill.
  const float cosine = std::min(1.0f, (n.dot(to) + reach) / std::max(d, 1e-12f));
  if (cosine <= 0) {
    return 0;
  }
  const float falloff = falloff_at(e, p);
  if (falloff <= 0) {
    return 0;
  }
  const float near2 = std::max(d2, 0.25f * reach * reach);
  switch (e.form) {
    case Form::kPoint: return e.intensity / std::max(d2, 1e-12f) * cosine * falloff;
    case Form::kSpot: return e.intensity * rough_spot_factor(e, -to.dot(e.frame.z) / std::max(d, 1e-12f)) / std::max(d2, 1e-12f) * cosine * falloff;
    case Form::kSphere: return e.luminance * e.area() / near2 * cosine * falloff;
    default: break;
  }
  // Disk and rect: nothing behind their plane; in front, the cosine at the light widened like that at the surface.
  const float height = -to.dot(e.frame.z);
  if (height <= 0) {
    return 0;
  }
  const float sine_reach = std::min(1.0f, reach / std::max(d, 1e-12f));
  const float cos_light = std::min(1.0f, height / std::max(d, 1e-12f) + sine_reach);
  if (e.half_spread > 0) {
    const float angle = std::acos(std::clamp(height / std::max(d, 1e-12f), -1.0f, 1.0f));
    const float widest = angle - (d > reach ? std::asin(sine_reach) : kPi);
    if (widest > e.half_spread) {
      return 0;
    }
  }
  return e.luminance * e.area() / near2 * cosine * cos_light * falloff;
}

LightChoice choose_light(const std::vector<Emitter>& lights, const Vec3& p, const Vec3& n, float u) {
  constexpr std::size_t kKept = 64;  // expectations kept on the stack; beyond, they are computed again
  std::array<float, kKept> kept;     // NOLINT: filled before use
  LightChoice out;
  for (std::size_t i = 0; i < lights.size(); ++i) {
    const float x = expected_illuminance(lights[i], p, n);
    if (i < kKept) {
      kept[i] = x;
    }
    out.total += x;
  }
  if (!(out.total > 0)) {
    return out;
  }
  const float target = u * out.total;
  float sum = 0;
  for (std::size_t i = 0; i < lights.size(); ++i) {
    const float x = i < kKept ? kept[i] : expected_illuminance(lights[i], p, n);
    if (x <= 0) {
      continue;
    }
    sum += x;
    out.index = static_cast<std::uint32_t>(i);
    out.chance = x / out.total;
    if (target < sum) {
      break;
    }
  }
  return out;
}

}  // namespace jovilux
