#include "jovilux/judge/conversion.h"

#include "jovilux/photometry/exposure.h"

namespace jovilux {

ConversionOrFault convert_light(const SourceShape& shape,
                                const Output& output,
                                const std::vector<double>& distances,
                                double efficacy) {
  const LevelsOrFault levels = source_levels(shape, output);
  if (!levels.levels) {
    return {std::nullopt, levels.fault};
  }
  Conversion out;
  out.levels = *levels.levels;
  for (const double d : distances) {
    Conversion::At at{d, std::nullopt};
    const bool is_round = shape.kind == LightKind::kSphere || shape.kind == LightKind::kTube;
    if (shape.kind != LightKind::kObject && (!is_round || d > shape.radius)) {
      at.illuminance_lx = illuminance_on_axis(shape, out.levels, d).value;
    }
    out.illuminance.push_back(at);
  }
  const double lm_per_w = output.efficacy.value > 0 ? output.efficacy.value : efficacy;
  if (lm_per_w > 0 && out.levels.flux) {
    out.efficacy_lm_w = lm_per_w;
    out.power_w = out.levels.flux->value / lm_per_w;
  }
  if (!out.illuminance.empty() && out.illuminance[0].illuminance_lx.value_or(0) > 0) {
    out.ev100 = ev100(Lux{*out.illuminance[0].illuminance_lx});
  }
  if (out.levels.luminance && out.levels.luminance->value > 0) {
    out.ev100_surface = ev100(*out.levels.luminance);
  }
  return {out, ""};
}

}  // namespace jovilux
