#include "jovilux/judge/light_export.h"

#include "jovilux/base/sampler.h"
#include "jovilux/base/text.h"
#include "jovilux/color/chromaticity.h"
#include "jovilux/emitters/emitter.h"
#include "jovilux/emitters/light_form.h"
#include "jovilux/files/json.h"
#include "jovilux/files/photometric_file.h"
#include "jovilux/transport/light_emission.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <filesystem>
#include <set>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr double kDegrees = 180 / kPiD;

const char* kind_word(LightKind kind) {
  switch (kind) {
    case LightKind::kPoint:
      return "point";
    case LightKind::kSpot:
      return "spot";
    case LightKind::kSphere:
      return "sphere";
    case LightKind::kDisk:
      return "disk";
    case LightKind::kRect:
      return "rect";
    case LightKind::kTube:
      return "tube";
    case LightKind::kSun:
      return "sun";
    case LightKind::kSky:
      return "sky";
    case LightKind::kDome:
      return "dome";
    case LightKind::kObject:
      return "object";
  }
  return "";
}

// The least rotation that turns the unit vector `from` into `to`. Eigen's FromTwoVectors decomposes
// a matrix where the two are opposite, which takes 15 s to compile.
Eigen::Quaterniond rotation_between(const Vec3d& from, const Vec3d& to) {
  constexpr double kOpposite = 1e-12;
  const double cosine = from.dot(to);
  const Vec3d axis = cosine < kOpposite - 1 ? from.unitOrthogonal() : Vec3d(from.cross(to));
  return Eigen::Quaterniond(cosine < kOpposite - 1 ? 0 : 1 + cosine, axis.x(), axis.y(), axis.z())
      .normalized();
}

// Rotation from the rig's space to one where y is up.
Eigen::Matrix3d to_y_up(const Vec3d& up) {
  return rotation_between(up.normalized(), Vec3d::UnitY()).toRotationMatrix();
}

Json triple(const Vec3d& v) { return {v.x() + 0.0, v.y() + 0.0, v.z() + 0.0}; }

// The extension's cone falls as the square of (cos - cos outer) / (cos inner - cos outer): the cone
// that has 50 % at half of the beam and 10 % at half of the field.
struct Cone {
  double inner = 0, outer = kPiD / 4;
  bool exact = true;
};
Cone cone_of(const SpotBeam& beam) {
  const double half = std::sqrt(0.5), tenth = std::sqrt(0.1), at_beam = std::cos(beam.half_beam),
               step = (at_beam - std::cos(beam.half_field)) / (half - tenth);
  double outer = at_beam - half * step, inner = outer + step;
  const bool exact = outer >= 0 && inner <= 1;
  if (!exact) {  // the beam stays, the field follows
    inner = std::min(inner, 1.0);
    outer = std::max(0.0, (at_beam - half * inner) / (1 - half));
    inner = std::min(1.0, (at_beam - outer) / half + outer);
  }
  return {std::acos(inner), std::acos(outer), exact};
}

// A prim's name, unlike those before it.
std::string usd_name(const std::string& name, std::set<std::string>& taken) {
  std::string out;
  for (const char c : name) {
    out += std::isalnum(static_cast<unsigned char>(c)) != 0 ? c : '_';
  }
  out = out.empty() || std::isdigit(static_cast<unsigned char>(out[0])) != 0 ? "_" + out : out;
  std::string unique = out;
  for (int i = 2; !taken.insert(unique).second; ++i) {
    unique = fmt::format("{}_{}", out, i);
  }
  return unique;
}

// A file as one in `folder` names it.
std::string usd_asset(const std::string& file, const std::string& folder) {
  std::error_code ec;
  const auto from = std::filesystem::proximate(
      std::filesystem::absolute(file, ec), std::filesystem::absolute(folder, ec), ec);
  return "@" + printable(from.generic_string(), 1000) + "@";
}

std::string usd_text(const std::string& text) {
  std::string out = "\"";
  for (const char c : printable(text, 200)) {
    out += c == '"' || c == '\\' ? std::string("\\") + c : std::string(1, c);
  }
  return out + "\"";
}

// What a light's file cannot say of it.
void note_losses(const ExportedLight& l, std::vector<std::string>& notes) {
  const LightSpec& s = *l.light;
  const auto note = [&](const std::string& text) { notes.push_back(l.name + ": " + text); };
  if (!s.falloff.is_physical()) {
    note("its law of falloff stays behind: the inverse square elsewhere");
  }
  if (s.gobo) {
    note("its gobo stays behind");
  }
  if (s.doors) {
    note("its barn doors stay behind");
  }
  if (s.diffusion() && s.shape.kind != LightKind::kSpot) {
    note("its diffusion sheet stays behind; export -o NAME.ies writes the beam behind it");
  }
  if (!s.profile_file.empty()) {
    note("give the other tool its photometric file: " + s.profile_file);
  }
  if (s.tint_by) {
    note("its tint by place stays behind");
  }
  if (s.lit || s.casters || s.inside) {
    note("its links and volumes stay behind");
  }
}

// "Light "name" { ... }" with its attributes.
class UsdLight {
 public:
  UsdLight(const char* type, const std::string& name, bool shaped)
      : text_(fmt::format(
            "\n    def {} \"{}\"{}\n    {{\n",
            type,
            name,
            shaped ? " (\n        prepend apiSchemas = [\"ShapingAPI\"]\n    )" : "")) {}
  void number(const char* name, double v) {
    text_ += fmt::format("        float inputs:{} = {:.9g}\n", name, v);
  }
  void flag(const char* name, bool v) {
    text_ += fmt::format("        bool inputs:{} = {}\n", name, v ? 1 : 0);
  }
  void line(const std::string& text) { text_ += "        " + text + "\n"; }
  std::string done() const { return text_ + "    }\n"; }

 private:
  std::string text_;
};

void usd_color(const ExportedLight& l, UsdLight& out) {
  if (l.plain_white && l.kelvin) {
    out.flag("enableColorTemperature", true);
    out.number("colorTemperature", *l.kelvin);
    return;
  }
  out.line(fmt::format(
      "color3f inputs:color = ({:.9g}, {:.9g}, {:.9g})", l.color[0], l.color[1], l.color[2]));
}

// -z is the way a light shines there, x along a cylinder.
void usd_place(const ExportedLight& l, UsdLight& out) {
  const Vec3d x = l.frame.x.cast<double>(), z = -l.frame.z.cast<double>(), y = z.cross(x);
  out.line(
      fmt::format("matrix4d xformOp:transform = ( ({:.9g}, {:.9g}, {:.9g}, 0), ({:.9g}, "
                  "{:.9g}, {:.9g}, 0), ({:.9g}, {:.9g}, {:.9g}, 0), ({:.9g}, {:.9g}, {:.9g}, "
                  "1) )",
                  x.x(),
                  x.y(),
                  x.z(),
                  y.x(),
                  y.y(),
                  y.z(),
                  z.x(),
                  z.y(),
                  z.z(),
                  l.at.x(),
                  l.at.y(),
                  l.at.z()));
  out.line("uniform token[] xformOpOrder = [\"xformOp:transform\"]");
}

// A point of I candela: the flux of a sphere of that intensity, 4 I pi; normalized, intensity over
// the surface is the luminance, so that it is 4 I whatever the radius.
void usd_point(const ExportedLight& l, UsdLight& out) {
  constexpr double kRadius = 0.001;
  out.number("intensity", 4 * l.intensity);
  out.flag("normalize", true);
  out.line("bool treatAsPoint = 1");
  out.number("radius", kRadius);
}

std::string usd_light(const ExportedLight& l,
                      const std::string& folder,
                      std::set<std::string>& taken,
                      std::vector<std::string>& notes) {
  const SourceShape& s = l.light->shape;
  const char* type = s.kind == LightKind::kDisk                                ? "DiskLight"
                     : s.kind == LightKind::kRect                              ? "RectLight"
                     : s.kind == LightKind::kTube                              ? "CylinderLight"
                     : s.kind == LightKind::kSun                               ? "DistantLight"
                     : s.kind == LightKind::kSky || s.kind == LightKind::kDome ? "DomeLight"
                                                                               : "SphereLight";
  const bool shaped = s.kind == LightKind::kSpot || !l.light->profile_file.empty();
  UsdLight out(type, usd_name(l.name, taken), shaped);
  out.line("custom string jovilux:name = " + usd_text(l.name));
  usd_color(l, out);
  switch (s.kind) {
    case LightKind::kPoint:
      usd_point(l, out);
      break;
    case LightKind::kSpot:
      usd_point(l, out);
      out.number("shaping:cone:angle", l.beam.half_field * kDegrees);
      out.number("shaping:cone:softness", 1 - l.beam.half_beam / l.beam.half_field);
      break;
    case LightKind::kSphere:
    case LightKind::kDisk:
      out.number("intensity", l.luminance);
      out.number("radius", s.radius);
      break;
    case LightKind::kRect:
      out.number("intensity", l.luminance);
      out.number("width", s.width);
      out.number("height", s.height);
      break;
    case LightKind::kTube: {
      constexpr double kThin = 0.001;
      const double radius = s.radius > 0 ? s.radius : kThin;
      out.number("intensity",
                 s.radius > 0 ? l.luminance : l.flux / (2 * kPiD * kPiD * radius * s.length));
      if (!(s.radius > 0)) {
        out.line("bool treatAsLine = 1");
      }
      out.number("radius", radius);
      out.number("length", s.length);
      break;
    }
    case LightKind::kSun:
      out.number("intensity", l.illuminance);
      out.flag("normalize", true);
      out.number("angle", s.angular_diameter * kDegrees);
      break;
    case LightKind::kSky:
    case LightKind::kDome:
      out.number("intensity", l.luminance > 0 ? l.luminance : l.illuminance / kPiD);
      if (!l.light->image.empty()) {
        out.line("asset inputs:texture:file = " + usd_asset(l.light->image, folder));
      }
      notes.push_back(l.name + ": the dome has one luminance, or its picture, not the sky's model");
      break;
    case LightKind::kObject:
      out.number("intensity", l.luminance);
      out.number("radius", std::sqrt(s.area / (4 * kPiD)));
      notes.push_back(l.name + ": a luminous object becomes a sphere of its area");
      break;
  }
  if (!l.light->profile_file.empty()) {
    out.line("asset inputs:shaping:ies:file = " + usd_asset(l.light->profile_file, folder));
  }
  usd_place(l, out);
  return out.done();
}

}  // namespace

std::vector<ExportedLight> exported_lights(const Rig& rig, const Scene& scene) {
  std::vector<ExportedLight> out;
  const std::vector<LightReport> reports = light_reports(rig, scene);
  for (std::size_t i = 0; i < rig.lights.size(); ++i) {
    const LightSpec& s = rig.lights[i];
    const LightReport& r = reports[i];
    ExportedLight l;
    l.light = &s;
    l.name = s.name;
    l.at = s.at;
    l.frame = scene.emitters[i].frame;
    const double left = r.dimmed * r.gel_transmittance;
    l.flux = left * (r.levels.flux ? r.levels.flux->value : 0);
    l.intensity = left * (r.levels.intensity ? r.levels.intensity->value : 0);
    l.luminance = left * (r.levels.luminance ? r.levels.luminance->value : 0);
    l.illuminance = left * (r.levels.illuminance ? r.levels.illuminance->value : 0);
    const Rgb color = (rec709_from_xyz() * from_xy(r.xy)).cwiseMax(0);
    l.color = luminance_of(color) > 0 ? Rgb(color / luminance_of(color)) : Rgb(Rgb::Ones());
    l.kelvin = r.cct_k;
    l.beam = s.shape.beam;
    if (r.diffused) {
      l.beam = spot_beam({std::min(r.diffused->beam, kPiD)},
                         {std::clamp(r.diffused->field, r.diffused->beam, kPiD)});
    }
    l.plain_white = s.gels.empty() && !s.tint && !s.spectrum && s.spectrum_file.empty() &&
                    s.white.kind == White::Kind::kPlanck;
    out.push_back(std::move(l));
  }
  return out;
}

LightFile lights_as_csv(const std::vector<ExportedLight>& lights) {
  LightFile out;
  out.text =
      "name,group,kind,on,dimmer,x_m,y_m,z_m,axis_x,axis_y,axis_z,radius_m,width_m,height_m,"
      "length_m,beam_deg,field_deg,flux_lm,intensity_cd,luminance_cd_m2,illuminance_lx,cct_k,"
      "color_r,color_g,color_b,photometric_file\n";
  const auto cell = [](double v) { return v != 0 ? fmt::format(",{:.9g}", v) : std::string(","); };
  for (const ExportedLight& l : lights) {
    const LightSpec& s = *l.light;
    const bool spot = s.shape.kind == LightKind::kSpot;
    const Vec3d axis = s.axis;
    out.text += csv_field(l.name) + "," + csv_field(s.group) + "," + kind_word(s.shape.kind) + "," +
                (s.on ? "yes" : "no") + fmt::format(",{:.9g}", s.dimmer);
    for (const Vec3d& v : {l.at, axis}) {
      out.text += fmt::format(",{:.9g},{:.9g},{:.9g}", v.x() + 0.0, v.y() + 0.0, v.z() + 0.0);
    }
    for (const double v : {s.shape.radius,
                           s.shape.width,
                           s.shape.height,
                           s.shape.length,
                           spot ? 2 * l.beam.half_beam * kDegrees : 0.0,
                           spot ? 2 * l.beam.half_field * kDegrees : 0.0,
                           l.flux,
                           l.intensity,
                           l.luminance,
                           l.illuminance,
                           l.kelvin.value_or(0)}) {
      out.text += cell(v);
    }
    out.text += fmt::format(",{:.6g},{:.6g},{:.6g},{}\n",
                            l.color[0],
                            l.color[1],
                            l.color[2],
                            csv_field(s.profile_file));
  }
  return out;
}

LightFile lights_as_gltf(const std::vector<ExportedLight>& lights, const Vec3d& up) {
  LightFile out;
  const Eigen::Matrix3d turn = to_y_up(up);
  Json punctual = Json::array(), nodes = Json::array(), roots = Json::array();
  for (const ExportedLight& l : lights) {
    const SourceShape& s = l.light->shape;
    if (s.kind == LightKind::kSky || s.kind == LightKind::kDome) {
      out.notes.push_back(l.name + ": a " + kind_word(s.kind) +
                          " has no counterpart and is left out");
      continue;
    }
    note_losses(l, out.notes);
    Json one = {{"name", l.name}};
    const bool flat = s.kind == LightKind::kDisk || s.kind == LightKind::kRect;
    one["type"] = s.kind == LightKind::kSun            ? "directional"
                  : s.kind == LightKind::kSpot || flat ? "spot"
                                                       : "point";
    one["intensity"] = s.kind == LightKind::kSun ? l.illuminance : l.intensity;
    const Rgb color = l.color / std::max(1e-12, l.color.maxCoeff());
    one["color"] = {color[0], color[1], color[2]};
    if (s.kind == LightKind::kSpot) {
      const Cone cone = cone_of(l.beam);
      one["spot"] = {{"innerConeAngle", cone.inner}, {"outerConeAngle", cone.outer}};
      if (!cone.exact) {
        out.notes.push_back(
            l.name + ": a cone there cannot have both its beam and its field: the beam stays");
      }
    } else if (flat) {
      one["spot"] = {{"innerConeAngle", 0}, {"outerConeAngle", kPiD / 2}};
      out.notes.push_back(l.name + ": a " + std::string(kind_word(s.kind)) +
                          " becomes a spot without size: its shadows are hard there");
    } else if (s.kind != LightKind::kPoint && s.kind != LightKind::kSun) {
      out.notes.push_back(l.name + ": a " + std::string(kind_word(s.kind)) +
                          " becomes a point: its shadows are hard there");
    }
    one["extras"] = {{"kind", kind_word(s.kind)}, {"flux_lm", l.flux}};
    if (l.luminance > 0) {
      one["extras"]["luminance_cd_m2"] = l.luminance;
    }
    if (l.kelvin) {
      one["extras"]["cct_k"] = *l.kelvin;
    }
    const Vec3d axis = turn * l.light->axis;
    const Eigen::Quaterniond q = rotation_between(-Vec3d::UnitZ(), axis.normalized());
    roots.push_back(nodes.size());
    nodes.push_back({{"name", l.name},
                     {"translation", triple(turn * l.at)},
                     {"rotation", {q.x(), q.y(), q.z(), q.w()}},
                     {"extensions", {{"KHR_lights_punctual", {{"light", punctual.size()}}}}}});
    punctual.push_back(std::move(one));
  }
  Json j = {{"asset", {{"version", "2.0"}, {"generator", "Jovilux"}}}, {"scene", 0}};
  j["scenes"] = Json::array({Json{{"nodes", roots}}});
  j["nodes"] = nodes;
  if (!punctual.empty()) {
    j["extensionsUsed"] = {"KHR_lights_punctual"};
    j["extensions"] = {{"KHR_lights_punctual", {{"lights", punctual}}}};
  }
  out.text = json_text(j);
  return out;
}

namespace {

// The intensity along a unit direction [cd], by the illuminance far away.
double far_intensity(const Emitter& e, const Vec3& direction) {
  constexpr std::uint32_t kPoints = 256;
  constexpr float kFarTimes = 2000, kLeastReach = 0.01f;  // of its size; [m]
  const float distance = kFarTimes * std::max(reach_of(e), kLeastReach);
  const Vec3 p = e.center + distance * direction;
  const std::uint32_t points = e.is_zero_size() && e.kind != LightKind::kTube ? 1 : kPoints;
  double sum = 0;
  for (std::uint32_t i = 0; i < points; ++i) {
    const LightSample s = sample_toward(e, p, Sampler(1, 5, i).pair(0));
    if (s.weight > 0) {
      sum += static_cast<double>(s.weight) *
             (s.colored ? static_cast<double>(luminance_of(s.rgb)) : 1.0);
    }
  }
  return sum / points * static_cast<double>(distance) * static_cast<double>(distance);
}

// Angles from the axis: evenly, and closer where a spot's beam falls.
std::vector<double> vertical_angles(const Emitter& e) {
  constexpr double kStep = 2.5;
  constexpr int kInBeam = 60;
  std::vector<double> out;
  for (int i = 0; i <= 72; ++i) {
    out.push_back(i * kStep * kPiD / 180);
  }
  if (e.kind == LightKind::kSpot) {
    const double end = std::min(kPiD / 2, 1.5 * std::acos(static_cast<double>(e.cos_field)));
    for (int i = 1; i < kInBeam; ++i) {
      out.push_back(end * i / kInBeam);
    }
  }
  std::sort(out.begin(), out.end());
  constexpr double kSame = 1e-4;
  out.erase(std::unique(out.begin(), out.end(), [](double a, double b) { return b - a < kSame; }),
            out.end());
  return out;
}

}  // namespace

std::optional<std::string> light_as_lm63(const ExportedLight& light, const Emitter& e) {
  if (e.is_distant() || e.endless || !e.shines()) {
    return std::nullopt;
  }
  constexpr int kPlanes = 24;
  const bool round =
      (e.kind == LightKind::kPoint || e.kind == LightKind::kSphere || e.kind == LightKind::kDisk ||
       e.kind == LightKind::kSpot) &&
      (e.detail == nullptr || (!e.detail->profile && !e.detail->gobo && !e.detail->doors));
  PhotometricFile file;
  file.format = "LM-63-2019";
  file.luminaire = light.name;
  file.test = "by Jovilux";
  file.grid.symmetry = round ? PhotometricSymmetry::kRotational : PhotometricSymmetry::kNone;
  file.grid.ver_rad = vertical_angles(e);
  for (int h = 0; h <= (round ? 0 : kPlanes); ++h) {
    file.grid.hor_rad.push_back(2 * kPiD * h / kPlanes);
  }
  for (const double c : file.grid.hor_rad) {
    for (const double gamma : file.grid.ver_rad) {
      const Vec3d local(
          std::sin(gamma) * std::cos(c), std::sin(gamma) * std::sin(c), std::cos(gamma));
      file.grid.candela.push_back(far_intensity(e, e.frame.to_world(local.cast<float>())));
    }
  }
  const SourceShape& s = light.light->shape;
  file.width = s.kind == LightKind::kRect ? s.width : -2 * s.radius;
  file.length = s.kind == LightKind::kRect   ? s.height
                : s.kind == LightKind::kTube ? s.length
                                             : -2 * s.radius;
  return lm63_text(file);
}

LightFile lights_as_usda(const std::vector<ExportedLight>& lights,
                         const Vec3d& up,
                         const std::string& folder) {
  LightFile out;
  std::set<std::string> taken;
  const bool y_up = std::abs(up.y()) > 0.5;
  out.text = fmt::format(
      "#usda 1.0\n(\n    defaultPrim = \"Lights\"\n    metersPerUnit = 1\n    upAxis = \"{}\"\n    "
      "doc = \"Lights in cd/m2, made by Jovilux\"\n)\n\ndef Xform \"Lights\"\n{{",
      y_up ? "Y" : "Z");
  for (const ExportedLight& l : lights) {
    note_losses(l, out.notes);
    out.text += usd_light(l, folder, taken, out.notes);
  }
  out.text += "}\n";
  return out;
}

}  // namespace jovilux
