#pragma once

#include "jovilux/color/chromaticity.h"

#include <Eigen/Core>

namespace jovilux {

/// CIE 1976 L* a* b*: L* in [0, 100] for colors not brighter than the white.
using Lab = Eigen::Vector3d;

/// L* a* b* of a color seen beside a white (both XYZ, white Y > 0). Source: CIE 15:2004, 8.2.1.
Lab lab(const Xyz& color, const Xyz& white);

/// The color difference CIEDE2000 with its parametric factors 1; symmetric, 0 for equal colors.
/// Source: CIE 142-2001;
/// G. Sharma, W. Wu, E. Dalal, "The CIEDE2000 Color-Difference Formula", Color Research and
/// Application 30(1), 2005.
double delta_e_2000(const Lab& a, const Lab& b);

}  // namespace jovilux
