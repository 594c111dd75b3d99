#pragma once

#include "jovilux/photometry/sources.h"
#include "jovilux/units/quantity.h"

#include <memory>
#include <optional>
#include <string_view>

namespace jovilux {

/// A diffusion sheet in a beam.
struct Diffusion {
  /// Full angle to half of the peak of what the sheet makes of a parallel beam [rad].
  Radians spread;
  double transmittance = 1;  ///< share of the flux that passes, 0..1
};

/// The narrowest and the widest sheet.
inline constexpr Radians kLeastDiffusion{5 * kPiD / 180}, kMostDiffusion{120 * kPiD / 180};

/// "diffusion 20 deg", or with its loss "diffusion 20 deg 70 %". Nothing where the text is no such
/// sheet or its numbers are out of range.
std::optional<Diffusion> diffusion_gel(std::string_view text);

/// Two sheets, one behind the other: variances of small angles add.
Radians spread_of_both(Radians first, Radians second);

/// The intensity distribution of a source behind a sheet: its own, convolved on the sphere with a
/// von Mises-Fisher lobe
///
///     k(w, w') = kappa / (4 pi sinh kappa) exp(kappa w . w')
///     kappa = ln 2 / (1 - cos(spread / 2))
///
/// which keeps the flux. What shines to the front alone stays in front: the lobe's share behind the
/// sheet's plane is cut, and source_levels() gives the rest the same flux. Of a spot, of a source
/// with a profile, of a rect or disk with a spread; null for others, which are even already. In
/// units of the source's own peak. `spread` in [kLeastDiffusion, kMostDiffusion].
/// Source of the lobe: N. I. Fisher, T. Lewis, B. J. J. Embleton, "Statistical Analysis of
/// Spherical Data", 1987, 4.4.3.
std::shared_ptr<const LuminousDistribution> diffused(const SourceShape& source, Radians spread);

}  // namespace jovilux
