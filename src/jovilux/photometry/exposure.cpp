#include "jovilux/photometry/exposure.h"

#include <cmath>

namespace jovilux {

double ev100(Nits luminance) { return std::log2(luminance.value * 100 / 12.5); }
double ev100(Lux illuminance) { return std::log2(illuminance.value * 100 / 250); }
Nits luminance_at(double ev) { return {std::exp2(ev) * 12.5 / 100}; }
double ev100(const CameraExposure& camera) {
  return std::log2(camera.stop * camera.stop / camera.shutter.value) - std::log2(camera.iso / 100);
}

}  // namespace jovilux
