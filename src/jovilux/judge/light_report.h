#pragma once

#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

#include <optional>
#include <string>
#include <vector>

namespace jovilux {

/// One light as a meter and a spec sheet would describe it.
struct LightReport {
  std::string name;
  LightKind kind = LightKind::kPoint;
  SourceLevels levels;           ///< of the bare source; behind diffusion sheets but for their loss
  double dimmed = 1;             ///< what the dimmer leaves; 0 when off
  double gel_transmittance = 1;  ///< luminous share that the gels let through
  double gobo_transmittance = 1;   ///< share of the flux that passes the gobo
  double doors_transmittance = 1;  ///< of that, the share that passes its barn doors
  double camera_fade = 1;          ///< what fade_with_camera leaves
  /// Behind diffusion sheets: the full angles to 50 and to 10 % of the peak [rad].
  struct Beam {
    double beam = 0, field = 0;
  };
  std::optional<Beam> diffused;
  std::optional<double> efficacy_lm_w;
  std::optional<double> cct_k;  ///< empty where the color is too far from the Planck locus
  double duv = 0;
  Xy xy;
  /// Of a sun: where it stands [rad], azimuth from north through east.
  struct Stand {
    double elevation = 0, azimuth = 0;
  };
  std::optional<Stand> stand;

  /// Where the light's axis meets an object that it lights (without an axis: straight below), if it
  /// does.
  struct Subject {
    std::string object;
    double distance_m = 0;
    /// Direct, on a surface facing the light, dimmed, by its law of falloff.
    double illuminance_lx = 0;
    double falloff_factor = 1;  ///< against the inverse square
  };
  std::optional<Subject> subject;

  struct Cheat {
    std::string key, value, effect;
  };
  std::vector<Cheat> cheats;  ///< all departures from physics
};

std::vector<LightReport> light_reports(const Rig& rig, const Scene& scene);

/// What a light could be, by its kind, size and white: the luminance that such sources have
/// [cd/m2].
struct SourceKind {
  std::string_view name;  ///< "opal bulbs"
  double lo = 0, hi = 0;  ///< usual
  double highest = 0;     ///< nothing of this kind is brighter
};
/// Nothing for lights without a surface.
std::optional<SourceKind> kind_of(const LightSpec& light, const SourceShape& shape);

/// Direct illuminance of a light at p on a surface with unit normal n, nothing in its way, by
/// points of a low-discrepancy sequence [lx]: dimmed, behind its gels and gobo, by its law of
/// falloff.
double direct_illuminance(const Emitter& emitter,
                          const Vec3& p,
                          const Vec3& n,
                          std::uint32_t points = 4096);

}  // namespace jovilux
