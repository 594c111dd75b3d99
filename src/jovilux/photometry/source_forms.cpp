// The forms of light, each a record: its names, its levels in all units, its light on the axis.
#include "jovilux/base/assert.h"
#include "jovilux/base/quadrature.h"
#include "jovilux/photometry/sources.h"

#include <algorithm>
#include <cmath>
#include <iterator>
#include <string_view>
#include <vector>

#include <fmt/format.h>

namespace jovilux {
namespace {

using OutputKind = Output::Kind;

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

// What a form of light does by itself; profiles and beams, which tell intensity by direction, are
// alike for all.
struct SourceForm {
  std::string_view name;
  std::string_view output_units;  // for messages
  // Of a flat source; of a round one what it shows of itself [m2].
  double (*area)(const SourceShape&);
  // All units of a luminance [cd/m2]; null where it has none, or another meaning.
  SourceLevels (*from_luminance)(const SourceShape&, double);
  // Of an output where no intensity by direction is given.
  LevelsOrFault (*levels)(const SourceShape&, const StatedOutput&);
  // Facing the source, on its axis, at a distance > 0 [m].
  Lux (*on_axis)(const SourceShape&, const SourceLevels&, double);
};
const SourceForm& form_of(LightKind kind);

double area(const SourceShape& s) { return form_of(s.kind).area(s); }
double area_of_disk(const SourceShape& s) { return kPiD * s.radius * s.radius; }
double area_of_rect(const SourceShape& s) { return s.width * s.height; }
double area_of_tube(const SourceShape& s) { return 2 * s.radius * s.length; }  // the strip it shows
double area_of_object(const SourceShape& s) { return s.area; }
double no_area(const SourceShape&) { return 0; }

// Illuminance per peak intensity, or per mean luminance, at d on the axis of a flat surface, by
// quadrature over it: of everything that has no closed form.
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
  // What the spread lets reach the axis is a disk of its own; the rest of the surface is dark
  // there.
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

SourceLevels flat_from_luminance(const SourceShape& s, double L) {
  SourceLevels out;
  out.luminance = Nits{L};
  out.intensity = Candela{area(s) * L};
  // A spread narrows the lobe, so that a lumen makes more luminance.
  out.flux = Lumens{sides(s) * projected_solid_angle_of_spread(s.half_spread) * area(s) * L};
  return out;
}

SourceLevels sphere_from_luminance(const SourceShape& s, double L) {
  SourceLevels out;
  out.luminance = Nits{L};
  out.intensity = Candela{area(s) * L};
  out.flux = Lumens{4 * kPiD * out.intensity->value};
  return out;
}

SourceLevels tube_from_luminance(const SourceShape& s, double L) {
  SourceLevels out;
  out.luminance = Nits{L};
  if (s.endless) {
    // A cylinder's flux is pi times its exitance area 2 pi r per meter: pi^2 times the strip 2 r
    // that it shows.
    out.flux = Lumens{kPiD * kPiD * 2 * s.radius * L};
    out.per_meter = true;
  } else {
    out.intensity = Candela{area(s) * L};
    out.flux = Lumens{kPiD * kPiD * out.intensity->value};
  }
  return out;
}

SourceLevels object_from_luminance(const SourceShape& s, double L) {
  SourceLevels out;
  out.luminance = Nits{L};
  out.flux = Lumens{kPiD * sides(s) * s.area * L};
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
  // A profile on a flat surface is cut behind it; on a point or a ball all of it leaves.
  if (s.profile) {
    const bool front_only = !s.is_zero_size() && s.kind != LightKind::kSphere && !s.two_sided;
    return (front_only ? s.profile->flux_in_front() : s.profile->flux()) / s.profile->peak();
  }
  if (s.kind == LightKind::kPoint) {
    return 4 * kPiD;
  }
  return s.radius > 0 ? front_flux_per_candela(s.beam) : flux_per_candela(s.beam);
}

LevelsOrFault wrong_output(const SourceShape& shape) {
  return {std::nullopt,
          fmt::format("a {} takes {}", form_of(shape.kind).name, form_of(shape.kind).output_units)};
}

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
  // Levels are linear in the output: a unit's illuminance at the distance turns any other.
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
  // Linear as well: the levels of 1 cd/m2 are scaled to what is stated.
  const SourceLevels unit = form_of(shape.kind).from_luminance(shape, 1);
  if (stated.is_flux()) {
    return {form_of(shape.kind).from_luminance(shape, stated.flux / unit.flux->value), ""};
  }
  if (output.kind == OutputKind::kIntensity && unit.intensity) {
    return {form_of(shape.kind).from_luminance(shape, output.value / unit.intensity->value), ""};
  }
  if (output.kind == OutputKind::kLuminance) {
    return {form_of(shape.kind).from_luminance(shape, output.value), ""};
  }
  if (!stated.at_distance() || shape.kind == LightKind::kObject) {
    return wrong_output(shape);
  }
  // A distance is measured from the middle; within the lamp it means nothing.
  const bool is_round = shape.kind == LightKind::kSphere || shape.kind == LightKind::kTube;
  if (is_round && output.distance->value <= shape.radius) {
    return {std::nullopt,
            fmt::format("the distance {} is inside the {} of radius {}",
                        readable_length(output.distance->value),
                        form_of(shape.kind).name,
                        readable_length(shape.radius))};
  }
  const double e = illuminance_on_axis(shape, unit, output.distance->value).value;
  return {form_of(shape.kind).from_luminance(shape, output.value / e), ""};
}

LevelsOrFault levels_of_tube(const SourceShape& shape, const StatedOutput& stated) {
  return shape.radius == 0 ? levels_of_line(shape, stated) : levels_of_surface(shape, stated);
}

// `per_luminance` turns luminance into illuminance [sr].
LevelsOrFault levels_by_illuminance(const SourceShape& shape,
                                    const StatedOutput& stated,
                                    double per_luminance) {
  SourceLevels out;
  if (stated.plain_illuminance()) {
    out.illuminance = Lux{stated.output.value};
    out.luminance = Nits{stated.output.value / per_luminance};
  } else if (stated.output.kind == OutputKind::kLuminance) {
    out.luminance = Nits{stated.output.value};
    out.illuminance = Lux{stated.output.value * per_luminance};
  } else {
    return wrong_output(shape);
  }
  return {out, ""};
}

LevelsOrFault levels_of_sun(const SourceShape& shape, const StatedOutput& stated) {
  return levels_by_illuminance(shape, stated, kPiD * sqr(std::sin(shape.angular_diameter / 2)));
}

// The quadrature of the sky's luminance turns one zenith luminance into lux.
LevelsOrFault levels_of_sky(const SourceShape& shape, const StatedOutput& stated) {
  return levels_by_illuminance(shape, stated, sky_illuminance_per_luminance(shape.sky));
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

Lux point_on_axis(const SourceShape& shape, const SourceLevels& levels, double d) {
  return {levels.intensity->value *
          (shape.profile ? shape.profile->on_axis() / shape.profile->peak() : 1.0) / (d * d)};
}

Lux spot_on_axis(const SourceShape& shape, const SourceLevels& levels, double d) {
  return shape.radius > 0 ? Lux{levels.intensity->value * flat_illuminance_on_axis(shape, d)}
                          : point_on_axis(shape, levels, d);
}

Lux sphere_on_axis(const SourceShape& shape, const SourceLevels& levels, double d) {
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

// By quadrature; nothing where a closed form does as well.
std::optional<Lux> uneven_on_axis(const SourceShape& shape, const SourceLevels& levels, double d) {
  if (shape.profile) {
    return Lux{levels.intensity->value * flat_illuminance_on_axis(shape, d)};
  }
  if (shape.half_spread > 0 || shape.hot_center > 0) {
    return Lux{levels.luminance->value * flat_illuminance_on_axis(shape, d)};
  }
  return std::nullopt;
}

Lux disk_on_axis(const SourceShape& shape, const SourceLevels& levels, double d) {
  const auto uneven = uneven_on_axis(shape, levels, d);
  return uneven ? *uneven : Lux{disk_illuminance_on_axis(levels.luminance->value, shape.radius, d)};
}

Lux rect_on_axis(const SourceShape& shape, const SourceLevels& levels, double d) {
  const auto uneven = uneven_on_axis(shape, levels, d);
  return uneven
             ? *uneven
             : Lux{rect_illuminance_on_axis(levels.luminance->value, shape.width, shape.height, d)};
}

Lux tube_on_axis(const SourceShape& shape, const SourceLevels& levels, double d) {
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

Lux object_on_axis(const SourceShape&, const SourceLevels&, double) { return {}; }

Lux distant_on_axis(const SourceShape&, const SourceLevels& levels, double) {
  return *levels.illuminance;
}

constexpr std::string_view kUnitsOfPoint = "lm, cd, lx @ distance or W @ lm/W",
                           kUnitsOfSurface = "lm, cd, cd/m2, lx @ distance or W @ lm/W";
constexpr SourceForm kForms[] = {  // in the order of LightKind
    {"point", kUnitsOfPoint, no_area, nullptr, levels_by_intensity, point_on_axis},
    {"spot", kUnitsOfPoint, area_of_disk, nullptr, levels_by_intensity, spot_on_axis},
    {"sphere",
     kUnitsOfSurface,
     area_of_disk,
     sphere_from_luminance,
     levels_of_surface,
     sphere_on_axis},
    {"disk", kUnitsOfSurface, area_of_disk, flat_from_luminance, levels_of_surface, disk_on_axis},
    {"rect", kUnitsOfSurface, area_of_rect, flat_from_luminance, levels_of_surface, rect_on_axis},
    {"tube",
     "lm, cd, cd/m2, lx @ distance or W @ lm/W; lm/m or cd/m2 when endless",
     area_of_tube,
     tube_from_luminance,
     levels_of_tube,
     tube_on_axis},
    {"object",
     "lm, cd/m2 or W @ lm/W",
     area_of_object,
     object_from_luminance,
     levels_of_surface,
     object_on_axis},
    {"sun",
     "lx on a surface facing it, or cd/m2 of its disc",
     no_area,
     nullptr,
     levels_of_sun,
     distant_on_axis},
    {"sky",
     "lx on open level ground, or cd/m2 at the zenith",
     no_area,
     nullptr,
     levels_of_sky,
     distant_on_axis},
    {"dome",
     "lx on open level ground, or \"as-is\"",
     no_area,
     nullptr,
     levels_of_dome,
     distant_on_axis}};

const SourceForm& form_of(LightKind kind) { return kForms[static_cast<std::size_t>(kind)]; }

}  // namespace

std::string_view to_string(LightKind kind) { return form_of(kind).name; }

std::optional<LightKind> parse_light_kind(std::string_view text) {
  for (std::size_t k = 0; k < std::size(kForms); ++k) {
    if (kForms[k].name == text) {
      return static_cast<LightKind>(k);
    }
  }
  return std::nullopt;
}

std::vector<std::string> light_kind_names() {
  std::vector<std::string> names;
  for (const SourceForm& form : kForms) {
    names.emplace_back(form.name);
  }
  return names;
}

std::string output_units(LightKind kind) { return std::string(form_of(kind).output_units); }

LevelsOrFault source_levels(const SourceShape& shape, const Output& output) {
  StatedOutput stated{
      output,
      output.kind == OutputKind::kPower ? output.value * output.efficacy.value : output.value};
  // A tube's lm may be stated for a meter of it: its length turns them into those of all of it.
  if (output.per_meter != shape.endless && (stated.is_flux() || output.per_meter)) {
    if (shape.kind != LightKind::kTube || shape.endless) {
      return {std::nullopt,
              shape.endless ? "an endless tube takes lm/m or cd/m2" : "only a tube takes lm/m"};
    }
    stated.flux *= shape.length;
  }
  return shape.by_intensity() ? levels_by_intensity(shape, stated)
                              : form_of(shape.kind).levels(shape, stated);
}

Lux illuminance_on_axis(const SourceShape& shape, const SourceLevels& levels, double d) {
  JOVILUX_ASSERT(d > 0);
  return form_of(shape.kind).on_axis(shape, levels, d);
}

}  // namespace jovilux
