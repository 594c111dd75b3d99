#include "jovilux/color/sources_by_name.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/text.h"
#include "jovilux/color/nodes.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cctype>
#include <cmath>

namespace jovilux {
namespace {

// `width_nm` is the full width at half maximum.
NmTable gaussian(double center_nm, double width_nm) {
  NmTable out;
  for (std::size_t i = 0; i < kNmCount; ++i) {
    const double x = (kFirstNm + static_cast<double>(i) - center_nm) / width_nm;
    out[i] = std::exp(-4 * std::log(2.0) * x * x);
  }
  return out;
}

// Sums of a spectrum with the color-matching functions, not normalized.
Eigen::Vector3d visible_sums(const NmTable& s) {
  Eigen::Vector3d out = Eigen::Vector3d::Zero();
  for (std::size_t i = 0; i < kNmCount; ++i) {
    for (int c = 0; c < 3; ++c) {
      out[c] += s[i] * color_matching(c)[i];
    }
  }
  return out;
}

constexpr std::string_view kCieNames[] = {"a",
                                          "c",
                                          "d50",
                                          "d55",
                                          "d65",
                                          "f1",
                                          "f2",
                                          "f3",
                                          "f4",
                                          "f5",
                                          "f6",
                                          "f7",
                                          "f8",
                                          "f9",
                                          "f10",
                                          "f11",
                                          "f12"};

}  // namespace

// Three bands of a white LED: blue chip, green and red phosphor, of widths typical for their kind.
// Three weights are found that give the black body's chromaticity exactly.
NmTable led_mix(Kelvin t) {
  JOVILUX_ASSERT(t.value >= 2200 && t.value <= 6500);
  const NmTable parts[3] = {gaussian(450, 20), gaussian(545, 110), gaussian(620, 80)};
  Eigen::Matrix3d sums;
  for (int k = 0; k < 3; ++k) {
    sums.col(k) = visible_sums(parts[k]);
  }
  const Eigen::Vector3d weights = sums.inverse() * visible_sums(planck(t)).normalized();
  JOVILUX_ASSERT(weights.minCoeff() >= 0);
  NmTable out;
  for (std::size_t i = 0; i < kNmCount; ++i) {
    out[i] = weights[0] * parts[0][i] + weights[1] * parts[1][i] + weights[2] * parts[2][i];
  }
  return out;
}

std::optional<NmTable> spectrum_named(std::string_view name) {
  if (name.starts_with("cie-")) {
    std::string upper(name.substr(4));
    if (std::find(std::begin(kCieNames), std::end(kCieNames), upper) == std::end(kCieNames)) {
      return std::nullopt;
    }
    upper[0] = static_cast<char>(std::toupper(upper[0]));
    return cie_illuminant(upper);
  }
  if (name.starts_with("led-")) {
    const auto t = parse_number(name.substr(4));
    return t && *t >= 2200 && *t <= 6500 ? std::optional(led_mix({*t})) : std::nullopt;
  }
  return std::nullopt;
}

std::vector<std::string> spectrum_names() {
  std::vector<std::string> out;
  for (const std::string_view n : kCieNames) {
    out.push_back("cie-" + std::string(n));
  }
  for (const char* n : {"led-2700", "led-3000", "led-4000", "led-5000", "led-6500"}) {
    out.emplace_back(n);
  }
  return out;
}

// Nodes are joined by straight lines and clamped: what a filter passes is between nothing and all.
NmTable spectrum_over_nm(const Rgb& rgb) {
  const Spectrum at_nodes = spectrum_from_rgb(rgb);
  NmTable out;
  for (std::size_t i = 0; i < kNmCount; ++i) {
    const double nm = kFirstNm + static_cast<double>(i);
    int k = 0;
    while (k < kNodes - 2 && nm > kNodeNm[static_cast<std::size_t>(k) + 1]) {
      ++k;
    }
    const double lo = kNodeNm[static_cast<std::size_t>(k)],
                 hi = kNodeNm[static_cast<std::size_t>(k) + 1];
    const double t = std::clamp((nm - lo) / (hi - lo), 0.0, 1.0);
    out[i] = std::clamp((1 - t) * at_nodes[k] + t * at_nodes[k + 1], 0.0, 1.0);
  }
  return out;
}

NmTable filtered(const NmTable& source, const NmTable& transmittance) {
  NmTable out;
  for (std::size_t i = 0; i < kNmCount; ++i) {
    out[i] = source[i] * transmittance[i];
  }
  return out;
}

double luminous_transmittance(const NmTable& source, const NmTable& transmittance) {
  const double whole = visible_sums(source)[1];
  JOVILUX_ASSERT(whole > 0);
  return visible_sums(filtered(source, transmittance))[1] / whole;
}

Kelvin filament_temperature(Kelvin full, Kelvin warmest, double level) {
  constexpr double kExponent = 0.42 / 3.4;
  const double t = level > 0 ? full.value * std::pow(level, kExponent) : 0;
  return {std::max(std::min(full.value, warmest.value), t)};
}

}  // namespace jovilux
