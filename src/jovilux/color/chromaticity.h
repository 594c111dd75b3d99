#pragma once

#include "jovilux/color/spectra.h"
#include "jovilux/units/quantity.h"

#include <Eigen/Core>

namespace jovilux {

using Xyz = Eigen::Vector3d;

/// CIE 1931 chromaticity.
struct Xy {
  double x = 0, y = 0;
};
/// CIE 1960 u, v; v' = 1.5 v gives CIE 1976.
struct Uv {
  double u = 0, v = 0;
};

/// Tristimulus values of a source, Y = 1. The spectrum must have some visible power.
Xyz tristimulus(const NmTable& source);
/// Tristimulus values of a surface of reflectance r under a source, Y = 1 for r = 1.
Xyz tristimulus(const NmTable& source, const NmTable& reflectance);

/// X + Y + Z must not be 0.
Xy chromaticity(const Xyz& xyz);
Uv uv_1960(const Xyz& xyz);
/// Y = 1. y must not be 0.
Xyz from_xy(Xy xy);

/// Correlated color temperature and the signed distance to the Planck locus in u, v (1960),
/// positive above it.
struct Cct {
  Kelvin cct;
  double duv = 0;
};
/// The nearest point of the Planck locus between 1000 and 100000 K. Accuracy 0.01 % of the
/// temperature.
/// Has no meaning where |duv| > 0.05 (CIE 15). Source: Y. Ohno, Leukos 10(1), 2014, by direct
/// search.
Cct correlated_color_temperature(const Xyz& xyz);

/// CIE general color rendering index Ra of a source (CIE 13.3-1995), from 5 nm sums.
double color_rendering_index(const NmTable& source);

/// Luminous efficacy of a black body's whole radiation, lm/W: Km = 683.002 lm/W over sigma T^4.
LumensPerWatt black_body_efficacy(Kelvin t);

}  // namespace jovilux
