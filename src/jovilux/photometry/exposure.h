#pragma once

#include "jovilux/units/quantity.h"

namespace jovilux {

// Exposure values at ISO 100 (ISO 2720): reflected-light constant 12.5, incident-light constant
// 250.

/// EV100 of a luminance [cd/m2] > 0: log2(L 100 / 12.5).
double ev100(Nits luminance);
/// EV100 of an illuminance [lx] > 0 on an incident meter: log2(E 100 / 250).
double ev100(Lux illuminance);
/// The inverse of ev100(Nits).
Nits luminance_at(double ev);

/// A camera's settings: f-number, shutter time, speed.
struct CameraExposure {
  double stop = 4;
  Seconds shutter{1.0 / 60};
  double iso = 100;
};
/// EV100 that the settings expose for: log2(N^2 / t) - log2(ISO / 100).
double ev100(const CameraExposure& camera);

}  // namespace jovilux
