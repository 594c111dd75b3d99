#include "cli/usd_rig.h"

#include "jovilux/color/rgb.h"
#include "jovilux/geometry/transform.h"

#include <algorithm>
#include <cmath>

#include "cli/rig_text.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

using Light = UsdStage::Light;
using Kind = Light::Kind;
using Named = std::function<std::string(const std::string&)>;

constexpr double kDegrees = 180 / kPiD;

std::string line(const char* key, const std::string& value) {
  return fmt::format("{:<6} = {}\n", key, value);
}
std::string quantity(const char* key, double value, const char* unit) {
  return line(key, fmt::format("\"{:.9g} {}\"", value, unit));
}

// The turn about its axis that a frame has beyond the one of the rig's `roll = 0`.
double roll_of(const Mat3d& frame) {
  const Vec3d axis = -frame.col(2);
  const Mat3d level = aimed(axis, Vec3d::UnitZ(), 0);
  return std::atan2(frame.col(0).dot(level.col(1)), frame.col(0).dot(level.col(0))) * kDegrees;
}

std::string direction(const Light& l) { return line("toward", triple(-l.frame.col(2))); }

// A sphere that is a point elsewhere, has a cone or a photometric file: its intensity.
std::string point_text(const Light& l, const Named& named, double level) {
  const bool cone = l.cone_angle && *l.cone_angle < 90;
  std::string out = line("kind", cone ? "\"spot\"" : "\"point\"") + line("at", triple(l.at));
  if (cone || !l.profile.empty()) {
    out += direction(l);
  }
  if (cone) {
    constexpr double kNarrowest = 0.01;  // [degrees]
    const double field = std::max(kNarrowest, 2 * *l.cone_angle),
                 soft = std::clamp(l.cone_softness, 0.0, 0.99);
    out += line("field", fmt::format("\"{:.9g} deg\"", field)) +
           line("beam", fmt::format("\"{:.9g} deg\"", field * (1 - soft)));
    if (!l.as_point) {
      out += line("radius", fmt::format("\"{:.9g} m\"", l.radius));
    }
  }
  if (!l.profile.empty()) {
    out += line("profile", "\"" + in_quotes(named(l.profile)) + "\"");
    out += "# the file's own candelas; the stage's intensity is left out\n";
    return out;
  }
  return out + quantity("output", level * kPiD * l.radius * l.radius, "cd");
}

std::string cylinder_text(const Light& l, double level) {
  const Vec3d half = l.frame.col(0) * (l.length / 2);
  std::string out = line("kind", "\"tube\"") + line("from", triple(l.at - half)) +
                    line("to", triple(l.at + half));
  if (l.as_line) {  // the same lumens from an ideal line
    return out + line("radius", "0") +
           quantity("output", level * kPiD * 2 * kPiD * l.radius * l.length, "lm");
  }
  return out + line("radius", fmt::format("\"{:.9g} m\"", l.radius)) +
         quantity("output", level, "cd/m2");
}

std::string dome_text(const Light& l, const Named& named, double level) {
  if (l.texture.empty()) {
    return line("kind", "\"sky\"") + line("model", "\"uniform\"") +
           quantity("output", level * kPiD, "lx");
  }
  std::string out = line("kind", "\"dome\"") +
                    line("image", "\"" + in_quotes(named(l.texture)) + "\"") +
                    line("output", "\"as-is\"");
  if (level > 0 && std::abs(level - 1) > 1e-9) {
    out +=
        line("dimmer", fmt::format("\"{:.6g} stops\"", std::clamp(std::log2(level), -30.0, 6.0)));
  }
  return out;
}

std::string light_text(const Light& l, const std::string& name, const Named& named) {
  const double brightness = luminance_of(l.color), level = l.level * brightness;
  std::string out = "\n[[light]]\n" + line("name", "\"" + name + "\"");
  if (!(level > 0)) {
    out += "# dark in the stage\n" + line("on", "false");
  }
  const double shown = level > 0 ? level : 1;
  switch (l.kind) {
    case Kind::kSphere:
      if (l.as_point || !l.profile.empty() || (l.cone_angle && *l.cone_angle < 90)) {
        out += point_text(l, named, shown);
      } else {
        out += line("kind", "\"sphere\"") + line("at", triple(l.at)) +
               line("radius", fmt::format("\"{:.9g} m\"", l.radius)) +
               quantity("output", shown, "cd/m2");
      }
      break;
    case Kind::kDisk:
      out += line("kind", "\"disk\"") + line("at", triple(l.at)) + direction(l) +
             line("radius", fmt::format("\"{:.9g} m\"", l.radius)) +
             quantity("output", shown, "cd/m2");
      break;
    case Kind::kRect:
      out += line("kind", "\"rect\"") + line("at", triple(l.at)) + direction(l) +
             line("size", fmt::format("[\"{:.9g} m\", \"{:.9g} m\"]", l.width, l.height)) +
             line("roll", fmt::format("\"{:.6g} deg\"", roll_of(l.frame))) +
             quantity("output", shown, "cd/m2");
      break;
    case Kind::kCylinder:
      out += cylinder_text(l, shown);
      break;
    case Kind::kDistant:
      out += line("kind", "\"sun\"") + direction(l) +
             line("angular_diameter", fmt::format("\"{:.9g} deg\"", l.angle)) +
             quantity("output", shown, "lx");
      break;
    case Kind::kDome:
      out += dome_text(l, named, shown);
      break;
  }
  if (l.kelvin && l.kind != Kind::kDome) {
    out += quantity("white", std::clamp(*l.kelvin, 500.0, 100'000.0), "K");
  }
  constexpr double kWhite = 1e-4;
  if (brightness > 0 && (l.color - Rgb::Ones()).cwiseAbs().maxCoeff() > kWhite) {
    out +=
        line("tint", fmt::format("[{:.9g}, {:.9g}, {:.9g}]", l.color[0], l.color[1], l.color[2]));
  }
  if (l.cone_angle && *l.cone_angle < 90 && l.kind != Kind::kSphere) {
    out += fmt::format("# the stage shapes it to {:.4g} deg: see spread\n", 2 * *l.cone_angle);
  }
  return out;
}

}  // namespace

std::string rig_from_usd(const UsdStage& stage, const std::string& source, const Named& named) {
  Vec3d lo = Vec3d::Constant(HUGE_VAL), hi = -lo;
  for (const Light& l : stage.lights) {
    if (l.kind != Kind::kDistant && l.kind != Kind::kDome) {
      lo = lo.cwiseMin(l.at);
      hi = hi.cwiseMax(l.at);
    }
  }
  const bool placed = (lo.array() <= hi.array()).all();
  const Vec3d center = placed ? Vec3d(0.5 * (lo + hi)) : Vec3d(0, 0, 1);
  const double size = placed ? std::max(2.0, (hi - lo).norm()) : 4,
               floor = placed ? std::min(0.0, lo.z() - 0.5) : 0;
  std::string out = fmt::format(
      "# The {} lights of {}, in meters, z up.\njovilux = 1\n\n[scene]\ntitle  = \"{}\"\nlength = "
      "\"m\"\n\n[render]\nsize    = [640, 360]\nsamples = 32\n\n[look]\nexposure = "
      "\"auto\"\n\n[[camera]]\nname    = \"front\"\nat      = {}\nlook_at = {}\nfield_of_view = "
      "50\n\n[[object]]                          # put the scene here: mesh = \"file\"\nname  = "
      "\"floor\"\nshape = {{ kind = \"plane\" }}\nat    = {}\n",
      stage.lights.size(),
      source,
      in_quotes(source),
      triple(center + size * Vec3d(0.35, -1.4, 0.35)),
      triple(center - Vec3d(0, 0, std::min(0.5, 0.25 * size))),
      triple({0, 0, floor}));
  std::vector<std::string> names;
  for (const Light& l : stage.lights) {
    out += light_text(l, plain_name(l.name, "light", names), named);
  }
  return out;
}

}  // namespace jovilux::cli
