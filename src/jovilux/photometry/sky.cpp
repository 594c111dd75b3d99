#include "jovilux/photometry/sky.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/quadrature.h"

#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

struct SkyType {
  double a, b, c, d, e;
};
// ISO 15469:2004, table 1.
constexpr SkyType kTypes[15] = {{4.0, -0.70, 0, -1.0, 0.00},
                                {4.0, -0.70, 2, -1.5, 0.15},
                                {1.1, -0.80, 0, -1.0, 0.00},
                                {1.1, -0.80, 2, -1.5, 0.15},
                                {0.0, -1.00, 0, -1.0, 0.00},
                                {0.0, -1.00, 2, -1.5, 0.15},
                                {0.0, -1.00, 5, -2.5, 0.30},
                                {0.0, -1.00, 10, -3.0, 0.45},
                                {-1.0, -0.55, 2, -1.5, 0.15},
                                {-1.0, -0.55, 5, -2.5, 0.30},
                                {-1.0, -0.55, 10, -3.0, 0.45},
                                {-1.0, -0.32, 10, -3.0, 0.45},
                                {-1.0, -0.32, 16, -3.0, 0.30},
                                {-1.0, -0.15, 16, -3.0, 0.30},
                                {-1.0, -0.15, 24, -2.8, 0.15}};

// CIE standard general sky (ISO 15469:2004): gradation from zenith to horizon, 1 at the horizon
// itself, where exp(b / cos) has gone to 0.
double gradation(const SkyType& t, double cos_zenith) {
  return cos_zenith <= 0 ? 1 : 1 + t.a * std::exp(t.b / cos_zenith);
}

// The indicatrix: how luminance falls with the angle to the sun. Both are unit vectors; the angle
// is taken by its sine as well, which keeps the digits of small ones.
double indicatrix(const SkyType& t, const Vec3d& d, const Vec3d& sun) {
  const double c = d.dot(sun);
  return t.c == 0 ? 1 + t.e * c * c
                  : 1 +
                        t.c * (std::exp(t.d * std::atan2(d.cross(sun).norm(), c)) -
                               std::exp(t.d * kPiD / 2)) +
                        t.e * c * c;
}

const SkyType& type_of(int general) {
  JOVILUX_ASSERT(general >= 1 && general <= 15);
  return kTypes[general - 1];
}

}  // namespace

bool knows_sun(int general) { return type_of(general).c > 0; }

double relative_sky_luminance(const SkyShape& sky, const Vec3d& d) {
  if (d.z() <= 0) {
    return 0;
  }
  switch (sky.model) {
    case SkyModel::kUniform:
      return 1;
    case SkyModel::kOvercast:
      return (1 + 2 * d.z()) / 3;
    case SkyModel::kGeneral:
      break;
  }
  const SkyType& t = type_of(sky.general);
  return std::max(0.0,
                  indicatrix(t, d, sky.towards_sun) * gradation(t, d.z()) /
                      (indicatrix(t, Vec3d::UnitZ(), sky.towards_sun) * gradation(t, 1)));
}

double sky_illuminance_per_luminance(const SkyShape& sky) {
  switch (sky.model) {
    case SkyModel::kUniform:
      return kPiD;
    case SkyModel::kOvercast:
      return 7 * kPiD / 9;
    case SkyModel::kGeneral:
      break;
  }
  // The luminance is symmetric about the sun's azimuth, and has its only kink at the sun: half a
  // turn from there, and zenith angles split at the sun's, keep the quadrature smooth.
  const double sun_azimuth = std::atan2(sky.towards_sun.y(), sky.towards_sun.x());
  const double sun_zenith = std::acos(std::clamp(sky.towards_sun.z(), -1.0, 1.0));
  const auto ring = [&](double zenith) {
    const double s = std::sin(zenith), c = std::cos(zenith);
    return s * c * 2 *
           integral(
               [&](double a) {
                 return relative_sky_luminance(
                     sky, {s * std::cos(sun_azimuth + a), s * std::sin(sun_azimuth + a), c});
               },
               0,
               kPiD,
               24);
  };
  const double split = std::clamp(sun_zenith, 0.01, kPiD / 2 - 0.01);
  return integral(ring, 0, split, 24) + integral(ring, split, kPiD / 2, 24);
}

}  // namespace jovilux
