#pragma once

#include "jovilux/judge/light_report.h"

#include <optional>
#include <string>
#include <vector>

namespace jovilux {

/// A light as other tools take it: in world space, as it shines (dimmed, behind its gels).
struct ExportedLight {
  const LightSpec* light = nullptr;
  std::string name;
  Vec3d at = Vec3d::Zero();
  Frame frame{
      Vec3::UnitX(), Vec3::UnitY(), Vec3::UnitZ()};  ///< z: the way it shines; tube: x along
  double flux = 0, intensity = 0, luminance = 0, illuminance = 0;  ///< lm, cd, cd/m2, lx; 0: none
  Rgb color = Rgb::Ones();       ///< that leaves it, linear Rec.709, of luminance 1
  std::optional<double> kelvin;  ///< where it is near the Planck locus
  bool plain_white = false;      ///< its color is its white alone: no gel, no tint
  SpotBeam beam;                 ///< of a spot, behind its diffusion sheets
};

std::vector<ExportedLight> exported_lights(const Rig& rig, const Scene& scene);

/// A file's text, and what of the lights it cannot say: a line each.
struct LightFile {
  std::string text;
  std::vector<std::string> notes;
};

/// A schedule: one row a light, its place, axis, size, levels and color; units in the headers.
LightFile lights_as_csv(const std::vector<ExportedLight>& lights);

/// glTF 2.0 with KHR_lights_punctual (Khronos, ratified 2018): candela for points and spots, lux
/// for suns, meters, y up. Lights of some size become points, or spots along their normal; skies
/// and domes have no counterpart and are left out.
LightFile lights_as_gltf(const std::vector<ExportedLight>& lights, const Vec3d& up);

/// UsdLux in USD's text format: sphere, disk, rect, cylinder, distant and dome lights whose
/// intensity is their luminance in cd/m2 or, normalized, their flux over pi times 1 m2 or their
/// lux;
/// points and spots as spheres that are treated as points. Files are named as seen from `folder`,
/// where the text is to stand.
LightFile lights_as_usda(const std::vector<ExportedLight>& lights,
                         const Vec3d& up,
                         const std::string& folder);

/// A light's luminous intensities over all directions from far away, as an LM-63 file: what leaves
/// it as it shines, behind its gels, mask and doors. In its own frame: vertical angles from the way
/// it shines, C = 0 along its width. Nothing for lights without a place, and endless tubes.
std::optional<std::string> light_as_lm63(const ExportedLight& light, const Emitter& emitter);

}  // namespace jovilux
