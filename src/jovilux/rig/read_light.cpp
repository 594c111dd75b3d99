#include "jovilux/rig/read_light.h"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include <fmt/format.h>

#include "jovilux/base/text.h"

namespace jovilux {
namespace {

const std::vector<std::string> kLaterKeys = {
    "from", "to", "along", "endless", "object", "cie", "image", "turn", "two_sided",
    "tint_by", "profile", "center_weight", "gobo", "only", "skip", "shadow_only",
    "shadow_skip", "zone", "fade_with_camera", "group", "cheat", "flicker"};
const std::vector<std::string> kLaterForms = {"tube", "object", "dome"};

// `aim` is a point, `toward` a direction; one of them where the form has an axis.
void read_axis(TableReader& r, LightSpec& light) {
  const bool both = r.has("aim") && r.has("toward");
  const auto aim = r.position("aim");
  const auto toward = r.direction("toward");
  if (both) {
    r.error("toward", r.place("toward"), "conflict", "aim and toward are both given; one of them says where it faces");
  } else if (aim) {
    light.aim = aim;
    if ((*aim - light.at).norm() > 1e-9) {
      light.axis = (*aim - light.at).normalized();
    } else {
      r.error("aim", r.place("aim"), "zero-direction", "the light is at the point that it aims at", "move one of them");
    }
  } else if (toward) {
    light.axis = *toward;
  } else if (!r.has("aim") && !r.has("toward")) {
    r.missing("aim", "a point to face, or toward = [x, y, z], a direction");
  }
  light.roll = r.quantity("roll", Dimension::kAngle, kAny).value_or(0);
}

Falloff read_falloff(TableReader& r) {
  Falloff out;
  const std::vector<std::string> laws = {"inverse-square", "none", "linear", "polynomial"};
  const DocumentNode* node = r.find("falloff");
  if (node != nullptr && node->is_text()) {
    if (const auto law = r.word("falloff", laws)) {
      out.law = *parse_falloff_law(laws[*law]);
      if (out.law == FalloffLaw::kLinear || out.law == FalloffLaw::kPolynomial) {
        r.error("falloff", node->place, "missing-key", fmt::format("the {} law has parameters", node->text()),
                out.law == FalloffLaw::kLinear ? "write falloff = { law = \"linear\", zero_at = \"6 m\" }"
                                               : "write falloff = { law = \"polynomial\", a = 1, b = 0.1, c = 0.1 }");
      }
    }
  } else if (node != nullptr && node->is_table()) {
    TableReader f(*node, r.address_of("falloff"), r.length(), r.problems());
    const DocumentNode* law = f.find("law");
    if (law == nullptr) {
      f.missing("law", join_or(laws));
    } else if (law->is_text() && (law->text() == "points" || law->text() == "formula")) {
      f.error("law", law->place, "unavailable-key",
              fmt::format("law \"{}\" belongs to the rig format but is not available in this version", law->text()));
    } else if (const auto index = f.word("law", laws)) {
      out.law = *parse_falloff_law(laws[*index]);
    }
    out.match = static_cast<float>(f.quantity("match", Dimension::kLength, kPositive).value_or(1));
    if (out.law == FalloffLaw::kLinear) {
      const auto zero = f.quantity("zero_at", Dimension::kLength, kPositive);
      if (!zero && !f.has("zero_at")) {
        f.missing("zero_at", "the length at which the light ends");
      } else if (zero && *zero <= out.match) {
        f.error("zero_at", f.place("zero_at"), "out-of-range",
                fmt::format("{} is not beyond match = {}: the level there would be 0", readable_length(*zero), readable_length(out.match)),
                "raise zero_at or lower match");
      }
      out.zero_at = static_cast<float>(zero.value_or(2 * out.match));
    }
    if (out.law == FalloffLaw::kPolynomial) {
      out.a = static_cast<float>(f.ratio("a", {-1e9, 1e9}).value_or(0));
      out.b = static_cast<float>(f.ratio("b", {-1e9, 1e9}).value_or(0));
      out.c = static_cast<float>(f.ratio("c", {-1e9, 1e9}).value_or(0));
      if (!f.has("a") && !f.has("b") && !f.has("c")) {
        f.missing("a", "a, b and c of 1 / (a + b d + c d^2)");
      } else if (out.a == 0 && out.b == 0 && out.c == 0) {
        f.error("a", f.place("a"), "divides-by-zero", "a, b and c are all 0: the law divides by zero everywhere", "give a = 1");
      } else if (const auto root = polynomial_root(out.a, out.b, out.c)) {
        if (*root > 0 || out.a < 0) {
          f.error("a", node->place, "divides-by-zero",
                  fmt::format("a + b d + c d^2 is 0 at d = {}: the law divides by zero there", readable_length(*root)),
                  "use positive a, b and c");
        } else if (out.b < 0 || (out.b == 0 && out.c < 0)) {
          f.error("b", node->place, "divides-by-zero", "a + b d + c d^2 is below 0 just beside the lamp", "use positive a, b and c");
        } else {
          f.warning("a", f.has("a") ? f.place("a") : node->place, "divides-by-zero",
                    "a = 0: the law divides by zero at the lamp and has no bound near it",
                    "give a > 0, or a cushion to the light");
        }
      }
    }
    f.finish({"points", "formula"}, {"zero_at", "a", "b", "c"}, fmt::format("law \"{}\"", to_string(out.law)));
  } else if (node != nullptr) {
    r.wrong_type("falloff", *node, join_or(laws) + ", or a table with law");
  }
  out.cushion = static_cast<float>(r.quantity("cushion", Dimension::kLength, kNotNegative).value_or(0));
  if (const auto reach = r.quantities("reach", Dimension::kLength, 2, kNotNegative)) {
    out.has_reach = true;
    out.reach_start = static_cast<float>((*reach)[0]);
    out.reach_end = static_cast<float>((*reach)[1]);
    if ((*reach)[1] < (*reach)[0] || !((*reach)[1] > 0)) {
      r.error("reach", r.place("reach"), "out-of-range", "the second length ends the fade: it must be above 0 and not below the first");
    }
  }
  return out;
}

// A sun's direction: toward, elevation and azimuth, or the site's time. North is +y (with y up: -z), east +x.
void read_sun_axis(TableReader& r, const Rig& rig, LightSpec& light) {
  const auto towards_ground = [&](double elevation, double azimuth) {
    const Vec3d east = Vec3d::UnitX(), north = rig.up.cross(east);
    return Vec3d(-(std::sin(elevation) * rig.up + std::cos(elevation) * (std::sin(azimuth) * east + std::cos(azimuth) * north)));
  };
  const auto toward = r.direction("toward");
  const auto elevation = r.quantity("elevation", Dimension::kAngle, {-kPiD / 2, kPiD / 2});
  const auto azimuth = r.quantity("azimuth", Dimension::kAngle, kAny);
  if (r.has("toward") && (r.has("elevation") || r.has("azimuth"))) {
    r.error("toward", r.place("toward"), "conflict", "toward and elevation with azimuth are both given; one of them places the sun");
  } else if (toward) {
    light.axis = *toward;
  } else if (elevation && azimuth) {
    light.axis = towards_ground(*elevation, *azimuth);
  } else if (r.has("elevation") != r.has("azimuth")) {
    r.missing(r.has("elevation") ? "azimuth" : "elevation", "degrees; azimuth from north through east");
  } else if (rig.site && rig.site->time && !r.has("toward") && !r.has("elevation")) {
    constexpr double kSeaLevelHpa = 1013.25;
    const SunPosition sun = sun_position(*rig.site->time, {rig.site->latitude}, {rig.site->longitude}, kSeaLevelHpa);
    light.axis = towards_ground(sun.elevation.value, sun.azimuth.value);
  } else if (!r.has("toward") && !r.has("elevation")) {
    r.missing("toward", "[x, y, z], the way its light travels; or elevation and azimuth; or [scene] site with latitude, longitude and time");
  }
}

// The sizes that the form has; false where one is missing or wrong.
bool read_shape(TableReader& r, SourceShape& shape) {
  switch (shape.form) {
    case Form::kPoint: return true;
    case Form::kSphere:
    case Form::kDisk:
      if (const auto radius = r.quantity("radius", Dimension::kLength, kPositive)) {
        shape.radius = *radius;
        return true;
      }
      if (!r.has("radius")) {
        r.missing("radius", "a length such as \"11 cm\"");
      }
      return false;
    case Form::kRect:
      if (const auto size = r.quantities("size", Dimension::kLength, 2, kPositive)) {
        shape.width = (*size)[0];
        shape.height = (*size)[1];
        return true;
      }
      if (!r.has("size")) {
        r.missing("size", "[width, height]");
      }
      return false;
    case Form::kSpot: {
      const Limits angle{0.01 * kPiD / 180, kPiD, false};
      const auto beam = r.quantity("beam", Dimension::kAngle, angle);
      const auto field = r.quantity("field", Dimension::kAngle, angle);
      if (!beam && !r.has("beam")) {
        r.missing("beam", "the full angle to 50 %, such as \"24 deg\"");
      }
      if (!beam || (r.has("field") && !field)) {
        return false;
      }
      const double wide = field.value_or(*beam);
      if (wide < *beam) {
        r.error("field", r.place("field"), "out-of-range", "the field (10 %) is narrower than the beam (50 %)", "exchange them");
        return false;
      }
      shape.beam = spot_beam({*beam}, {wide});
      return true;
    }
    case Form::kSky: {
      const DocumentNode* model = r.find("model");
      if (model != nullptr && model->is_text() && model->text() == "clear") {
        r.error("model", model->place, "unavailable-key", "model \"clear\" belongs to the rig format but is not available in this version", "use \"uniform\" or \"overcast\"");
        return false;
      }
      const auto word = r.word("model", {"uniform", "overcast"});
      if (!word) {
        if (!r.has("model")) {
          r.missing("model", "uniform or overcast");
        }
        return false;
      }
      shape.sky = *word == 0 ? SkyModel::kUniform : SkyModel::kOvercast;
      return true;
    }
    case Form::kSun:
      shape.disc = r.quantity("disc", Dimension::kAngle, {0.01 * kPiD / 180, kPiD / 2}).value_or(degrees(0.533).value);
      return true;
  }
  return false;
}

// spectrum, dim_to_warm, gel.
void read_source(TableReader& r, const Rig& rig, LightSpec& light) {
  if (const auto name = r.text("spectrum")) {
    light.spectrum_place = r.place("spectrum");
    if (r.has("white")) {
      r.error("spectrum", light.spectrum_place, "conflict", "white and spectrum are both given; one of them is the source's color");
    }
    const std::string ending = std::filesystem::path(*name).extension().string();
    if (ending == ".csv" || ending == ".spdx") {
      light.spectrum_file = path_from(light.spectrum_place, *name);
      std::error_code ec;
      if (!std::filesystem::is_regular_file(light.spectrum_file, ec)) {
        r.error("spectrum", light.spectrum_place, "missing-file", fmt::format("file not found: {}", printable(light.spectrum_file, 200)));
      }
    } else if (!(light.spectrum = spectrum_named(*name))) {
      r.error("spectrum", light.spectrum_place, "unknown-word",
              fmt::format("found \"{}\"; expected cie-a, cie-c, cie-d50 .. cie-d65, cie-f1 .. cie-f12, led-2200 .. led-6500, or a .csv or .spdx file", printable(*name)),
              did_you_mean(*name, spectrum_names()));
    }
  }
  if (const auto warm = r.quantity("dim_to_warm", Dimension::kTemperature, {500, 100000})) {
    light.dim_to_warm = *warm;
    if (r.has("spectrum") || light.white.kind != White::Kind::kPlanck) {
      r.error("dim_to_warm", r.place("dim_to_warm"), "conflict", "only a white in kelvin slides with its dimmer", "give white = \"2700 K\"");
    }
  }
  const DocumentNode* gel = r.find("gel");
  if (gel == nullptr) {
    return;
  }
  const auto one = [&](const DocumentNode& node) {
    if (!node.is_text()) {
      r.wrong_type("gel", node, "a gel's name or \"#rrggbb\"");
      return;
    }
    if (const auto color = parse_hex_color(node.text())) {
      light.gels.push_back({node.text(), node.place, spectrum_over_nm(*color), ""});
      return;
    }
    std::vector<std::string> names;
    for (const GelSpec& g : rig.gels) {
      if (g.name == node.text()) {
        light.gels.push_back(g);
        return;
      }
      names.push_back(g.name);
    }
    r.error("gel", node.place, "unknown-name", fmt::format("there is no gel \"{}\"", printable(node.text())), did_you_mean(node.text(), names));
  };
  if (gel->is_array()) {
    for (const DocumentNode& node : gel->array()) {
      one(node);
    }
  } else {
    one(*gel);
  }
}

}  // namespace

std::optional<LightSpec> read_light(TableReader& r, const Rig& rig) {
  LightSpec light;
  light.place = r.table().place;
  bool good = true;
  const DocumentNode* form = r.find("form");
  if (form == nullptr) {
    r.missing("form", join_or(form_names()));
    good = false;
  } else if (form->is_text() && std::find(kLaterForms.begin(), kLaterForms.end(), form->text()) != kLaterForms.end()) {
    r.error("form", form->place, "unavailable-key",
            fmt::format("form \"{}\" belongs to the rig format but is not available in this version", form->text()));
    return std::nullopt;
  } else if (const auto index = r.word("form", form_names())) {
    light.shape.form = *parse_form(form_names()[*index]);
  } else {
    good = false;
  }
  const Form f = light.shape.form;
  if (!is_distant(f)) {
    const auto at = r.position("at");
    if (!at && !r.has("at") && good) {
      r.missing("at", "a position [x, y, z]");
    }
    good = good && at.has_value();
    light.at = at.value_or(Vec3d::Zero());
  }
  if (good && (f == Form::kSpot || f == Form::kDisk || f == Form::kRect)) {
    read_axis(r, light);
  } else if (f == Form::kSun) {
    read_sun_axis(r, rig, light);
  } else if (!good) {
    r.position("aim");
    r.direction("toward");
  } else {
    light.axis = -rig.up;
  }
  good = good && (form == nullptr || read_shape(r, light.shape)) && form != nullptr;
  if (f == Form::kDisk || f == Form::kRect) {
    // Under a degree the integrals of the beam say less than its author means by a surface.
    if (const auto spread = r.quantity("spread", Dimension::kAngle, {kPiD / 180, kPiD})) {
      light.shape.half_spread = *spread / 2;
    }
  }
  light.falloff = is_distant(f) ? Falloff{} : read_falloff(r);
  light.falloff_place = r.place("falloff");
  light.output_place = r.place("output");
  const DocumentNode* output = r.find("output");
  if (output == nullptr) {
    r.missing("output", output_units(f));
    good = false;
  } else if (!output->is_text()) {
    r.error("output", output->place, output->is_number() ? "missing-unit" : "wrong-type",
            fmt::format("found {}; an output is a text with its unit: {}",
                        output->is_number() ? short_number(output->number(), 6) + " without a unit" : std::string(output->kind()),
                        output_units(f)),
            output->is_number() && !is_distant(f) ? fmt::format("write \"{} lm\"", short_number(output->number(), 6)) : "");
    good = false;
  } else if (f == Form::kSun && output->text() == "clear") {
    const double up = -light.axis.dot(rig.up);
    light.output = {Output::Kind::kIlluminance, clear_sun_illuminance({std::asin(std::clamp(up, -1.0, 1.0))}).value, std::nullopt, {}};
    const Output& stated = light.output;
    light.levels = *source_levels(light.shape, stated).levels;
    if (up <= 0) {
      r.warning("output", output->place, "sun-below-horizon", "the sun is below the horizon: it gives no light", "see elevation, toward, or the site's time");
    }
  } else {
    const auto parsed = parse_output(output->text(), is_distant(f));
    if (const auto* fault = std::get_if<UnitFault>(&parsed)) {
      r.error("output", output->place, "bad-quantity", fmt::format("{}; expected {}", fault->text, output_units(f)), fault->hint);
      good = false;
    } else {
      light.output = std::get<Output>(parsed);
      light.efficacy = light.output.efficacy.value;
      if (good) {
        const Output& stated = light.output;
        const LevelsOrFault levels = source_levels(light.shape, stated);
        if (levels.levels) {
          light.levels = *levels.levels;
        } else {
          r.error("output", output->place, "wrong-unit", fmt::format("found \"{}\": {}", printable(output->text()), levels.fault));
          good = false;
        }
      }
    }
  }
  if (const DocumentNode* white = r.find("white")) {
    const auto parsed = white->is_text()     ? parse_white(white->text())
                        : white->is_number() ? parse_white(fmt::format("{} K", white->number()))
                                             : std::nullopt;
    if (parsed) {
      light.white = *parsed;
    } else {
      r.error("white", white->place, "bad-quantity",
              fmt::format("found {}; expected \"2700 K\" (500 to 100000), \"D6504\" or \"daylight 6500 K\" (4000 to 25000)",
                          white->is_text() ? "\"" + printable(white->text()) + "\"" : std::string(white->kind())));
    }
  }
  read_source(r, rig, light);
  light.tint = r.color("tint", 1e6);
  if (light.tint && !(light.tint->maxCoeff() > 0)) {
    r.error("tint", r.place("tint"), "out-of-range", "a black tint has no color to give", "use dimmer or on = false to darken a light");
    light.tint.reset();
  }
  light.dimmer = r.ratio("dimmer", kShare).value_or(1);
  light.on = r.flag("on").value_or(true);
  r.finish(kLaterKeys, {"at", "aim", "toward", "roll", "radius", "size", "beam", "field", "disc", "spread", "model", "elevation", "azimuth", "falloff", "cushion", "reach"},
           fmt::format("form \"{}\"", to_string(f)));
  if (!good) {
    return std::nullopt;
  }
  return light;
}

}  // namespace jovilux
