#pragma once

#include "jovilux/units/quantity.h"

namespace jovilux {

/// The intensity of a spot over the angle theta to its axis, relative to its peak:
///
///     exp(-ln 2 (theta / half_beam)^exponent),  half_beam = half of the full angle to 50 %,
///     exponent such that it is 10 % at half of the field angle;
///     field = beam: 1 inside, 0 outside.
///
/// Source: IES LS-1 for beam and field angle.
struct SpotBeam {
  double half_beam = 0;   ///< rad, in (0, pi/2]
  double half_field = 0;  ///< rad, in [half_beam, pi/2]
  double exponent = 0;    ///< 0: hard edge
};

/// `beam` <= `field`, both full angles in (0, pi].
SpotBeam spot_beam(Radians beam, Radians field);
/// Relative intensity in [0, 1]; theta in [0, pi].
double relative_intensity(const SpotBeam& beam, double theta);
/// Flux of a spot of 1 cd peak intensity, over the whole sphere [lm/cd]; accurate to 1e-8.
double flux_per_candela(const SpotBeam& beam);
/// The same over the hemisphere in front, which is what leaves a lens [lm/cd].
double front_flux_per_candela(const SpotBeam& beam);

/// Luminance of a surface with `spread` over the angle theta to its normal, relative to that along
/// the normal:
/// 1 - smoothstep(theta / half), 0 from half on. half in (0, pi/2].
double relative_spread(double theta, double half);
/// Integral of relative_spread cos(theta) over the hemisphere [sr]: exitance / luminance. pi for an
/// even (Lambert) surface, which half <= 0 stands for.
double projected_solid_angle_of_spread(double half);

}  // namespace jovilux
