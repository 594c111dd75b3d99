#pragma once

#include <optional>
#include <string>
#include <vector>

#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

namespace jovilux {

/// One light as a meter and a spec sheet would describe it.
struct LightReport {
  std::string name;
  Form form = Form::kPoint;
  SourceLevels levels;               ///< of the bare source
  double dimmed = 1;                 ///< what the dimmer leaves; 0 when off
  double gel_transmittance = 1;      ///< luminous share that the gels let through
  std::optional<double> efficacy_lm_w;
  std::optional<double> cct_k;       ///< empty where the color is too far from the Planck locus
  double duv = 0;
  Xy xy;

  /// Where the light's axis meets the scene (without an axis: straight below), if it does.
  struct Subject {
    std::string object;
    double distance_m = 0;
    double illuminance_lx = 0;       ///< direct, on a surface facing the light, dimmed, by its law of falloff
    double falloff_factor = 1;       ///< against the inverse square
  };
  std::optional<Subject> subject;

  struct Cheat {
    std::string key, value, effect;
  };
  std::vector<Cheat> cheats;         ///< all departures from physics
};

std::vector<LightReport> light_reports(const Rig& rig, const Scene& scene);

/// The usual luminance of sources of a form, for messages: "an opal bulb 5e3 to 5e4 cd/m2, ...".
std::string usual_luminance(Form form);

}  // namespace jovilux
