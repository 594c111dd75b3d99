#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/files/photometric_file.h"
#include "jovilux/judge/conversion.h"
#include "jovilux/units/text.h"

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

SkyShape sky_of(const Arguments& a) {
  SkyShape sky;
  const auto model = a.text("model");
  const auto cie = a.whole("cie", 1, 15);
  if (model && *model != "uniform" && *model != "overcast" && *model != "clear") {
    throw UsageError(fmt::format("--model: found \"{}\"; expected uniform, overcast or clear",
                                 printable(*model)));
  }
  if (model && cie) {
    throw UsageError(
        "--model and --cie are both given; one of them says how the sky's luminance is spread");
  }
  if (!cie && model != "clear") {
    sky.model = model == "overcast" ? SkyModel::kOvercast : SkyModel::kUniform;
    return sky;
  }
  sky.model = SkyModel::kGeneral;
  sky.general = cie.value_or(12);
  if (knows_sun(sky.general)) {
    const auto text = a.text("elevation");
    if (!text) {
      throw UsageError("this sky needs the sun's --elevation, such as --elevation 30deg");
    }
    const double elevation = amount_option("--elevation", *text, Dimension::kAngle, kPiD / 180);
    if (elevation > kPiD / 2) {
      throw UsageError("--elevation: expected an angle above 0, up to 90 deg");
    }
    sky.towards_sun = {std::cos(elevation), 0, std::sin(elevation)};
  }
  return sky;
}

// The kind that --kind names, else the one that the sizes given belong to.
LightKind kind_of(const Arguments& a) {
  const auto name = a.text("kind");
  if (name) {
    const auto kind = parse_light_kind(*name);
    if (!kind) {
      throw UsageError(fmt::format(
          "--kind: found \"{}\"; expected {}", printable(*name), join_or(light_kind_names())));
    }
    return *kind;
  }
  return a.text("profile")            ? LightKind::kPoint
         : a.text("length")           ? LightKind::kTube
         : a.text("area")             ? LightKind::kObject
         : a.text("size")             ? LightKind::kRect
         : a.text("beam")             ? LightKind::kSpot
         : a.text("radius")           ? LightKind::kSphere
         : a.text("angular-diameter") ? LightKind::kSun
                                      : LightKind::kPoint;
}

std::string needed(const Arguments& a,
                   LightKind kind,
                   const std::string& name,
                   const std::string& example) {
  const auto v = a.text(name);
  if (!v) {
    throw UsageError(
        fmt::format("a {} needs --{}, such as --{} {}", to_string(kind), name, name, example));
  }
  return *v;
}

double length_or(const Arguments& a, const std::string& name, double otherwise) {
  const auto v = a.text(name);
  return v ? amount_option("--" + name, *v, Dimension::kLength, 1) : otherwise;
}
double angle_or(const Arguments& a, const std::string& name, double otherwise) {
  const auto v = a.text(name);
  return v ? amount_option("--" + name, *v, Dimension::kAngle, kDegree) : otherwise;
}

void take_rect_size(const Arguments& a, SourceShape& s) {
  const std::string size = needed(a, s.kind, "size", "60cmx30cm");
  const auto cross = size.find('x');
  if (cross == std::string::npos) {
    throw UsageError(fmt::format("--size: found \"{}\"; expected width x height, such as 60cmx30cm",
                                 printable(size)));
  }
  s.width = amount_option("--size", size.substr(0, cross), Dimension::kLength, 1);
  s.height = amount_option("--size", size.substr(cross + 1), Dimension::kLength, 1);
}

void take_area(const Arguments& a, SourceShape& s) {
  const std::string area = needed(a, s.kind, "area", "0.12");
  const auto value = parse_number(area);
  if (!value || !(*value > 0)) {
    throw UsageError(
        fmt::format("--area: found \"{}\"; expected square meters, above 0", printable(area)));
  }
  s.area = *value;
}

void take_beam(const Arguments& a, SourceShape& s) {
  const double beam =
      amount_option("--beam", needed(a, s.kind, "beam", "24deg"), Dimension::kAngle, kDegree);
  const double field = angle_or(a, "field", beam);
  if (beam > kPiD || field > kPiD || field < beam) {
    throw UsageError(
        "--beam and --field are full angles up to 180 deg, the field not narrower than the beam");
  }
  s.beam = spot_beam({beam}, {field});
}

void take_size(const Arguments& a, SourceShape& s) {
  switch (s.kind) {
    case LightKind::kPoint:
      break;
    case LightKind::kSphere:
    case LightKind::kDisk:
      s.radius =
          amount_option("--radius", needed(a, s.kind, "radius", "6cm"), Dimension::kLength, 1);
      break;
    case LightKind::kRect:
      take_rect_size(a, s);
      break;
    case LightKind::kTube: {
      const std::string length = needed(a, s.kind, "length", "120cm");
      s.endless = length == "endless";
      s.length = s.endless ? 0 : amount_option("--length", length, Dimension::kLength, 1);
      s.radius = length_or(a, "radius", 0);
      break;
    }
    case LightKind::kObject:
      take_area(a, s);
      break;
    case LightKind::kSpot:
      s.radius = length_or(a, "radius", s.radius);
      if (!a.text("profile")) {
        take_beam(a, s);
      }
      break;
    case LightKind::kSky:
      s.sky = sky_of(a);
      break;
    case LightKind::kSun:
      s.angular_diameter = angle_or(a, "angular-diameter", degrees(0.533).value);
      break;
    case LightKind::kDome:
      throw UsageError("a dome's levels follow from its image; see jovilux check");
  }
}

// An option that lights of other kinds than `kinds` do not have.
void refuse(const SourceShape& s, bool has_it, const std::string& option, const char* kinds) {
  if (!has_it) {
    throw UsageError(fmt::format("a {} has no {}; {} have", to_string(s.kind), option, kinds));
  }
}

void take_shaping(const Arguments& a, SourceShape& s) {
  const bool flat = s.kind == LightKind::kDisk || s.kind == LightKind::kRect,
             sphere = s.kind == LightKind::kSphere;
  if (a.text("spread")) {
    refuse(s, flat, "--spread", "disk and rect");
    const double angle = angle_or(a, "spread", kPiD);
    if (angle < kDegree || angle > kPiD) {
      throw UsageError("--spread is a full angle from 1 to 180 deg");
    }
    s.half_spread = angle / 2;
  }
  if (a.flag("two-sided")) {
    refuse(s, flat || s.kind == LightKind::kObject, "--two-sided", "disk, rect and object");
    s.two_sided = true;
  }
  if (const auto weight = a.number("center-weight", 0, 100)) {
    refuse(s, flat || sphere, "--center-weight", "disk, rect and sphere");
    s.hot_center = *weight;
  }
  if (const auto profile = a.text("profile")) {
    const bool may = flat || sphere || s.kind == LightKind::kPoint || s.kind == LightKind::kSpot;
    refuse(s, may, "--profile", "point, spot, sphere, disk and rect");
    const auto file = load_photometric(*profile);
    print_problems(file.problems());
    if (!file) {
      throw BadInput{};
    }
    s.profile = std::make_shared<LuminousDistribution>(file->grid);
  }
}

SourceShape shape_of(const Arguments& a) {
  SourceShape s;
  s.kind = kind_of(a);
  take_size(a, s);
  take_shaping(a, s);
  return s;
}

// The output that VALUE UNIT names; "60 W" beside --efficacy is "60 W @ 14 lm/W".
Output output_of(const Arguments& a, double efficacy) {
  const std::string text = a.positional();
  const bool sun = a.text("kind") == "sun" || a.text("kind") == "sky" ||
                   (!a.text("kind") && a.text("angular-diameter"));
  const auto amount = parse_amount(text);
  const auto* power = std::get_if<Amount>(&amount);
  const bool by_power = power != nullptr && power->dimension == Dimension::kPower && efficacy > 0;
  const auto parsed =
      parse_output(by_power ? fmt::format("{} @ {} lm/W", text, efficacy) : text, sun);
  if (const auto* fault = std::get_if<UnitFault>(&parsed)) {
    throw UsageError(fault->text + (fault->hint.empty() ? "" : "; " + fault->hint));
  }
  return std::get<Output>(parsed);
}

Conversion conversion_of(const Arguments& a, const SourceShape& shape) {
  double efficacy = 0;
  if (const auto e = a.text("efficacy")) {
    efficacy = amount_option("--efficacy", *e, Dimension::kEfficacy, 1);
  }
  const Output output = output_of(a, efficacy);
  std::vector<double> distances;
  for (const std::string& d : a.texts("at")) {
    distances.push_back(amount_option("--at", d, Dimension::kLength, 1));
  }
  if (distances.empty()) {
    distances = {1, 2, 4, 8};
  }
  const ConversionOrFault result = convert_light(shape, output, distances, efficacy);
  if (!result.conversion) {
    throw UsageError(
        fmt::format("\"{}\": {}{}",
                    printable(a.positional()),
                    result.fault,
                    shape.kind == LightKind::kPoint && output.kind == Output::Kind::kLuminance
                        ? "; a luminance needs a surface: add --radius or --size"
                        : ""));
  }
  return *result.conversion;
}

Json conversion_json(const SourceShape& shape, const Conversion& c) {
  const auto plain = [](const std::optional<double>& v) { return v ? Json(*v) : Json(nullptr); };
  Json j = {{"kind", to_string(shape.kind)},
            {"flux_lm", c.levels.per_meter ? Json(nullptr) : number_or_null(c.levels.flux)},
            {"flux_lm_per_m", c.levels.per_meter ? number_or_null(c.levels.flux) : Json(nullptr)},
            {"intensity_cd", number_or_null(c.levels.intensity)},
            {"luminance_cd_m2", number_or_null(c.levels.luminance)},
            {"illuminance_lx", Json::array()},
            {"power_w", plain(c.power_w)},
            {"efficacy_lm_w", plain(c.efficacy_lm_w)},
            {"ev100", plain(c.ev100)},
            {"ev100_surface", plain(c.ev100_surface)}};
  for (const auto& at : c.illuminance) {
    j["illuminance_lx"].push_back(
        {{"distance_m", at.distance_m}, {"value", plain(at.illuminance_lx)}});
  }
  return j;
}

using ConversionRows = std::vector<std::vector<std::string>>;

void add_row(ConversionRows& rows, const std::string& what, double v, const std::string& unit) {
  rows.push_back({what, short_number(v), unit});
}

void add_illuminances(ConversionRows& rows, const SourceShape& shape, const Conversion& c) {
  const bool distant = is_distant(shape.kind);
  for (const auto& at : c.illuminance) {
    const std::string where = shape.kind == LightKind::kSun ? std::string("illuminance facing it")
                              : distant ? std::string("illuminance on open ground")
                                        : "illuminance at " + readable_length(at.distance_m);
    if (at.illuminance_lx) {
      add_row(rows, where, *at.illuminance_lx, "lx");
    } else {
      rows.push_back({where,
                      "-",
                      shape.kind == LightKind::kObject ? "depends on its shape: see jovilux check"
                                                       : "inside the source"});
    }
    if (distant) {
      break;
    }
  }
}

std::string conversion_text(const std::string& output,
                            const SourceShape& shape,
                            const Conversion& c) {
  ConversionRows rows = {{output, std::string(to_string(shape.kind)), ""}};
  if (c.levels.flux) {
    add_row(rows, "luminous flux", c.levels.flux->value, c.levels.per_meter ? "lm/m" : "lm");
  }
  if (c.levels.intensity) {
    add_row(rows,
            shape.profile                                                         ? "peak intensity"
            : shape.kind == LightKind::kPoint || shape.kind == LightKind::kSphere ? "intensity"
            : shape.kind == LightKind::kTube ? "intensity square to it"
                                             : "intensity on axis",
            c.levels.intensity->value,
            "cd");
  }
  if (c.levels.luminance) {
    add_row(rows, "luminance", c.levels.luminance->value, "cd/m2");
  }
  add_illuminances(rows, shape, c);
  if (c.power_w) {
    add_row(rows, fmt::format("power at {} lm/W", short_number(*c.efficacy_lm_w)), *c.power_w, "W");
  }
  if (c.ev100) {
    add_row(rows,
            is_distant(shape.kind)
                ? "incident meter"
                : "incident meter at " + readable_length(c.illuminance[0].distance_m),
            *c.ev100,
            "EV100");
  }
  if (c.ev100_surface) {
    add_row(rows, "spot meter on the source", *c.ev100_surface, "EV100");
  }
  return text_table(rows);
}

Usage usage_of_convert() {
  return Usage{
      "convert",
      "\"VALUE UNIT\"",
      "Shows one light in every unit. VALUE UNIT is what a rig's `output` takes: lm, cd, "
      "cd/m2,\n\"500 lx @ 2 m\", \"18 W @ 105 lm/W\"; lx and cd/m2 of the sun.",
      {{"kind",
        "point, spot, sphere, disk, rect, tube, object, sun or sky; by default what the sizes say, "
        "else point",
        "FORM"},
       {"radius",
        "of sphere, disk, tube (none: an ideal line) or a spot's lens, such as 6cm; a bare number "
        "is in m",
        "LENGTH"},
       {"length", "of a tube, or endless", "LENGTH"},
       {"area", "of an object's surface, in square meters", "M2"},
       {"size", "of a rect, width x height, such as 60cmx30cm", "WxH"},
       {"beam", "of a spot: full angle to 50 %, such as 24deg", "ANGLE"},
       {"field", "of a spot: full angle to 10 %; by default the beam (a hard edge)", "ANGLE"},
       {"spread", "of disk or rect: full angle within which the surface emits", "ANGLE"},
       {"angular-diameter", "angular diameter of the sun; 0.533deg by default", "ANGLE"},
       {"center-weight",
        "of disk, rect or sphere: 0 even, more the brighter in the middle",
        "NUMBER"},
       {"two-sided", "disk, rect and object shine from both sides", ""},
       {"profile", "a photometric file, .ies or .ldt, that shapes the light", "FILE"},
       {"model", "of a sky: uniform, overcast or clear", "NAME"},
       {"cie", "of a sky: CIE standard general sky 1 to 15", "TYPE"},
       {"elevation", "of the sun, for skies that know one", "ANGLE"},
       {"at", "distance for lx; repeatable; 1, 2, 4 and 8 m by default", "LENGTH"},
       {"efficacy", "for W, such as \"105 lm/W\"", "LM/W"},
       {"json", "print one JSON document instead", ""}},
      "Illuminances are on a surface facing the light, on its axis, exact also near large sources.",
      "jovilux convert \"1350 lm\" --kind disk --radius 11cm --at 1.2m"};
}

}  // namespace

int run_convert(int argc, char** argv) {
  const Arguments a(usage_of_convert(), argc, argv);
  const SourceShape shape = shape_of(a);
  const Conversion c = conversion_of(a, shape);
  print_out(a.flag("json") ? json_text(conversion_json(shape, c))
                           : conversion_text(a.positional(), shape, c));
  return kDone;
}

}  // namespace jovilux::cli
