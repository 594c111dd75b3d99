#include "jovilux/photometry/sources.h"

#include <algorithm>
#include <cmath>
#include <vector>

#include <fmt/format.h>

#include "jovilux/base/assert.h"
#include "jovilux/base/quadrature.h"

namespace jovilux {
namespace {

constexpr std::pair<Form, std::string_view> kForms[] = {{Form::kPoint, "point"},   {Form::kSpot, "spot"},
                                                        {Form::kSphere, "sphere"}, {Form::kDisk, "disk"},
                                                        {Form::kRect, "rect"},     {Form::kSun, "sun"},
                                                        {Form::kSky, "sky"}};

double area(const SourceShape& s) {
  return s.form == Form::kDisk ? kPiD * s.radius * s.radius : s.width * s.height;
}

// Illuminance per luminance at d on the axis of a surface whose luminance narrows with `spread`.
double spread_illuminance_on_axis(const SourceShape& s, double d) {
  const auto from_point = [&](double r2) {
    const double cos2 = d * d / (r2 + d * d);
    return relative_spread(std::acos(std::min(1.0, std::sqrt(cos2))), s.half_spread) * cos2 / (r2 + d * d);
  };
  if (s.form == Form::kDisk) {
    const double edge = std::min(s.radius, d * std::tan(std::min(s.half_spread, kPiD / 2 - 1e-9)));
    return 2 * kPiD * integral([&](double r) { return r * from_point(r * r); }, 0, edge, 64);
  }
  return 4 * integral(
                 [&](double x) {
                   return integral([&](double y) { return from_point(x * x + y * y); }, 0, s.height / 2, 32);
                 },
                 0,
                 s.width / 2,
                 32);
}

SourceLevels from_luminance(const SourceShape& s, double L) {
  SourceLevels out;
  out.luminance = Nits{L};
  if (s.form == Form::kSphere) {
    out.intensity = Candela{kPiD * s.radius * s.radius * L};
    out.flux = Lumens{4 * kPiD * out.intensity->value};
  } else {
    out.intensity = Candela{area(s) * L};
    out.flux = Lumens{projected_solid_angle_of_spread(s.half_spread) * area(s) * L};
  }
  return out;
}

}  // namespace

std::string_view to_string(Form form) {
  for (const auto& [f, name] : kForms) {
    if (f == form) {
      return name;
    }
  }
  return "";
}

std::optional<Form> parse_form(std::string_view text) {
  for (const auto& [form, name] : kForms) {
    if (name == text) {
      return form;
    }
  }
  return std::nullopt;
}

std::vector<std::string> form_names() {
  std::vector<std::string> names;
  for (const auto& [form, name] : kForms) {
    names.emplace_back(name);
  }
  return names;
}

std::string output_units(Form form) {
  switch (form) {
    case Form::kPoint:
    case Form::kSpot: return "lm, cd, lx @ distance or W @ lm/W";
    case Form::kSun: return "lx on a surface facing it, or cd/m2 of its disc";
    case Form::kSky: return "lx on open level ground, or cd/m2 at the zenith";
    default: return "lm, cd, cd/m2, lx @ distance or W @ lm/W";
  }
}

LevelsOrFault source_levels(const SourceShape& shape, const Output& output) {
  using Kind = Output::Kind;
  const auto fault = [&] {
    return LevelsOrFault{std::nullopt,
                         fmt::format("a {} takes {}", to_string(shape.form), output_units(shape.form))};
  };
  const double flux = output.kind == Kind::kPower ? output.value * output.efficacy.value : output.value;
  const bool is_flux = output.kind == Kind::kFlux || output.kind == Kind::kPower;
  SourceLevels out;
  switch (shape.form) {
    case Form::kPoint:
    case Form::kSpot: {
      const double per_candela = shape.form == Form::kPoint ? 4 * kPiD : flux_per_candela(shape.beam);
      if (is_flux) {
        out.intensity = Candela{flux / per_candela};
      } else if (output.kind == Kind::kIntensity) {
        out.intensity = Candela{output.value};
      } else if (output.kind == Kind::kIlluminance && output.distance) {
        out.intensity = Candela{output.value * sqr(output.distance->value)};
      } else {
        return fault();
      }
      out.flux = Lumens{out.intensity->value * per_candela};
      return {out, ""};
    }
    case Form::kSphere:
    case Form::kDisk:
    case Form::kRect: {
      const SourceLevels unit = from_luminance(shape, 1);
      if (is_flux) {
        return {from_luminance(shape, flux / unit.flux->value), ""};
      }
      if (output.kind == Kind::kIntensity) {
        return {from_luminance(shape, output.value / unit.intensity->value), ""};
      }
      if (output.kind == Kind::kLuminance) {
        return {from_luminance(shape, output.value), ""};
      }
      if (output.kind == Kind::kIlluminance && output.distance) {
        if (shape.form == Form::kSphere && output.distance->value <= shape.radius) {
          return {std::nullopt,
                  fmt::format("the distance {} is inside the sphere of radius {}",
                              readable_length(output.distance->value),
                              readable_length(shape.radius))};
        }
        const double e = illuminance_on_axis(shape, unit, output.distance->value).value;
        return {from_luminance(shape, output.value / e), ""};
      }
      return fault();
    }
    case Form::kSun: {
      const double s = std::sin(shape.disc / 2);
      if (output.kind == Kind::kIlluminance && !output.distance) {
        out.illuminance = Lux{output.value};
        out.luminance = disc_luminance(*out.illuminance, shape.disc);
      } else if (output.kind == Kind::kLuminance) {
        out.luminance = Nits{output.value};
        out.illuminance = Lux{kPiD * output.value * s * s};
      } else {
        return fault();
      }
      return {out, ""};
    }
    case Form::kSky: {
      const double per_luminance = sky_illuminance_per_luminance(shape.sky);
      if (output.kind == Kind::kIlluminance && !output.distance) {
        out.illuminance = Lux{output.value};
        out.luminance = Nits{output.value / per_luminance};
      } else if (output.kind == Kind::kLuminance) {
        out.luminance = Nits{output.value};
        out.illuminance = Lux{output.value * per_luminance};
      } else {
        return fault();
      }
      return {out, ""};
    }
  }
  return fault();
}

Lux illuminance_on_axis(const SourceShape& shape, const SourceLevels& levels, double d) {
  JOVILUX_ASSERT(d > 0);
  switch (shape.form) {
    case Form::kPoint:
    case Form::kSpot: return {levels.intensity->value / (d * d)};
    case Form::kSphere: return {kPiD * levels.luminance->value * sqr(shape.radius / d)};
    case Form::kDisk:
      return {shape.half_spread > 0 ? levels.luminance->value * spread_illuminance_on_axis(shape, d)
                                    : disk_illuminance_on_axis(levels.luminance->value, shape.radius, d)};
    case Form::kRect:
      return {shape.half_spread > 0 ? levels.luminance->value * spread_illuminance_on_axis(shape, d)
                                    : rect_illuminance_on_axis(levels.luminance->value, shape.width, shape.height, d)};
    case Form::kSun:
    case Form::kSky: return *levels.illuminance;
  }
  return {};
}

double disk_illuminance_on_axis(double L, double radius, double d) {
  return kPiD * L * radius * radius / (radius * radius + d * d);
}

double rect_illuminance_on_axis(double L, double w, double h, double d) {
  const double a = w / 2, b = h / 2;
  const double pa = std::hypot(d, a), pb = std::hypot(d, b);
  return 4 * L / 2 * (a / pa * std::atan(b / pa) + b / pb * std::atan(a / pb));
}

double sphere_illuminance(double L, const Vec3d& center, double radius, const Vec3d& P, const Vec3d& n) {
  const Vec3d to = center - P;
  const double d = to.norm();
  JOVILUX_ASSERT(d > radius);
  const double H = d / radius;
  const double cos_w = std::clamp(n.dot(to) / d, -1.0, 1.0);
  if (cos_w * H >= 1) {
    return kPiD * L * cos_w / (H * H);
  }
  if (cos_w * H <= -1) {
    return 0;
  }
  const double sin_w = std::sqrt(1 - cos_w * cos_w);
  const double s = std::sqrt(H * H - 1);
  const double share = 0.5 - std::asin(std::min(1.0, s / (H * sin_w))) / kPiD +
                       (cos_w * std::acos(std::clamp(-s * cos_w / sin_w, -1.0, 1.0)) -
                        s * std::sqrt(std::max(0.0, 1 - H * H * cos_w * cos_w))) /
                           (kPiD * H * H);
  return kPiD * L * std::max(0.0, share);
}

double polygon_illuminance(double L, std::span<const Vec3d> corners, const Vec3d& P, const Vec3d& n) {
  JOVILUX_ASSERT(corners.size() >= 3);
  Vec3d facing = Vec3d::Zero();
  for (std::size_t i = 0; i < corners.size(); ++i) {
    facing += (corners[i] - P).cross(corners[(i + 1) % corners.size()] - P);
  }
  if (facing.dot(P - corners[0]) <= 0) {
    return 0;  // P is behind
  }
  std::vector<Vec3d> above;  // the part above the horizon
  for (std::size_t i = 0; i < corners.size(); ++i) {
    const Vec3d a = corners[i] - P, b = corners[(i + 1) % corners.size()] - P;
    const double ha = n.dot(a), hb = n.dot(b);
    if (ha >= 0) {
      above.push_back(a);
    }
    if ((ha < 0) != (hb < 0)) {
      above.push_back(a + (b - a) * (ha / (ha - hb)));
    }
  }
  double sum = 0;
  for (std::size_t i = 0; i < above.size(); ++i) {
    const Vec3d& a = above[i];
    const Vec3d& b = above[(i + 1) % above.size()];
    const Vec3d c = a.cross(b);
    const double length = c.norm();
    if (length > 0) {
      sum += std::atan2(length, a.dot(b)) * n.dot(c) / length;
    }
  }
  return std::abs(0.5 * L * sum);
}

double rect_illuminance(double L, const Vec3d& center, const Vec3d& u, const Vec3d& v, const Vec3d& P, const Vec3d& n) {
  const Vec3d corners[] = {center - u - v, center + u - v, center + u + v, center - u + v};
  return polygon_illuminance(L, corners, P, n);
}

double disk_illuminance(double L, const Vec3d& center, const Vec3d& axis, double radius, const Vec3d& P, const Vec3d& n) {
  // A regular polygon of the same area: 4e-7 from the disk at this number of corners.
  constexpr int kCorners = 2048;
  const Frame frame = Frame::around(axis.cast<float>());
  const Vec3d x = (frame.x.cast<double>() - axis * axis.dot(frame.x.cast<double>())).normalized();
  const Vec3d y = axis.cross(x);
  const double step = 2 * kPiD / kCorners;
  const double r = radius * std::sqrt(step / std::sin(step));
  std::vector<Vec3d> corners;
  corners.reserve(kCorners);
  for (int i = 0; i < kCorners; ++i) {
    corners.push_back(center + r * (std::cos(i * step) * x + std::sin(i * step) * y));
  }
  return polygon_illuminance(L, corners, P, n);
}

Nits disc_luminance(Lux E, double disc) { return {E.value / (kPiD * sqr(std::sin(disc / 2)))}; }

double sky_illuminance_per_luminance(SkyModel sky) { return sky == SkyModel::kUniform ? kPiD : 7 * kPiD / 9; }

double disc_share_past_chord(double u) {
  const double t = std::clamp(u, -1.0, 1.0);
  return 0.5 + (t * std::sqrt(1 - t * t) + std::asin(t)) / kPiD;
}

}  // namespace jovilux
