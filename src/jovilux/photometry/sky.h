#pragma once

#include "jovilux/base/vec.h"
#include "jovilux/units/quantity.h"

namespace jovilux {

/// How a sky's luminance is spread: the same everywhere; CIE's traditional overcast sky L = Lz (1 +
/// 2 sin(elevation)) / 3;
/// or one of the CIE standard general skies.
enum class SkyModel { kUniform, kOvercast, kGeneral };

/// A sky's shape. `general` is 1..15 (12: clear, 16 luminance gradations and solar scatterings of
/// ISO 15469).
struct SkyShape {
  SkyModel model = SkyModel::kUniform;
  int general = 0;  ///< with kGeneral
  /// With kGeneral, unit, z is up; needed where the type knows a sun.
  Vec3d towards_sun = Vec3d::UnitZ();
};

/// Whether a general sky's luminance depends on where the sun is.
bool knows_sun(int general);

/// Luminance over that of the zenith in the unit direction `d` (z up); 0 below the horizon.
///
///     L / Lz = f(chi) phi(Z) / (f(Zs) phi(0)),   phi(Z) = 1 + a exp(b / cos Z),
///     f(chi) = 1 + c (exp(d chi) - exp(d pi / 2)) + e cos(chi)^2
///
/// chi: angle to the sun, Z: from the zenith, Zs: of the sun. Source: ISO 15469 / CIE S 011.
double relative_sky_luminance(const SkyShape& sky, const Vec3d& d);

/// Illuminance on open level ground per zenith luminance [sr]: pi, 7 pi / 9 under the traditional
/// overcast sky, by quadrature (1e-7) under a general one.
double sky_illuminance_per_luminance(const SkyShape& sky);

}  // namespace jovilux
