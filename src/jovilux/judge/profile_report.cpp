#include "jovilux/judge/profile_report.h"

#include "jovilux/base/text.h"
#include "jovilux/base/vec.h"
#include "jovilux/units/text.h"

#include <algorithm>
#include <cmath>
#include <sstream>

#include <fmt/format.h>

namespace jovilux {

namespace {}

Result<ProfileReport> profile_report(const std::string& file) {
  auto loaded = load_photometric(file);
  if (!loaded) {
    return loaded.problems();
  }
  LuminousDistribution d(loaded->grid);
  ProfileReport out{file,
                    *loaded,
                    d,
                    d.flux(),
                    d.flux_in_front(),
                    d.peak(),
                    d.on_axis(),
                    {0, 0},
                    {0, 0},
                    loaded.problems()};
  for (const int plane : {0, 1}) {
    out.beam_deg[plane] = d.full_angle(plane * kPiD / 2, 0.5) / kDegree;
    out.field_deg[plane] = d.full_angle(plane * kPiD / 2, 0.1) / kDegree;
  }
  return {std::move(out), loaded.problems()};
}

PhotometricFile designed_profile(const SpotBeam& beam, double flux) {
  PhotometricFile out;
  out.format = "LM-63-2019";
  out.maker = "Jovilux";
  out.luminaire = fmt::format("beam {} deg, field {} deg",
                              short_number(2 * beam.half_beam / kDegree),
                              short_number(2 * beam.half_field / kDegree));
  out.test = "computed from beam and field angle";
  CandelaGrid& g = out.grid;
  g.hor_rad = {0};
  const double step = std::min(kDegree, 2 * beam.half_beam / 40);
  // Fine steps over the beam and its tail, then coarser ones.
  std::vector<double> angles;
  const double fine = std::min(kPiD / 2, 3 * beam.half_field);
  for (int i = 0; i * step < fine - 1e-9; ++i) {
    angles.push_back(i * step);
  }
  if (beam.exponent == 0) {  // a hard edge falls between two angles close together
    const double edge = beam.half_beam;
    angles.erase(std::remove_if(angles.begin(),
                                angles.end(),
                                [&](double a) { return std::abs(a - edge) < step * 0.51; }),
                 angles.end());
    angles.push_back(edge * (1 - 1e-4));
    angles.push_back(std::min(edge * (1 + 1e-4), kPiD / 2));
    std::sort(angles.begin(), angles.end());
  }
  for (double a = std::ceil(fine / kDegree) * kDegree; a < kPiD / 2 - 1e-9; a += kDegree) {
    if (a > angles.back() + 1e-4) {
      angles.push_back(a);
    }
  }
  if (angles.back() < kPiD / 2 - 1e-9) {
    angles.push_back(kPiD / 2);
  }
  g.ver_rad = angles;
  for (const double a : angles) {
    g.candela.push_back(relative_intensity(beam, a));
  }
  const double scale = flux / LuminousDistribution(g).flux();
  for (double& v : g.candela) {
    v *= scale;
  }
  return out;
}

DesignOrFault parse_design(const std::string& text) {
  double beam = 0, field = 0, flux = 0;
  std::istringstream words(text);
  for (std::string word; words >> word;) {
    const auto equals = word.find('=');
    const std::string key = word.substr(0, equals),
                      value = equals == std::string::npos ? "" : word.substr(equals + 1);
    const bool is_flux = key == "flux";
    double* to = key == "beam" ? &beam : key == "field" ? &field : is_flux ? &flux : nullptr;
    if (to == nullptr) {
      const std::string hint = did_you_mean(key, {"beam", "field", "flux"});
      return {std::nullopt,
              fmt::format("found \"{}\"; expected beam=ANGLE, field=ANGLE and flux=LUMENS{}",
                          printable(word),
                          hint.empty() ? "" : "; " + hint)};
    }
    const auto amount = parse_amount(value);
    const auto* a = std::get_if<Amount>(&amount);
    if (a == nullptr || a->dimension != (is_flux ? Dimension::kFlux : Dimension::kAngle) ||
        !(a->value > 0)) {
      return {std::nullopt,
              fmt::format("{}: found \"{}\"; expected {} above 0",
                          key,
                          printable(value),
                          expected_units(is_flux ? Dimension::kFlux : Dimension::kAngle))};
    }
    *to = a->value;
  }
  if (!(beam > 0) || !(flux > 0)) {
    return {std::nullopt,
            fmt::format("{} is missing; write \"beam=24deg field=38deg flux=1200lm\"",
                        beam > 0 ? "flux" : "beam")};
  }
  field = field > 0 ? field : beam;
  if (beam < 0.1 * kDegree || field > kPiD * (1 + 1e-12) || field < beam) {
    return {
        std::nullopt,
        "beam and field are full angles from 0.1 to 180 deg, the field not narrower than the beam"};
  }
  return {designed_profile(spot_beam({beam}, {field}), flux), ""};
}

}  // namespace jovilux
