#include "jovilux/rig/read_light.h"

#include "jovilux/base/text.h"
#include "jovilux/rig/read_light_parts.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace jovilux {
namespace {

// A point this near leaves no direction.
constexpr double kSameAim = 1e-9;  // [m]

// `aim` is a point, `toward` a direction; one of them where the kind has an axis.
void read_axis(TableReader& r, bool placed, LightSpec& light) {
  const bool both = r.has("aim") && r.has("toward");
  const auto aim = r.vector("aim");
  const auto toward = r.direction("toward");
  if (both) {
    r.error("toward",
            r.place("toward"),
            "conflict",
            "aim and toward are both given; one of them says where it faces",
            "leave one of them out");
  } else if (aim) {
    light.aim = aim;
    if (!placed || (*aim - light.at).norm() > kSameAim) {
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
    r.missing("aim");
  }
  light.roll = r.number_or_standard("roll");
}

// A sky's model and, where that knows one, its sun.
bool read_sky(TableReader& r, const Rig& rig, LightSpec& light) {
  SkyShape& sky = light.shape.sky;
  const auto type = r.whole("cie");
  const auto word = r.word("model");
  if (r.has("cie") && r.has("model")) {
    r.error("cie",
            r.place("cie"),
            "conflict",
            "model and cie are both given; one of them says how the sky's luminance is spread",
            "leave one of them out");
    return false;
  }
  if (!type && !word) {
    if (!r.has("cie")) {
      r.require("model");
    }
    return false;
  }
  if (word && *word < 2) {
    sky.model = *word == 0 ? SkyModel::kUniform : SkyModel::kOvercast;
    return true;
  }
  constexpr int kClearSky = 12;  // ISO 15469, low turbidity
  sky.model = SkyModel::kGeneral;
  sky.general = type ? static_cast<int>(*type) : kClearSky;
  // The sun of a clear sky is placed as one that shines: by angles, a direction, or the site's
  // time.
  if (!knows_sun(sky.general)) {
    return true;
  }
  LightSpec sun;
  sun.axis = Vec3d::Zero();
  read_sun_axis(r, rig, sun);
  if (sun.axis.isZero()) {
    return false;
  }
  // The sky's own frame: x east, y north, z up.
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
  r.require("radius");
  made.radius = r.number("radius").value_or(-1);
  made.endless = r.flag_or_standard("endless");
  if (made.endless) {
    if (!r.has("at")) {
      r.missing("at", "a position [x, y, z] on its axis");
    }
    r.require("along");
    const auto at = r.vector("at");
    const auto along = r.direction("along");
    light.at = at.value_or(Vec3d::Zero());
    light.along = along.value_or(Vec3d::UnitX());
    return at && along && made.radius >= 0;
  }
  r.require("from");
  r.require("to");
  const auto from = r.vector("from"), to = r.vector("to");
  if (!from || !to) {
    return false;
  }
  constexpr double kShortest = 1e-6;  // [m]
  made.length = (*to - *from).norm();
  if (!(made.length > kShortest)) {
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

// The object whose surface emits: its area must be known, and it emits for one light only.
bool read_emitting_object(TableReader& r, const Rig& rig, LightSpec& light) {
  r.require("object");
  const auto name = r.text("object");
  if (!name) {
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
    r.unknown_name("object",
                   r.place("object"),
                   fmt::format("there is no object \"{}\"", printable(*name)),
                   *name,
                   names);
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
  // Two lights on one surface would have one layer between them.
  for (const LightSpec& other : rig.lights) {
    if (other.shape.kind == LightKind::kObject && other.object == light.object) {
      r.error("object",
              r.place("object"),
              "conflict",
              fmt::format("the surface of \"{}\" emits already, as the light \"{}\" at {}",
                          *name,
                          other.name,
                          to_string(other.place)),
              "give each light an object of its own");
      return false;
    }
  }
  light.at = object.transform.offset;
  return true;
}

bool read_spot(TableReader& r, LightSpec& light) {
  light.shape.radius = r.number_or_standard("radius");
  if (r.has("profile")) {
    return true;
  }
  r.require("beam");
  const auto beam = r.number("beam");
  const auto field = r.number("field");
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
  light.shape.beam = spot_beam({*beam}, {wide});
  return true;
}

// The picture of a rect's luminance, beside which nothing else may shape it.
void read_screen(TableReader& r, LightSpec& light) {
  light.image = r.file("image", &light.image_place).value_or("");
  for (const char* other : {"gobo", "profile", "hot_center"}) {
    if (!light.image.empty() && r.has(other)) {
      r.error(other,
              r.place(other),
              "conflict",
              fmt::format("image and {} are both given; one of them shapes the light", other),
              "leave one of them out");
    }
  }
}

// The sizes that the kind has; false where one is missing or wrong.
bool read_sizes(TableReader& r, const Rig& rig, LightSpec& light) {
  SourceShape& made = light.shape;
  switch (made.kind) {
    case LightKind::kPoint:
      return true;
    case LightKind::kSphere:
    case LightKind::kDisk: {
      r.require("radius");
      const auto radius = r.number("radius");
      made.radius = radius.value_or(made.radius);
      return radius.has_value();
    }
    case LightKind::kRect: {
      r.require("size");
      const auto size = r.numbers("size");
      if (size) {
        made.width = (*size)[0];
        made.height = (*size)[1];
      }
      read_screen(r, light);
      return size.has_value();
    }
    case LightKind::kTube:
      return read_tube(r, light);
    case LightKind::kObject:
      return read_emitting_object(r, rig, light);
    case LightKind::kSpot:
      return read_spot(r, light);
    case LightKind::kSky:
      return read_sky(r, rig, light);
    case LightKind::kSun:
      made.angular_diameter = r.number_or_standard("angular_diameter");
      return true;
    case LightKind::kDome:
      r.require("image");
      light.image = r.file("image", &light.image_place).value_or("");
      light.rotate = r.number_or_standard("rotate");
      return !light.image.empty();
  }
  return false;
}

// Its place and the way it shines; false where the place is missing or wrong. What is placed by its
// ends, its object or the sky comes with the sizes.
bool read_place(TableReader& r, const Rig& rig, LightSpec& light) {
  const LightKind kind = light.shape.kind;
  bool good = true;
  if (!is_distant(kind) && kind != LightKind::kTube && kind != LightKind::kObject) {
    r.require("at");
    const auto at = r.vector("at");
    good = at.has_value();
    light.at = at.value_or(Vec3d::Zero());
  }
  light.axis = -rig.up;
  const bool directed =
      kind == LightKind::kSpot || kind == LightKind::kDisk || kind == LightKind::kRect;
  const bool by_profile =
      (kind == LightKind::kPoint || kind == LightKind::kSphere) && r.has("profile");
  if (directed || (by_profile && (r.has("aim") || r.has("toward")))) {
    read_axis(r, good, light);
  } else if (by_profile) {
    light.roll = r.number_or_standard("roll");
  } else if (kind == LightKind::kSun) {
    read_sun_axis(r, rig, light);
    light.roll = r.number_or_standard("roll");
  }
  return good;
}

void read_level(TableReader& r, LightSpec& light) {
  light.dimmer = r.number_or_standard("dimmer");
  light.on = r.flag_or_standard("on");
  light.body = r.flag_or_standard("body");
  light.flicker = read_flicker(r);
}

}  // namespace

// Azimuth counts from north over east.
void read_sun_axis(TableReader& r, const Rig& rig, LightSpec& light) {
  const auto towards_ground = [&](double elevation, double azimuth) {
    const Vec3d east = Vec3d::UnitX(), north = rig.up.cross(east);
    return Vec3d(-(std::sin(elevation) * rig.up +
                   std::cos(elevation) * (std::sin(azimuth) * east + std::cos(azimuth) * north)));
  };
  const auto toward = r.direction("toward");
  const auto elevation = r.number("elevation");
  const auto azimuth = r.number("azimuth");
  if (r.has("toward") && (r.has("elevation") || r.has("azimuth"))) {
    r.error("toward",
            r.place("toward"),
            "conflict",
            "toward and elevation with azimuth are both given; one of them places the sun",
            "leave one of them out");
  } else if (toward) {
    light.axis = *toward;
  } else if (elevation && azimuth) {
    light.axis = towards_ground(*elevation, *azimuth);
  } else if (r.has("elevation") != r.has("azimuth")) {
    r.missing(r.has("elevation") ? "azimuth" : "elevation");
  } else if (rig.site && rig.site->time && !r.has("toward") && !r.has("elevation")) {
    constexpr double kSeaLevelHpa = 1013.25;
    const SunPosition sun =
        sun_position(*rig.site->time, {rig.site->latitude}, {rig.site->longitude}, kSeaLevelHpa);
    light.axis = towards_ground(sun.elevation.value, sun.azimuth.value);
  } else if (!r.has("elevation")) {
    r.require("toward");
  }
}

std::optional<LightSpec> read_light(TableReader& r, const Rig& rig) {
  LightSpec light;
  light.place = r.node().place;
  r.require("kind");
  const auto index = r.word("kind");
  if (!index) {  // without a kind nothing can be said of the keys that only some have
    read_level(r, light);
    read_color(r, rig, light);
    read_effect(r, rig, light);
    return std::nullopt;
  }
  const std::string& kind = r.words("kind")[*index];
  r.set_kind(kind);
  light.shape.kind = *parse_light_kind(kind);
  const bool placed = read_place(r, rig, light);
  const bool sized = read_sizes(r, rig, light);
  read_shaping(r, light);
  const bool shaped = !r.has("profile") || !light.profile_file.empty();
  light.falloff = is_distant(light.shape.kind) ? Falloff{} : read_falloff(r);
  light.falloff_place = r.place("falloff");
  const bool good = read_output(r, rig, placed && sized && shaped, light);
  read_color(r, rig, light);
  read_level(r, light);
  read_effect(r, rig, light);
  const SkyShape& sky = light.shape.sky;
  const bool sunless = light.shape.kind == LightKind::kSky &&
                       (sky.model != SkyModel::kGeneral || !knows_sun(sky.general));
  r.finish(sunless ? "a sky without a sun, as only clear ones have"
                   : fmt::format("kind \"{}\"", kind));
  return good ? std::optional(std::move(light)) : std::nullopt;
}

}  // namespace jovilux
