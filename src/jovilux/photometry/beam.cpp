#include "jovilux/photometry/beam.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/quadrature.h"
#include "jovilux/base/vec.h"

#include <cmath>

namespace jovilux {

SpotBeam spot_beam(Radians beam, Radians field) {
  JOVILUX_ASSERT(beam.value > 0 && field >= beam && field.value <= kPiD * (1 + 1e-12));
  SpotBeam out{beam.value / 2, field.value / 2, 0};
  // exp(-ln 2 (theta / half_beam)^n) is 1/2 at the beam's edge for any n; this n makes it 1/10 at
  // the edge of the field. A field as wide as the beam is a hard edge (exponent 0).
  if (out.half_field > out.half_beam * (1 + 1e-9)) {
    out.exponent =
        std::log(std::log(10.0) / std::log(2.0)) / std::log(out.half_field / out.half_beam);
  }
  return out;
}

double relative_intensity(const SpotBeam& beam, double theta) {
  if (beam.exponent == 0) {
    return theta <= beam.half_beam ? 1 : 0;
  }
  return std::exp(-std::log(2.0) * std::pow(theta / beam.half_beam, beam.exponent));
}

namespace {

double flux_within(const SpotBeam& beam, double widest) {
  const auto ring = [&](double theta) { return relative_intensity(beam, theta) * std::sin(theta); };
  // The first interval follows the beam's own width: a beam of a degree would fall between the
  // panels of a quadrature over the whole sphere.
  const double near = std::min(widest, 2 * beam.half_field);
  return 2 * kPiD *
         (integral(ring, 0, near, 128) + (near < widest ? integral(ring, near, widest, 128) : 0));
}

}  // namespace

double flux_per_candela(const SpotBeam& beam) {
  return beam.exponent == 0 ? 2 * kPiD * (1 - std::cos(beam.half_beam)) : flux_within(beam, kPiD);
}

double front_flux_per_candela(const SpotBeam& beam) {
  return beam.exponent == 0 ? flux_per_candela(beam) : flux_within(beam, kPiD / 2);
}

double relative_spread(double theta, double half) {
  if (theta >= half) {
    return 0;
  }
  const double t = theta / half;
  return 1 - t * t * (3 - 2 * t);
}

double projected_solid_angle_of_spread(double half) {
  if (half <= 0) {
    return kPiD;
  }
  return 2 * kPiD *
         integral([&](double t) { return relative_spread(t, half) * std::sin(t) * std::cos(t); },
                  0,
                  half,
                  16);
}

}  // namespace jovilux
