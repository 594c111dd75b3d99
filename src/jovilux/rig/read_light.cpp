#include "jovilux/rig/read_light.h"

#include "jovilux/base/text.h"
#include "jovilux/rig/read_solid.h"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include <fmt/format.h>

namespace jovilux {
namespace {

// The keys that only some forms have.
const std::vector<std::string> kKindKeys = {
    "at",        "aim",        "toward",           "roll",           "radius", "size",
    "beam",      "field",      "angular_diameter", "spread",         "model",  "cie",
    "elevation", "azimuth",    "falloff",          "near_softening", "range",  "from",
    "to",        "along",      "endless",          "object",         "image",  "rotate",
    "two_sided", "hot_center", "profile",          "gobo",           "inside", "fade_with_camera",
    "white",     "spectrum",   "dim_to_warm"};

// `aim` is a point, `toward` a direction; one of them where the kind has an axis.
void read_axis(TableReader& r, LightSpec& light) {
  const bool both = r.has("aim") && r.has("toward");
  const auto aim = r.position("aim");
  const auto toward = r.direction("toward");
  if (both) {
    r.error("toward",
            r.place("toward"),
            "conflict",
            "aim and toward are both given; one of them says where it faces");
  } else if (aim) {
    light.aim = aim;
    if ((*aim - light.at).norm() > 1e-9) {
      light.axis = (*aim - light.at).normalized();
    } else {
      r.error("aim",
              r.place("aim"),
              "zero-direction",
              "the light is at the point that it aims at",
              "move one of them");
    }
  } else if (toward) {
    light.axis = *toward;
  } else if (!r.has("aim") && !r.has("toward")) {
    r.missing("aim", "a point to face, or toward = [x, y, z], a direction");
  }
  light.roll = r.quantity("roll", Dimension::kAngle, kAny).value_or(0);
}
// The laws that a user draws or writes; the level at `matches_at` must be above 0.
void read_curve(TableReader& f, const DocumentNode& node, Falloff& out) {
  const bool by_points = out.law == FalloffLaw::kPoints;
  out.law = FalloffLaw::kInverseSquare;  // until it is whole
  std::shared_ptr<FalloffCurve> curve;
  if (by_points) {
    const DocumentNode* points = f.find("points");
    if (points == nullptr || !points->is_array()) {
      f.missing("points", "[[\"0 m\", 1], [\"5 m\", 0]]: distances and factors");
      return;
    }
    std::vector<double> x, y;
    for (const DocumentNode& point : points->array()) {
      const bool pair =
          point.is_array() && point.array().size() == 2 && point.array()[1].is_number();
      if (!pair || !(point.array()[1].number() >= 0 && point.array()[1].number() <= 1e9)) {
        f.error("points", point.place, "out-of-range", "expected [distance, factor >= 0]");
        return;
      }
      const auto d = f.amount(point.array()[0], "points", Dimension::kLength, kNotNegative);
      if (!d) {
        return;
      }
      if (!x.empty() && *d <= x.back()) {
        f.error("points",
                point.place,
                "out-of-range",
                fmt::format("{} follows {}; distances must increase",
                            readable_length(*d),
                            readable_length(x.back())));
        return;
      }
      x.push_back(*d);
      y.push_back(point.array()[1].number());
    }
    if (x.size() < 2) {
      f.error("points", points->place, "out-of-range", "a law needs at least 2 points");
      return;
    }
    curve = std::make_shared<FalloffCurve>(FalloffCurve{MonotoneCubic(std::move(x), std::move(y))});
  } else {
    const auto formula = read_formula(f, "formula", {"d"}, "1/(1+d)^2");
    if (!formula) {
      return;
    }
    for (int i = 0; i <= 240; ++i) {  // 1 mm to 1 km
      const double d = std::pow(10.0, -3 + i / 40.0),
                   v = (*formula)(std::span<const double>(&d, 1));
      if (!std::isfinite(v) || v < 0) {
        f.error("formula",
                f.place("formula"),
                std::isfinite(v) ? "out-of-range" : "divides-by-zero",
                fmt::format("gives {} at d = {}; a law is finite and not below 0",
                            std::isfinite(v) ? short_number(v) : std::string("no number"),
                            readable_length(d)),
                v < 0 ? "wrap it in max(0, ...)" : "");
        return;
      }
    }
    curve = std::make_shared<FalloffCurve>(FalloffCurve{*formula});
  }
  const double at_match = (*curve)(out.matches_at);
  if (!(at_match > 0)) {
    f.error("matches_at",
            f.has("matches_at") ? f.place("matches_at") : node.place,
            "out-of-range",
            fmt::format("the law is 0 at matches_at = {}: there is no level to keep",
                        readable_length(out.matches_at)),
            "choose a matches_at where the law is above 0");
    return;
  }
  out.law = by_points ? FalloffLaw::kPoints : FalloffLaw::kFormula;
  out.curve_at_match = static_cast<float>(at_match);
  out.curve = std::move(curve);
}

Falloff read_falloff(TableReader& r) {
  Falloff out;
  const std::vector<std::string> laws = {
      "inverse-square", "none", "linear", "polynomial", "points", "formula"};
  const DocumentNode* node = r.find("falloff");
  if (node != nullptr && node->is_text()) {
    if (const auto law = r.word("falloff", laws)) {
      out.law = *parse_falloff_law(laws[*law]);
      static constexpr std::pair<FalloffLaw, const char*> kExamples[] = {
          {FalloffLaw::kLinear, "write falloff = { law = \"linear\", zero_at = \"6 m\" }"},
          {FalloffLaw::kPolynomial,
           "write falloff = { law = \"polynomial\", constant = 0.4, linear = 0.25, quadratic = 0.6 "
           "}"},
          {FalloffLaw::kPoints,
           "write falloff = { law = \"points\", points = [[\"0 m\", 1], [\"5 m\", 0]] }"},
          {FalloffLaw::kFormula, "write falloff = { law = \"formula\", formula = \"1/(1+d)^2\" }"}};
      for (const auto& [law_with, example] : kExamples) {
        if (out.law == law_with) {
          r.error("falloff",
                  node->place,
                  "missing-key",
                  fmt::format("the {} law has parameters", node->text()),
                  example);
          out.law = FalloffLaw::kInverseSquare;
        }
      }
    }
  } else if (node != nullptr && node->is_table()) {
    TableReader f(*node, r.address_of("falloff"), r.length(), r.problems());
    const DocumentNode* law = f.find("law");
    if (law == nullptr) {
      f.missing("law", join_or(laws));
    } else if (const auto index = f.word("law", laws)) {
      out.law = *parse_falloff_law(laws[*index]);
    }
    out.matches_at =
        static_cast<float>(f.quantity("matches_at", Dimension::kLength, kPositive).value_or(1));
    if (out.law == FalloffLaw::kLinear) {
      const auto zero = f.quantity("zero_at", Dimension::kLength, kPositive);
      if (!zero && !f.has("zero_at")) {
        f.missing("zero_at", "the length at which the light ends");
      } else if (zero && *zero <= out.matches_at) {
        f.error("zero_at",
                f.place("zero_at"),
                "out-of-range",
                fmt::format("{} is not beyond matches_at = {}: the level there would be 0",
                            readable_length(*zero),
                            readable_length(out.matches_at)),
                "raise zero_at or lower matches_at");
      }
      out.zero_at = static_cast<float>(zero.value_or(2 * out.matches_at));
    }
    if (out.law == FalloffLaw::kPolynomial) {
      out.constant = static_cast<float>(f.ratio("constant", {-1e9, 1e9}).value_or(0));
      out.linear = static_cast<float>(f.ratio("linear", {-1e9, 1e9}).value_or(0));
      out.quadratic = static_cast<float>(f.ratio("quadratic", {-1e9, 1e9}).value_or(0));
      if (!f.has("constant") && !f.has("linear") && !f.has("quadratic")) {
        f.missing("constant",
                  "constant, linear and quadratic of 1/(constant + linear d + quadratic d^2)");
      } else if (out.constant == 0 && out.linear == 0 && out.quadratic == 0) {
        f.error("constant",
                f.place("constant"),
                "divides-by-zero",
                "constant, linear and quadratic are all 0: the law divides by zero everywhere",
                "give constant = 1");
      } else if (const auto root = polynomial_root(out.constant, out.linear, out.quadratic)) {
        if (*root > 0 || out.constant < 0) {
          f.error(
              "constant",
              node->place,
              "divides-by-zero",
              fmt::format("constant + linear d + quadratic d^2 is 0 at d = {}: the law divides by "
                          "zero there",
                          readable_length(*root)),
              "use a positive constant, linear and quadratic");
        } else if (out.linear < 0 || (out.linear == 0 && out.quadratic < 0)) {
          f.error("linear",
                  node->place,
                  "divides-by-zero",
                  "constant + linear d + quadratic d^2 is below 0 just beside the lamp",
                  "use a positive constant, linear and quadratic");
        } else {
          f.warning("constant",
                    f.has("constant") ? f.place("constant") : node->place,
                    "divides-by-zero",
                    "constant = 0: the law divides by zero at the lamp and has no bound near it",
                    "give constant > 0, or a near_softening to the light");
        }
      }
    }
    if (out.law == FalloffLaw::kPoints || out.law == FalloffLaw::kFormula) {
      read_curve(f, *node, out);
    }
    f.finish({"zero_at", "constant", "linear", "quadratic", "points", "formula"},
             fmt::format("law \"{}\"", to_string(out.law)));
  } else if (node != nullptr) {
    r.wrong_type("falloff", *node, join_or(laws) + ", or a table with law");
  }
  out.near_softening = static_cast<float>(
      r.quantity("near_softening", Dimension::kLength, kNotNegative).value_or(0));
  if (const auto range = r.quantities("range", Dimension::kLength, 2, kNotNegative)) {
    out.has_range = true;
    out.range_start = static_cast<float>((*range)[0]);
    out.range_end = static_cast<float>((*range)[1]);
    if ((*range)[1] < (*range)[0] || !((*range)[1] > 0)) {
      r.error("range",
              r.place("range"),
              "out-of-range",
              "the second length ends the fade: it must be above 0 and not below the first");
    }
  }
  return out;
}

// A sun's direction: toward, elevation and azimuth, or the site's time. North is +y (with y up:
// -z), east +x.
void read_sun_axis(TableReader& r, const Rig& rig, LightSpec& light) {
  const auto towards_ground = [&](double elevation, double azimuth) {
    const Vec3d east = Vec3d::UnitX(), north = rig.up.cross(east);
    return Vec3d(-(std::sin(elevation) * rig.up +
                   std::cos(elevation) * (std::sin(azimuth) * east + std::cos(azimuth) * north)));
  };
  const auto toward = r.direction("toward");
  const auto elevation = r.quantity("elevation", Dimension::kAngle, {-kPiD / 2, kPiD / 2});
  const auto azimuth = r.quantity("azimuth", Dimension::kAngle, kAny);
  if (r.has("toward") && (r.has("elevation") || r.has("azimuth"))) {
    r.error("toward",
            r.place("toward"),
            "conflict",
            "toward and elevation with azimuth are both given; one of them places the sun");
  } else if (toward) {
    light.axis = *toward;
  } else if (elevation && azimuth) {
    light.axis = towards_ground(*elevation, *azimuth);
  } else if (r.has("elevation") != r.has("azimuth")) {
    r.missing(r.has("elevation") ? "azimuth" : "elevation",
              "degrees; azimuth from north through east");
  } else if (rig.site && rig.site->time && !r.has("toward") && !r.has("elevation")) {
    constexpr double kSeaLevelHpa = 1013.25;
    const SunPosition sun =
        sun_position(*rig.site->time, {rig.site->latitude}, {rig.site->longitude}, kSeaLevelHpa);
    light.axis = towards_ground(sun.elevation.value, sun.azimuth.value);
  } else if (!r.has("toward") && !r.has("elevation")) {
    r.missing("toward",
              "[x, y, z], the way its light travels; or elevation and azimuth; or [scene] site "
              "with latitude, longitude and time");
  }
}

// Whether every letter of a file's ending is one of these, whatever their case.
bool ends_with(const std::string& file, std::initializer_list<std::string_view> endings) {
  std::string ending = std::filesystem::path(file).extension().string();
  std::transform(ending.begin(), ending.end(), ending.begin(), [](unsigned char c) {
    return static_cast<char>(std::tolower(c));
  });
  return std::find(endings.begin(), endings.end(), ending) != endings.end();
}

// A file that the rig names; empty, and an error, where it is not there.
std::string read_file_name(TableReader& r,
                           const std::string& key,
                           const std::string& name,
                           std::initializer_list<std::string_view> endings) {
  const std::string file = path_from(r.place(key), name);
  std::error_code ec;
  if (!ends_with(name, endings)) {
    std::vector<std::string> words(endings.begin(), endings.end());
    r.error(
        key,
        r.place(key),
        "unknown-word",
        fmt::format("found \"{}\"; expected a file ending in {}", printable(name), join_or(words)));
  } else if (!std::filesystem::is_regular_file(file, ec)) {
    r.error(
        key, r.place(key), "missing-file", fmt::format("file not found: {}", printable(file, 200)));
  } else {
    return file;
  }
  return "";
}

// A sky's model and, where that knows one, its sun.
bool read_sky(TableReader& r, const Rig& rig, LightSpec& light) {
  SkyShape& sky = light.shape.sky;
  const auto type = r.integer("cie", 1, 15);
  const auto word = r.word("model", {"uniform", "overcast", "clear"});
  if (r.has("cie") && r.has("model")) {
    r.error("cie",
            r.place("cie"),
            "conflict",
            "model and cie are both given; one of them says how the sky's luminance is spread");
    return false;
  }
  if (!type && !word) {
    if (!r.has("model") && !r.has("cie")) {
      r.missing("model", "uniform, overcast or clear; or cie = 1 .. 15");
    }
    return false;
  }
  if (word && *word < 2) {
    sky.model = *word == 0 ? SkyModel::kUniform : SkyModel::kOvercast;
    return true;
  }
  sky.model = SkyModel::kGeneral;
  sky.general = type ? static_cast<int>(*type) : 12;
  if (!knows_sun(sky.general)) {
    return true;
  }
  LightSpec sun;
  sun.axis = Vec3d::Zero();
  read_sun_axis(r, rig, sun);
  if (sun.axis.isZero()) {
    return false;
  }
  const Vec3d east = Vec3d::UnitX(), north = rig.up.cross(east), d = -sun.axis;
  sky.towards_sun = Vec3d(d.dot(east), d.dot(north), d.dot(rig.up));
  if (sky.towards_sun.z() <= 0) {
    r.error(type ? "cie" : "model",
            r.place(type ? "cie" : "model"),
            "sun-below-horizon",
            fmt::format("this sky needs its sun above the horizon; it stands at {} deg",
                        short_number(std::asin(sky.towards_sun.z()) * 180 / kPiD, 3)),
            "use model = \"overcast\", or see elevation or the site's time");
    return false;
  }
  return true;
}

// A tube's ends, or the line of an endless one.
bool read_tube(TableReader& r, LightSpec& light) {
  SourceShape& made = light.shape;
  made.radius = r.quantity("radius", Dimension::kLength, kNotNegative).value_or(-1);
  if (!r.has("radius")) {
    r.missing("radius", "a length such as \"13 mm\"; 0 is an ideal line");
  }
  made.endless = r.flag("endless").value_or(false);
  if (made.endless) {
    const auto at = r.position("at");
    const auto along = r.direction("along");
    if (!at && !r.has("at")) {
      r.missing("at", "a position [x, y, z] on its axis");
    }
    if (!along && !r.has("along")) {
      r.missing("along", "[x, y, z], the direction of its axis");
    }
    light.at = at.value_or(Vec3d::Zero());
    light.along = along.value_or(Vec3d::UnitX());
    return at && along && made.radius >= 0;
  }
  const auto from = r.position("from"), to = r.position("to");
  for (const char* key : {"from", "to"}) {
    if (!r.has(key)) {
      r.missing(key, "a position [x, y, z]; or endless = true with at and along");
    }
  }
  if (!from || !to) {
    return false;
  }
  made.length = (*to - *from).norm();
  if (!(made.length > 1e-6)) {
    r.error("to",
            r.place("to"),
            "zero-direction",
            "the tube ends where it begins",
            "move one of its ends");
    return false;
  }
  light.at = 0.5 * (*from + *to);
  light.along = (*to - *from) / made.length;
  return made.radius >= 0;
}

// The sizes that the kind has; false where one is missing or wrong.
bool read_shape(TableReader& r, const Rig& rig, LightSpec& light) {
  SourceShape& made = light.shape;
  switch (made.kind) {
    case LightKind::kPoint:
      return true;
    case LightKind::kSphere:
    case LightKind::kDisk:
      if (const auto radius = r.quantity("radius", Dimension::kLength, kPositive)) {
        made.radius = *radius;
        return true;
      }
      if (!r.has("radius")) {
        r.missing("radius", "a length such as \"11 cm\"");
      }
      return false;
    case LightKind::kRect:
      if (const auto size = r.quantities("size", Dimension::kLength, 2, kPositive)) {
        made.width = (*size)[0];
        made.height = (*size)[1];
        return true;
      }
      if (!r.has("size")) {
        r.missing("size", "[width, height]");
      }
      return false;
    case LightKind::kTube:
      return read_tube(r, light);
    case LightKind::kObject: {
      const auto name = r.text("object");
      if (!name) {
        if (!r.has("object")) {
          r.missing("object", "the name of the object whose surface emits");
        }
        return false;
      }
      std::vector<std::string> names;
      for (std::size_t i = 0; i < rig.objects.size(); ++i) {
        names.push_back(rig.objects[i].name);
        if (names.back() == *name) {
          light.object = static_cast<int>(i);
        }
      }
      if (light.object < 0) {
        r.error("object",
                r.place("object"),
                "unknown-name",
                fmt::format("there is no object \"{}\"", printable(*name)),
                did_you_mean(*name, names));
        return false;
      }
      const ObjectSpec& object = rig.objects[static_cast<std::size_t>(light.object)];
      if (object.solid >= 0) {
        r.error("object",
                r.place("object"),
                "wrong-type",
                fmt::format("\"{}\" is a marched solid, whose area is not known", *name),
                "use an object with a shape or a mesh");
        return false;
      }
      if (object.shape && !object.shape->bounded()) {
        r.error("object",
                r.place("object"),
                "out-of-range",
                "an endless plane has no total flux",
                "use a rect object, or a sky");
        return false;
      }
      for (const LightSpec& other : rig.lights) {
        if (other.shape.kind == LightKind::kObject && other.object == light.object) {
          r.error("object",
                  r.place("object"),
                  "conflict",
                  fmt::format("the surface of \"{}\" emits already, as the light \"{}\" at {}",
                              *name,
                              other.name,
                              to_string(other.place)));
          return false;
        }
      }
      light.at = object.transform.offset;
      return true;
    }
    case LightKind::kSpot: {
      const Limits angle{0.01 * kPiD / 180, kPiD, false};
      made.radius = r.quantity("radius", Dimension::kLength, kNotNegative).value_or(0);
      if (r.has("profile")) {
        return true;
      }
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
        r.error("field",
                r.place("field"),
                "out-of-range",
                "the field (10 %) is narrower than the beam (50 %)",
                "exchange them");
        return false;
      }
      made.beam = spot_beam({*beam}, {wide});
      return true;
    }
    case LightKind::kSky:
      return read_sky(r, rig, light);
    case LightKind::kSun:
      made.angular_diameter =
          r.quantity("angular_diameter", Dimension::kAngle, {0.01 * kPiD / 180, kPiD / 2})
              .value_or(degrees(0.533).value);
      return true;
    case LightKind::kDome:
      if (const auto image = r.text("image")) {
        light.image_place = r.place("image");
        light.image = read_file_name(r, "image", *image, {".exr", ".hdr"});
      } else if (!r.has("image")) {
        r.missing("image", "an equirectangular .exr or .hdr file");
      }
      light.rotate = r.quantity("rotate", Dimension::kAngle, kAny).value_or(0);
      return !light.image.empty();
  }
  return false;
}

// two_sided, hot_center, spread, profile, gobo.
void read_shaping(TableReader& r, LightSpec& light) {
  const LightKind f = light.shape.kind;
  SourceShape& made = light.shape;
  const bool flat = f == LightKind::kDisk || f == LightKind::kRect;
  if (flat || f == LightKind::kObject) {
    made.two_sided = r.flag("two_sided").value_or(false);
  }
  if (flat || f == LightKind::kSphere) {
    made.hot_center = r.ratio("hot_center", {0, 100}).value_or(0);
  }
  if (flat) {
    // Under a degree the integrals of the beam say less than its author means by a surface.
    if (const auto spread = r.quantity("spread", Dimension::kAngle, {kPiD / 180, kPiD})) {
      made.half_spread = *spread / 2;
    }
  }
  if (flat || f == LightKind::kSphere || f == LightKind::kPoint || f == LightKind::kSpot) {
    if (const auto profile = r.text("profile")) {
      light.profile_place = r.place("profile");
      light.profile_file = read_file_name(r, "profile", *profile, {".ies", ".ldt"});
      for (const char* key : {"beam", "field", "spread"}) {
        if (r.has(key)) {
          r.error(key,
                  r.place(key),
                  "conflict",
                  fmt::format("{} and profile are both given; either shapes the light", key));
          r.find(key);
        }
      }
    }
  }
  const DocumentNode* gobo =
      f == LightKind::kSpot || flat || f == LightKind::kSun ? r.find("gobo") : nullptr;
  if (gobo == nullptr) {
    return;
  }
  if (!gobo->is_table()) {
    r.wrong_type("gobo",
                 *gobo,
                 "{ image = \"file.png\" or pattern = \"slats\", size = [w, h], at = distance }");
    return;
  }
  TableReader g(*gobo, r.address_of("gobo"), r.length(), r.problems());
  GoboInRig out;
  out.place = gobo->place;
  const auto image = g.text("image");
  const auto pattern = g.word("pattern", gobo_pattern_names());
  if (g.has("image") == g.has("pattern")) {
    g.error("image",
            gobo->place,
            g.has("image") ? "conflict" : "missing-key",
            g.has("image") ? "image and pattern are both given"
                           : "is missing; expected image = \"file.png\", or pattern = " +
                                 join_or(gobo_pattern_names()));
  }
  if (image) {
    out.image = read_file_name(g, "image", *image, {".png", ".exr"});
  }
  if (pattern) {
    out.pattern = static_cast<GoboPattern>(*pattern);
    out.count = static_cast<int>(g.integer("count", 1, 200).value_or(8));
    const double most = out.pattern == GoboPattern::kDots ? kPiD / 4 : 1;
    out.open = g.ratio("open", {0.01, most}).value_or(0.5);
  }
  GoboSpec& spec = out.spec;
  if (const auto size = g.quantities("size", Dimension::kLength, 2, kPositive)) {
    spec.width = (*size)[0];
    spec.height = (*size)[1];
  } else if (!g.has("size")) {
    g.missing("size", "[width, height] of the mask");
  }
  const auto at = g.quantity("at", Dimension::kLength, kPositive);
  if (!at && !g.has("at")) {
    g.missing("at",
              f == LightKind::kSun ? "its distance from the scene's origin towards the sun"
                                   : "its distance from the light, along the axis");
  }
  spec.distance = at.value_or(1);
  if (const auto tile = g.quantities("tile", Dimension::kPercent, 2, {1, 1000})) {
    spec.tiles_x = static_cast<int>(std::llround((*tile)[0]));
    spec.tiles_y = static_cast<int>(std::llround((*tile)[1]));
  }
  spec.soft = g.quantity("soft", Dimension::kLength, kNotNegative).value_or(0);
  spec.rotate = g.quantity("rotate", Dimension::kAngle, kAny).value_or(0);
  spec.strength = g.ratio("strength", kShare).value_or(1);
  spec.surround = f == LightKind::kSun ? GoboSurround::kRepeat : GoboSurround::kDark;
  if (const auto surround = g.word("surround", {"dark", "clear", "repeat"})) {
    spec.surround = static_cast<GoboSurround>(*surround);
  }
  g.finish({"count", "open"}, "an image");
  light.gobo = std::move(out);
}

// The objects that names and "tag:..." stand for.
std::vector<std::uint32_t> read_objects(TableReader& r, const std::string& key, const Rig& rig) {
  std::vector<std::uint32_t> out;
  const DocumentNode* list = r.find(key);
  const auto texts = r.texts(key);
  if (!texts || list == nullptr) {
    return out;
  }
  std::vector<std::string> names;
  for (const ObjectSpec& o : rig.objects) {
    names.push_back(o.array.empty() ? o.name : o.array);
    for (const std::string& tag : o.tags) {
      names.push_back("tag:" + tag);
    }
  }
  for (std::size_t i = 0; i < texts->size(); ++i) {
    const std::string& name = (*texts)[i];
    bool found = false;
    for (std::size_t o = 0; o < rig.objects.size(); ++o) {
      const ObjectSpec& object = rig.objects[o];
      const bool match = name.starts_with("tag:")
                             ? std::find(object.tags.begin(), object.tags.end(), name.substr(4)) !=
                                   object.tags.end()
                             : object.name == name || object.array == name;
      if (match) {
        found = true;
        out.push_back(static_cast<std::uint32_t>(o));
      }
    }
    if (!found) {
      const Place place =
          list->is_array() && i < list->array().size() ? list->array()[i].place : list->place;
      r.error(key,
              place,
              "unknown-name",
              name.starts_with("tag:")
                  ? fmt::format("no object has the tag \"{}\"", printable(name.substr(4)))
                  : fmt::format("there is no object \"{}\"", printable(name)),
              did_you_mean(name, names));
    }
  }
  std::sort(out.begin(), out.end());
  out.erase(std::unique(out.begin(), out.end()), out.end());
  return out;
}

// All objects of `only`, or of the rig, without those of `skip`; nothing where neither is given.
std::optional<std::vector<std::uint32_t>> read_links(TableReader& r,
                                                     const std::string& only,
                                                     const std::string& skip,
                                                     const Rig& rig) {
  if (!r.has(only) && !r.has(skip)) {
    return std::nullopt;
  }
  std::vector<std::uint32_t> in = read_objects(r, only, rig);
  const std::vector<std::uint32_t> out = read_objects(r, skip, rig);
  if (!r.has(only)) {
    for (std::size_t i = 0; i < rig.objects.size(); ++i) {
      in.push_back(static_cast<std::uint32_t>(i));
    }
  }
  std::vector<std::uint32_t> left;
  std::set_difference(in.begin(), in.end(), out.begin(), out.end(), std::back_inserter(left));
  return left;
}

// only, skip, shadow_only, shadow_skip, inside, fade_with_camera, group, cheat, tint_by.
void read_effect(TableReader& r, const Rig& rig, LightSpec& light) {
  light.lit = read_links(r, "only", "skip", rig);
  light.casters = read_links(r, "shadow_only", "shadow_skip", rig);
  if (light.lit && light.lit->empty()) {
    r.warning("only",
              r.has("only") ? r.place("only") : r.place("skip"),
              "lights-nothing",
              "the light is linked to no object",
              "see only and skip");
  }
  if (!is_distant(light.shape.kind)) {
    if (const auto volume = r.text("inside")) {
      light.inside = volume_named(r, "inside", *volume, rig, {});
    }
    if (const auto fade = r.quantities("fade_with_camera", Dimension::kLength, 2, kNotNegative)) {
      if ((*fade)[1] <= (*fade)[0]) {
        r.error("fade_with_camera",
                r.place("fade_with_camera"),
                "out-of-range",
                "the second length ends the fade: it must be above the first");
      }
      light.fade_with_camera = std::pair((*fade)[0], (*fade)[1]);
    }
  }
  if (const auto group = r.text("group")) {
    if (is_plain_name(*group)) {
      light.group = *group;
    } else {
      r.error("group",
              r.place("group"),
              "bad-name",
              fmt::format("found \"{}\"; a group's name is made of letters, digits, - and _",
                          printable(*group, 40)));
    }
  }
  if (const DocumentNode* cheat = r.find("cheat"); cheat != nullptr && !cheat->is_table()) {
    r.wrong_type("cheat",
                 *cheat,
                 "{ direct, diffuse, gloss, bounce, bounce_chroma, caustics, haze, shadow, "
                 "shadow_tint, bounce_limit, visible }");
  } else if (cheat != nullptr) {
    TableReader c(*cheat, r.address_of("cheat"), r.length(), r.problems());
    CheatSpec& out = light.cheat;
    light.cheat_place = cheat->place;
    const Limits factor{0, 1000};
    out.direct = c.ratio("direct", factor).value_or(1);
    out.diffuse = c.ratio("diffuse", factor).value_or(1);
    out.gloss = c.ratio("gloss", factor).value_or(1);
    out.bounce = c.ratio("bounce", factor).value_or(1);
    out.bounce_chroma = c.ratio("bounce_chroma", {0, 10}).value_or(1);
    out.haze = c.ratio("haze", factor).value_or(1);
    out.shadow = c.ratio("shadow", kShare).value_or(1);
    out.shadow_tint = c.color("shadow_tint", 1).value_or(Rgb::Zero());
    out.caustics = c.ratio("caustics", factor).value_or(1);
    out.visible = c.flag("visible").value_or(true);
    out.bounce_limit = c.quantity("bounce_limit", Dimension::kLuminance, {1e-6, 1e12});
    c.finish();
  }
  const DocumentNode* tint_by = r.find("tint_by");
  if (tint_by == nullptr) {
    return;
  }
  if (!tint_by->is_table()) {
    r.wrong_type("tint_by", *tint_by, "{ formula = \"...\", ramp = [[value, color], ...] }");
    return;
  }
  if (light.tint) {
    r.error("tint_by",
            tint_by->place,
            "conflict",
            "tint and tint_by are both given; one of them colors the light");
  }
  TableReader t(*tint_by, r.address_of("tint_by"), r.length(), r.problems());
  const auto formula = read_formula(t, "formula", {"x", "y", "z", "t"}, "z / 2.6");
  const DocumentNode* ramp = t.find("ramp");
  std::vector<std::pair<double, Rgb>> colors;
  if (ramp == nullptr || !ramp->is_array() || ramp->array().empty()) {
    t.missing("ramp", "[[value, \"#rrggbb\"], ...]");
  } else {
    for (const DocumentNode& point : ramp->array()) {
      const bool pair =
          point.is_array() && point.array().size() == 2 && point.array()[0].is_number();
      if (!pair) {
        t.error("ramp", point.place, "wrong-type", "expected [value, color]");
        break;
      }
      DocumentNode holder;
      holder.place = point.place;
      holder.set("ramp", point.place, point.array()[1]);
      TableReader one(holder, t.address(), r.length(), r.problems());
      const auto color = one.color("ramp", 1e6);
      if (!color) {
        break;
      }
      if (!(color->maxCoeff() > 0)) {
        t.error("ramp",
                point.place,
                "out-of-range",
                "black has no color to give: a tint keeps the light's level",
                "use a gobo or a dimmer to darken");
        break;
      }
      if (!colors.empty() && point.array()[0].number() <= colors.back().first) {
        t.error("ramp", point.place, "out-of-range", "the values of a ramp must increase");
        break;
      }
      colors.emplace_back(point.array()[0].number(), *color);
    }
  }
  t.finish();
  if (formula && !colors.empty()) {
    light.tint_by = TintByPosition{*formula, std::move(colors)};
  }
}

void read_gels(TableReader& r, const Rig& rig, LightSpec& light);

// spectrum, dim_to_warm, gel.
void read_source(TableReader& r, const Rig& rig, LightSpec& light) {
  if (const auto name = r.text("spectrum")) {
    light.spectrum_place = r.place("spectrum");
    if (r.has("white")) {
      r.error("spectrum",
              light.spectrum_place,
              "conflict",
              "white and spectrum are both given; one of them is the source's color");
    }
    const std::string ending = std::filesystem::path(*name).extension().string();
    if (ending == ".csv" || ending == ".spdx") {
      light.spectrum_file = path_from(light.spectrum_place, *name);
      std::error_code ec;
      if (!std::filesystem::is_regular_file(light.spectrum_file, ec)) {
        r.error("spectrum",
                light.spectrum_place,
                "missing-file",
                fmt::format("file not found: {}", printable(light.spectrum_file, 200)));
      }
    } else if (!(light.spectrum = spectrum_named(*name))) {
      r.error("spectrum",
              light.spectrum_place,
              "unknown-word",
              fmt::format("found \"{}\"; expected cie-a, cie-c, cie-d50 .. cie-d65, cie-f1 .. "
                          "cie-f12, led-2200 .. led-6500, or a .csv or .spdx file",
                          printable(*name)),
              did_you_mean(*name, spectrum_names()));
    }
  }
  if (const auto warm = r.quantity("dim_to_warm", Dimension::kTemperature, {500, 100000})) {
    light.dim_to_warm = *warm;
    if (r.has("spectrum") || light.white.kind != White::Kind::kPlanck) {
      r.error("dim_to_warm",
              r.place("dim_to_warm"),
              "conflict",
              "only a white in kelvin slides with its dimmer",
              "give white = \"2700 K\"");
    }
  }
  read_gels(r, rig, light);
}

void read_gels(TableReader& r, const Rig& rig, LightSpec& light) {
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
    r.error("gel",
            node.place,
            "unknown-name",
            fmt::format("there is no gel \"{}\"", printable(node.text())),
            did_you_mean(node.text(), names));
  };
  if (gel->is_array()) {
    for (const DocumentNode& node : gel->array()) {
      one(node);
    }
  } else {
    one(*gel);
  }
}

std::optional<Flicker> read_flicker(TableReader& r) {
  const DocumentNode* node = r.find("flicker");
  if (node == nullptr) {
    return std::nullopt;
  }
  if (!node->is_table()) {
    r.wrong_type("flicker", *node, "{ wave = \"sine\", rate = \"3 Hz\", depth = \"30 %\" }");
    return std::nullopt;
  }
  using Wave = Flicker::Wave;
  TableReader f(*node, r.address_of("flicker"), r.length(), r.problems());
  Flicker out;
  const std::vector<std::string> waves = {"sine", "square", "mains", "flame", "strike", "formula"};
  const auto wave = f.word("wave", waves);
  if (!f.has("wave")) {
    f.missing("wave", join_or(waves));
  }
  out.wave = static_cast<Wave>(wave.value_or(0));
  const auto rate = f.quantity("rate", Dimension::kFrequency, {1e-6, 1e6});
  if (out.wave == Wave::kFormula) {
    out.rate = rate.value_or(1);
    out.formula = read_formula(f, "formula", {"t"}, "0.8 + 0.2*sin(tau*3*t)");
  } else if (!f.has("rate")) {
    f.missing("rate", "a frequency such as \"3 Hz\"");
  } else {
    out.rate = rate.value_or(1);
  }
  if (out.wave != Wave::kFormula) {
    out.depth = f.ratio("depth", kShare).value_or(1);
    out.phase = f.quantity("phase", Dimension::kAngle, kAny).value_or(0);
  }
  if (out.wave == Wave::kSquare) {
    out.duty = f.ratio("duty", {0.001, 0.999}).value_or(0.5);
  }
  if (out.wave == Wave::kFlame || out.wave == Wave::kStrike) {
    out.seed = static_cast<std::uint32_t>(f.integer("seed", 0, 0xffffffffLL).value_or(1));
  }
  f.finish({"depth", "phase", "duty", "seed", "formula"},
           wave ? fmt::format("wave \"{}\"", waves[*wave]) : "this wave");
  if (!wave || (out.wave == Wave::kFormula && !out.formula)) {
    return std::nullopt;
  }
  return out;
}

}  // namespace

std::optional<LightSpec> read_light(TableReader& r, const Rig& rig) {
  LightSpec light;
  light.place = r.table().place;
  bool good = true;
  const DocumentNode* kind = r.find("kind");
  if (kind == nullptr) {
    r.missing("kind", join_or(light_kind_names()));
    good = false;
  } else if (const auto index = r.word("kind", light_kind_names())) {
    light.shape.kind = *parse_light_kind(light_kind_names()[*index]);
  } else {
    good = false;
  }
  const LightKind f = light.shape.kind;
  // Placed by its ends or its object.
  const bool own_place = f == LightKind::kTube || f == LightKind::kObject;
  if (!is_distant(f) && !own_place) {
    const auto at = r.position("at");
    if (!at && !r.has("at") && good) {
      r.missing("at", "a position [x, y, z]");
    }
    good = good && at.has_value();
    light.at = at.value_or(Vec3d::Zero());
  }
  light.axis = -rig.up;
  const bool directed = f == LightKind::kSpot || f == LightKind::kDisk || f == LightKind::kRect;
  const bool may_be_directed =
      (f == LightKind::kPoint || f == LightKind::kSphere) && r.has("profile");
  if (good &&
      (directed || (may_be_directed && (r.has("aim") || r.has("toward") || r.has("roll"))))) {
    if (directed || r.has("aim") || r.has("toward")) {
      read_axis(r, light);
    } else {
      light.roll = r.quantity("roll", Dimension::kAngle, kAny).value_or(0);
    }
  } else if (f == LightKind::kSun) {
    read_sun_axis(r, rig, light);
    light.roll = r.quantity("roll", Dimension::kAngle, kAny).value_or(0);
  } else if (!good) {
    r.position("aim");
    r.direction("toward");
  }
  good = good && (kind == nullptr || read_shape(r, rig, light)) && kind != nullptr;
  read_shaping(r, light);
  good =
      good && (!r.has("profile") || !light.profile_file.empty() || light.profile_place.line == 0);
  light.falloff = is_distant(f) ? Falloff{} : read_falloff(r);
  light.falloff_place = r.place("falloff");
  light.output_place = r.place("output");
  const DocumentNode* output = r.find("output");
  if (output == nullptr && !light.profile_file.empty()) {
    light.output_given = false;
  } else if (output == nullptr) {
    r.missing("output", output_units(f));
    good = false;
  } else if (f == LightKind::kDome && output->is_text() && output->text() == "as-is") {
    light.output.kind = Output::Kind::kAsIs;
  } else if (!output->is_text()) {
    r.error("output",
            output->place,
            output->is_number() ? "missing-unit" : "wrong-type",
            fmt::format("found {}; an output is a text with its unit: {}",
                        output->is_number() ? short_number(output->number(), 6) + " without a unit"
                                            : std::string(output->kind()),
                        output_units(f)),
            output->is_number() && !is_distant(f)
                ? fmt::format("write \"{} lm\"", short_number(output->number(), 6))
                : "");
    good = false;
  } else if (f == LightKind::kSun && output->text() == "clear") {
    const double up = -light.axis.dot(rig.up);
    light.output = {Output::Kind::kIlluminance,
                    clear_sun_illuminance({std::asin(std::clamp(up, -1.0, 1.0))}).value,
                    std::nullopt,
                    {}};
    const Output& stated = light.output;
    light.levels = *source_levels(light.shape, stated).levels;
    if (up <= 0) {
      r.warning("output",
                output->place,
                "sun-below-horizon",
                "the sun is below the horizon: it gives no light",
                "see elevation, toward, or the site's time");
    }
  } else {
    const auto parsed = parse_output(output->text(), is_distant(f));
    if (const auto* fault = std::get_if<UnitFault>(&parsed)) {
      r.error("output",
              output->place,
              "bad-quantity",
              fmt::format("{}; expected {}", fault->text, output_units(f)),
              fault->hint);
      good = false;
    } else {
      light.output = std::get<Output>(parsed);
      light.efficacy = light.output.efficacy.value;
      if (good) {
        // What only files can tell stands for 1 here: the unit is right or wrong all the same.
        SourceShape source = light.shape;
        if (f == LightKind::kObject) {
          source.area = 1;
        }
        if (!light.profile_file.empty()) {
          static const auto kEven = std::make_shared<LuminousDistribution>(CandelaGrid{
              PhotometricType::kC, PhotometricSymmetry::kRotational, {0}, {0, kPiD}, {1, 1}});
          source.profile = kEven;
        }
        const LevelsOrFault levels = source_levels(source, light.output);
        if (levels.levels) {
          const bool final =
              f != LightKind::kObject && f != LightKind::kDome && light.profile_file.empty();
          light.levels = final ? *levels.levels : SourceLevels{};
        } else {
          r.error("output",
                  output->place,
                  "wrong-unit",
                  fmt::format("found \"{}\": {}", printable(output->text()), levels.fault));
          good = false;
        }
      }
    }
  }
  if (const DocumentNode* white = f == LightKind::kDome ? nullptr : r.find("white")) {
    const auto parsed = white->is_text()     ? parse_white(white->text())
                        : white->is_number() ? parse_white(fmt::format("{} K", white->number()))
                                             : std::nullopt;
    if (parsed) {
      light.white = *parsed;
    } else {
      r.error("white",
              white->place,
              "bad-quantity",
              fmt::format("found {}; expected \"2700 K\" (500 to 100000), \"D6504\" or \"daylight "
                          "6500 K\" (4000 to 25000)",
                          white->is_text() ? "\"" + printable(white->text()) + "\""
                                           : std::string(white->kind())));
    }
  }
  if (f != LightKind::kDome) {
    read_source(r, rig, light);
  } else {
    read_gels(r, rig, light);
  }
  light.tint = r.color("tint", 1e6);
  if (light.tint && !(light.tint->maxCoeff() > 0)) {
    r.error("tint",
            r.place("tint"),
            "out-of-range",
            "a black tint has no color to give",
            "use dimmer or on = false to darken a light");
    light.tint.reset();
  }
  light.dimmer = r.ratio("dimmer", kShare).value_or(1);
  light.on = r.flag("on").value_or(true);
  light.flicker = read_flicker(r);
  read_effect(r, rig, light);
  r.finish(kKindKeys, fmt::format("kind \"{}\"", to_string(f)));
  if (!good) {
    return std::nullopt;
  }
  return light;
}

}  // namespace jovilux
