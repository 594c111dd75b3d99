#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/color/rgb.h"
#include "jovilux/rig/rig.h"

#include <optional>
#include <string>

namespace jovilux {

/// A white, a spectrum, a gel or a color in the figures of colorimetry.
struct ColorReport {
  std::string spec;
  /// A color is a filter: what it makes of the illuminant.
  enum class Kind { kSource, kFilter } kind = Kind::kSource;
  Xy xy;
  double u_prime = 0, v_prime = 0;      ///< CIE 1976
  std::optional<double> cct_k, duv;     ///< empty where |Duv| > 0.05
  std::optional<double> ra;             ///< of a source near the Planck locus
  std::optional<double> transmittance;  ///< luminous, of a filter under the illuminant
  /// A source: at luminance 1; a filter: under the illuminant, adapted to D65.
  Rgb linear_rgb = Rgb::Zero();
  std::string srgb;  ///< "#rrggbb"; a source scaled to its largest channel
};

/// What SPEC stands for: "2700 K", "D65", "daylight 5600 K", "cie-f11", "led-3000", a .csv or .spdx
/// file, "#ffb070", or the name of a gel of `rig` (may be null). `illuminant` is what filters are
/// looked at under.
Result<ColorReport> color_report(const std::string& spec,
                                 const Rig* rig,
                                 const NmTable& illuminant);

/// The source that SPEC names; a problem for a color or gel.
Result<NmTable> source_of(const std::string& spec);

}  // namespace jovilux
