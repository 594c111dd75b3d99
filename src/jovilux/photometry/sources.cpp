#include "jovilux/photometry/sources.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/quadrature.h"

#include <algorithm>
#include <cmath>
#include <vector>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr std::pair<LightKind, std::string_view> kLightKinds[] = {{LightKind::kPoint, "point"},
                                                                  {LightKind::kSpot, "spot"},
                                                                  {LightKind::kSphere, "sphere"},
                                                                  {LightKind::kDisk, "disk"},
                                                                  {LightKind::kRect, "rect"},
                                                                  {LightKind::kTube, "tube"},
                                                                  {LightKind::kObject, "object"},
                                                                  {LightKind::kSun, "sun"},
                                                                  {LightKind::kSky, "sky"},
                                                                  {LightKind::kDome, "dome"}};

double area(const SourceShape& s) {
  switch (s.kind) {
    case LightKind::kSphere:  // the disc that it shows
    case LightKind::kSpot:
    case LightKind::kDisk:
      return kPiD * s.radius * s.radius;
    case LightKind::kTube:
      return 2 * s.radius * s.length;  // the strip that it shows
    case LightKind::kObject:
      return s.area;
    default:
      return s.width * s.height;
  }
}

// Illuminance per peak intensity, or per mean luminance, at d on the axis of a flat surface, by
// quadrature over it.
double flat_illuminance_on_axis(const SourceShape& s, double d) {
  const double A = area(s);
  // At (x, y) of the surface: luminance cos^2 / r^2.
  const auto from_place = [&](double x, double y) {
    const double r2 = x * x + y * y + d * d;
    const double cosine = d / std::sqrt(r2);
    const double weighting =
        s.hot_center > 0
            ? (s.kind == LightKind::kRect
                   ? hot_center_weighting(s.kind, s.hot_center, 2 * x / s.width, 2 * y / s.height)
                   : hot_center_weighting(
                         LightKind::kDisk, s.hot_center, std::hypot(x, y) / s.radius, 0))
            : 1.0;
    if (s.profile) {
      const Vec3d direction = Vec3d(-x, -y, d) / std::sqrt(r2);
      return weighting * s.profile->intensity(direction.cast<float>()) / s.profile->peak() / A *
             cosine / r2;
    }
    if (s.kind == LightKind::kSpot) {
      return weighting * relative_intensity(s.beam, std::acos(std::min(1.0, cosine))) / A * cosine /
             r2;
    }
    const double spread =
        s.half_spread > 0 ? relative_spread(std::acos(std::min(1.0, cosine)), s.half_spread) : 1.0;
    return weighting * spread * cosine * cosine / r2;
  };
  if (s.kind == LightKind::kRect) {
    return integral(
        [&](double x) {
          return integral(
              [&](double y) { return from_place(x, y); }, -s.height / 2, s.height / 2, 32);
        },
        -s.width / 2,
        s.width / 2,
        32);
  }
  const double edge =
      s.half_spread > 0 ? std::min(s.radius, d * std::tan(std::min(s.half_spread, kPiD / 2 - 1e-9)))
                        : s.radius;
  if (!s.profile) {
    return 2 * kPiD * integral([&](double r) { return r * from_place(r, 0); }, 0, edge, 64);
  }
  return integral(
      [&](double r) {
        return r * integral([&](double a) { return from_place(r * std::cos(a), r * std::sin(a)); },
                            0,
                            2 * kPiD,
                            16);
      },
      0,
      edge,
      32);
}

double sides(const SourceShape& s) { return s.two_sided ? 2 : 1; }

SourceLevels from_luminance(const SourceShape& s, double L) {
  SourceLevels out;
  out.luminance = Nits{L};
  switch (s.kind) {
    case LightKind::kSphere:
      out.intensity = Candela{area(s) * L};
      out.flux = Lumens{4 * kPiD * out.intensity->value};
      break;
    case LightKind::kTube:
      if (s.endless) {
        out.flux = Lumens{kPiD * kPiD * 2 * s.radius * L};
        out.per_meter = true;
      } else {
        out.intensity = Candela{area(s) * L};
        out.flux = Lumens{kPiD * kPiD * out.intensity->value};
      }
      break;
    case LightKind::kObject:
      out.flux = Lumens{kPiD * sides(s) * s.area * L};
      break;
    default:
      out.intensity = Candela{area(s) * L};
      out.flux = Lumens{sides(s) * projected_solid_angle_of_spread(s.half_spread) * area(s) * L};
  }
  return out;
}

// Of sources whose intensity by direction is given.
SourceLevels from_intensity(const SourceShape& s, double peak, double per_candela) {
  SourceLevels out;
  out.intensity = Candela{peak};
  out.flux = Lumens{peak * per_candela};
  if (!s.is_zero_size()) {
    out.luminance = Nits{peak / area(s)};
  }
  return out;
}

// Flux per candela of the peak: of a profile, of what a flat surface can send in front of itself.
double flux_per_peak(const SourceShape& s) {
  if (s.profile) {
    const bool front_only = !s.is_zero_size() && s.kind != LightKind::kSphere && !s.two_sided;
    return (front_only ? s.profile->flux_in_front() : s.profile->flux()) / s.profile->peak();
  }
  if (s.kind == LightKind::kPoint) {
    return 4 * kPiD;
  }
  return s.radius > 0 ? front_flux_per_candela(s.beam) : flux_per_candela(s.beam);
}

}  // namespace

std::string_view to_string(LightKind kind) {
  for (const auto& [f, name] : kLightKinds) {
    if (f == kind) {
      return name;
    }
  }
  return "";
}

std::optional<LightKind> parse_light_kind(std::string_view text) {
  for (const auto& [kind, name] : kLightKinds) {
    if (name == text) {
      return kind;
    }
  }
  return std::nullopt;
}

std::vector<std::string> light_kind_names() {
  std::vector<std::string> names;
  for (const auto& [kind, name] : kLightKinds) {
    names.emplace_back(name);
  }
  return names;
}

std::string output_units(LightKind kind) {
  switch (kind) {
    case LightKind::kPoint:
    case LightKind::kSpot:
      return "lm, cd, lx @ distance or W @ lm/W";
    case LightKind::kTube:
      return "lm, cd, cd/m2, lx @ distance or W @ lm/W; lm/m or cd/m2 when endless";
    case LightKind::kObject:
      return "lm, cd/m2 or W @ lm/W";
    case LightKind::kSun:
      return "lx on a surface facing it, or cd/m2 of its disc";
    case LightKind::kSky:
      return "lx on open level ground, or cd/m2 at the zenith";
    case LightKind::kDome:
      return "lx on open level ground, or \"as-is\"";
    default:
      return "lm, cd, cd/m2, lx @ distance or W @ lm/W";
  }
}

double hot_center_weighting(LightKind kind, double w, double qx, double qy) {
  const auto bell = [&](double q) { return std::pow(std::max(0.0, 1 - q * q), w); };
  if (kind == LightKind::kRect) {
    const double k = 2 * std::tgamma(w + 1.5) / (std::sqrt(kPiD) * std::tgamma(w + 1));
    return k * k * bell(qx) * bell(qy);
  }
  return (w + 1) * bell(std::hypot(qx, qy));
}

namespace {

using OutputKind = Output::Kind;

LevelsOrFault wrong_output(const SourceShape& shape) {
  return {std::nullopt,
          fmt::format("a {} takes {}", to_string(shape.kind), output_units(shape.kind))};
}

// An output as a light of one form states it; `flux` where it is one, of all of the light [lm].
struct StatedOutput {
  const Output& output;
  double flux = 0;

  bool is_flux() const {
    return output.kind == OutputKind::kFlux || output.kind == OutputKind::kPower;
  }
  bool at_distance() const {
    return output.kind == OutputKind::kIlluminance && output.distance.has_value();
  }
  // Illuminance facing the light, or on open ground below it.
  bool plain_illuminance() const {
    return output.kind == OutputKind::kIlluminance && !output.distance;
  }
};

// A point, and what is told by its intensity: profiles, beams.
LevelsOrFault levels_by_intensity(const SourceShape& shape, const StatedOutput& stated) {
  const Output& output = stated.output;
  const double per_candela = flux_per_peak(shape);
  if (stated.is_flux()) {
    return {from_intensity(shape, stated.flux / per_candela, per_candela), ""};
  }
  if (output.kind == OutputKind::kIntensity) {
    return {from_intensity(shape, output.value, per_candela), ""};
  }
  if (stated.at_distance()) {
    const double e =
        illuminance_on_axis(shape, from_intensity(shape, 1, per_candela), output.distance->value)
            .value;
    if (!(e > 0)) {
      return {std::nullopt, "its profile sends nothing along the axis; state lm or cd"};
    }
    return {from_intensity(shape, output.value / e, per_candela), ""};
  }
  if (output.kind == OutputKind::kLuminance && !shape.is_zero_size()) {
    return {from_intensity(shape, output.value * area(shape), per_candela), ""};
  }
  return wrong_output(shape);
}

// An ideal line: the flux of its length is pi^2 times the intensity perpendicular to it.
LevelsOrFault levels_of_line(const SourceShape& shape, const StatedOutput& stated) {
  const Output& output = stated.output;
  const auto line = [&](double intensity) {
    SourceLevels l;
    l.flux = Lumens{intensity * kPiD * kPiD};
    l.per_meter = shape.endless;
    if (!shape.endless) {
      l.intensity = Candela{intensity};
    }
    return l;
  };
  if (stated.at_distance()) {
    const double of_unit = illuminance_on_axis(shape, line(1), output.distance->value).value;
    return {line(output.value / of_unit), ""};
  }
  if (stated.is_flux()) {
    return {line(stated.flux / (kPiD * kPiD)), ""};
  }
  if (output.kind == OutputKind::kIntensity && !shape.endless) {
    return {line(output.value), ""};
  }
  return output.kind == OutputKind::kLuminance
             ? LevelsOrFault{std::nullopt, "an ideal line has no luminance; give it a radius"}
             : wrong_output(shape);
}

LevelsOrFault levels_of_surface(const SourceShape& shape, const StatedOutput& stated) {
  const Output& output = stated.output;
  if (shape.endless && output.kind == OutputKind::kIntensity) {
    return {std::nullopt, "an endless tube takes lm/m or cd/m2"};
  }
  const SourceLevels unit = from_luminance(shape, 1);
  if (stated.is_flux()) {
    return {from_luminance(shape, stated.flux / unit.flux->value), ""};
  }
  if (output.kind == OutputKind::kIntensity && unit.intensity) {
    return {from_luminance(shape, output.value / unit.intensity->value), ""};
  }
  if (output.kind == OutputKind::kLuminance) {
    return {from_luminance(shape, output.value), ""};
  }
  if (!stated.at_distance() || shape.kind == LightKind::kObject) {
    return wrong_output(shape);
  }
  const bool is_round = shape.kind == LightKind::kSphere || shape.kind == LightKind::kTube;
  if (is_round && output.distance->value <= shape.radius) {
    return {std::nullopt,
            fmt::format("the distance {} is inside the {} of radius {}",
                        readable_length(output.distance->value),
                        to_string(shape.kind),
                        readable_length(shape.radius))};
  }
  const double e = illuminance_on_axis(shape, unit, output.distance->value).value;
  return {from_luminance(shape, output.value / e), ""};
}

// Suns and skies: `per_luminance` turns luminance into illuminance [sr].
LevelsOrFault levels_of_sky(const SourceShape& shape,
                            const StatedOutput& stated,
                            double per_luminance) {
  SourceLevels out;
  if (stated.plain_illuminance()) {
    out.illuminance = Lux{stated.output.value};
    out.luminance = shape.kind == LightKind::kSun
                        ? disc_luminance(*out.illuminance, shape.angular_diameter)
                        : Nits{stated.output.value / per_luminance};
  } else if (stated.output.kind == OutputKind::kLuminance) {
    out.luminance = Nits{stated.output.value};
    out.illuminance = Lux{stated.output.value * per_luminance};
  } else {
    return wrong_output(shape);
  }
  return {out, ""};
}

LevelsOrFault levels_of_dome(const SourceShape& shape, const StatedOutput& stated) {
  SourceLevels out;
  if (stated.output.kind == OutputKind::kAsIs) {
    out.dome_factor = 1;
  } else if (stated.plain_illuminance()) {
    out.dome_factor = shape.dome_illuminance > 0 ? stated.output.value / shape.dome_illuminance : 0;
  } else {
    return wrong_output(shape);
  }
  out.illuminance = Lux{out.dome_factor * shape.dome_illuminance};
  return {out, ""};
}

}  // namespace

LevelsOrFault source_levels(const SourceShape& shape, const Output& output) {
  StatedOutput stated{
      output,
      output.kind == OutputKind::kPower ? output.value * output.efficacy.value : output.value};
  if (output.per_meter != shape.endless && (stated.is_flux() || output.per_meter)) {
    if (shape.kind != LightKind::kTube || shape.endless) {
      return {std::nullopt,
              shape.endless ? "an endless tube takes lm/m or cd/m2" : "only a tube takes lm/m"};
    }
    stated.flux *= shape.length;
  }
  if (shape.by_intensity() || shape.kind == LightKind::kPoint) {
    return levels_by_intensity(shape, stated);
  }
  switch (shape.kind) {
    case LightKind::kTube:
      return shape.radius == 0 ? levels_of_line(shape, stated) : levels_of_surface(shape, stated);
    case LightKind::kSphere:
    case LightKind::kDisk:
    case LightKind::kRect:
    case LightKind::kObject:
      return levels_of_surface(shape, stated);
    case LightKind::kSun:
      return levels_of_sky(shape, stated, kPiD * sqr(std::sin(shape.angular_diameter / 2)));
    case LightKind::kSky:
      return levels_of_sky(shape, stated, sky_illuminance_per_luminance(shape.sky));
    case LightKind::kDome:
      return levels_of_dome(shape, stated);
    default:
      return wrong_output(shape);
  }
}

Lux illuminance_on_axis(const SourceShape& shape, const SourceLevels& levels, double d) {
  JOVILUX_ASSERT(d > 0);
  const bool plain = !shape.profile && shape.hot_center == 0;
  switch (shape.kind) {
    case LightKind::kPoint:
    case LightKind::kSpot:
      if (shape.kind == LightKind::kSpot && shape.radius > 0) {
        return {levels.intensity->value * flat_illuminance_on_axis(shape, d)};
      }
      return {levels.intensity->value *
              (shape.profile ? shape.profile->on_axis() / shape.profile->peak() : 1.0) / (d * d)};
    case LightKind::kSphere: {
      // A hot center keeps it: what it takes from the rim, it gives to the middle.
      if (!shape.profile) {
        return {kPiD * levels.luminance->value * sqr(shape.radius / d)};
      }
      // Over the directions that it fills, turned about the axis.
      const double widest = std::asin(std::min(1.0, shape.radius / d));
      const auto ring = [&](double t) {
        return std::sin(t) * std::cos(t) *
               integral(
                   [&](double a) {
                     return shape.profile->intensity(
                         Vec3d(-std::sin(t) * std::cos(a), -std::sin(t) * std::sin(a), std::cos(t))
                             .cast<float>());
                   },
                   0,
                   2 * kPiD,
                   16);
      };
      return {levels.intensity->value / shape.profile->peak() / area(shape) *
              integral(ring, 0, widest, 32)};
    }
    case LightKind::kDisk:
    case LightKind::kRect:
      if (shape.profile) {
        return {levels.intensity->value * flat_illuminance_on_axis(shape, d)};
      }
      if (shape.half_spread > 0 || !plain) {
        return {levels.luminance->value * flat_illuminance_on_axis(shape, d)};
      }
      return {
          shape.kind == LightKind::kDisk
              ? disk_illuminance_on_axis(levels.luminance->value, shape.radius, d)
              : rect_illuminance_on_axis(levels.luminance->value, shape.width, shape.height, d)};
    case LightKind::kTube: {
      if (shape.endless) {
        return {endless_tube_illuminance(levels.flux->value, d)};
      }
      const double strength =
          shape.radius > 0 ? levels.luminance->value : levels.intensity->value / shape.length;
      return {tube_illuminance(strength,
                               {-shape.length / 2, 0, 0},
                               {shape.length / 2, 0, 0},
                               shape.radius,
                               {0, 0, -d},
                               Vec3d::UnitZ())};
    }
    case LightKind::kObject:
      return {};
    case LightKind::kSun:
    case LightKind::kSky:
    case LightKind::kDome:
      return *levels.illuminance;
  }
  return {};
}

double tube_illuminance(
    double L, const Vec3d& A, const Vec3d& B, double radius, const Vec3d& P, const Vec3d& n) {
  const Vec3d axis = (B - A).normalized();
  const double za = (A - P).dot(axis), zb = (B - P).dot(axis);
  const Vec3d across = A - P - za * axis;  // from P straight to the axis
  const double d = across.norm();
  if (d <= radius || !(d > 0)) {
    return 0;
  }
  const Vec3d to = across / d, side = axis.cross(to);
  const double along = n.dot(axis);
  // Integral of max(0, a cos b + along sin b) cos b over the angles b to the perpendicular in [b0,
  // b1].
  const auto strip = [&](double a, double b0, double b1) {
    const auto F = [&](double b) {
      return a * (b / 2 + std::sin(2 * b) / 4) + along * sqr(std::sin(b)) / 2;
    };
    const double horizon = along != 0 ? std::atan(-a / along) : 0;
    if (along > 0) {
      b0 = std::max(b0, horizon);
    } else if (along < 0) {
      b1 = std::min(b1, horizon);
    } else if (a <= 0) {
      return 0.0;
    }
    return b1 > b0 ? F(b1) - F(b0) : 0.0;
  };
  if (radius == 0) {
    return L / d * strip(n.dot(to), std::atan(za / d), std::atan(zb / d));
  }
  const double widest = std::asin(radius / d);
  // phi = widest sin(t): smooth where the tube's limb is grazed.
  return L * integral(
                 [&](double t) {
                   const double phi = widest * std::sin(t);
                   const double s =
                       d * std::cos(phi) -
                       std::sqrt(std::max(0.0, radius * radius - sqr(d * std::sin(phi))));
                   return widest * std::cos(t) *
                          strip(n.dot(std::cos(phi) * to + std::sin(phi) * side),
                                std::atan(za / s),
                                std::atan(zb / s));
                 },
                 -kPiD / 2,
                 kPiD / 2,
                 64);
}

double endless_tube_illuminance(double flux_per_meter, double d) {
  return flux_per_meter / (2 * kPiD * d);
}

double disk_illuminance_on_axis(double L, double radius, double d) {
  return kPiD * L * radius * radius / (radius * radius + d * d);
}

double rect_illuminance_on_axis(double L, double w, double h, double d) {
  const double a = w / 2, b = h / 2;
  const double pa = std::hypot(d, a), pb = std::hypot(d, b);
  return 4 * L / 2 * (a / pa * std::atan(b / pa) + b / pb * std::atan(a / pb));
}

double sphere_illuminance(
    double L, const Vec3d& center, double radius, const Vec3d& P, const Vec3d& n) {
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

double polygon_illuminance(double L,
                           std::span<const Vec3d> corners,
                           const Vec3d& P,
                           const Vec3d& n) {
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

double rect_illuminance(
    double L, const Vec3d& center, const Vec3d& u, const Vec3d& v, const Vec3d& P, const Vec3d& n) {
  const Vec3d corners[] = {center - u - v, center + u - v, center + u + v, center - u + v};
  return polygon_illuminance(L, corners, P, n);
}

double disk_illuminance(double L,
                        const Vec3d& center,
                        const Vec3d& axis,
                        double radius,
                        const Vec3d& P,
                        const Vec3d& n) {
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

double disc_share_past_chord(double u) {
  const double t = std::clamp(u, -1.0, 1.0);
  return 0.5 + (t * std::sqrt(1 - t * t) + std::asin(t)) / kPiD;
}

}  // namespace jovilux
