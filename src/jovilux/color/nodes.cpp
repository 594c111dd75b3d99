#include "jovilux/color/nodes.h"

#include "jovilux/base/assert.h"

#include <algorithm>

namespace jovilux {
namespace {

// Quadrature weights of the twelve wavelengths that paths carry, and what each Rec.709 primary
// reflects at them; both tables are computed once and stored.
constexpr double kWeights[] = {
// wavelength and F_k in rows, 380 .. 780 nm
#include "spectral-weights-12.inc"
};
constexpr double kBasis[] = {
// node wavelength, r, g, b
#include "spectral-basis-12.inc"
};
static_assert(std::size(kWeights) == 401 * (kNodes + 1));
static_assert(std::size(kBasis) == kNodes * 4);

// F_k at a wavelength, constant beyond the ends, where the eye sees next to nothing.
double weight(int k, int nm) {
  const int row = std::clamp(nm, 380, 780) - 380;
  return kWeights[row * (kNodes + 1) + 1 + k];
}

}  // namespace

LightTable light_table(const NmTable& source) {
  Eigen::Array<double, 3, kNodes> table = Eigen::Array<double, 3, kNodes>::Zero();
  double y = 0;
  for (std::size_t i = 0; i < kNmCount; ++i) {
    const int nm = kFirstNm + static_cast<int>(i);
    double sum = 0;  // the printed weights sum to 1 but for their last digit
    for (int k = 0; k < kNodes; ++k) {
      sum += weight(k, nm);
    }
    for (int c = 0; c < 3; ++c) {
      const double s = source[i] * color_matching(c)[i] / sum;
      for (int k = 0; k < kNodes; ++k) {
        table(c, k) += s * weight(k, nm);
      }
    }
    y += source[i] * color_matching(1)[i];
  }
  JOVILUX_ASSERT(y > 0);
  return (table / y).cast<float>();
}

LightTable tinted(const LightTable& table, const Rgb& tint) {
  // A tint changes a light's color and not its luminance: its output is stated in photometric
  // units.
  const Spectrum t = spectrum_from_rgb(tint);
  LightTable out = table.rowwise() * t.transpose();
  const float y = out.row(1).sum();
  JOVILUX_ASSERT(y > 0);
  return out / y;
}

LightTable tint_channel(const LightTable& table, int channel) {
  const Rgb unit = Rgb::Unit(channel);
  return table.rowwise() * spectrum_from_rgb(unit).transpose();
}

Spectrum spectrum_from_rgb(const Rgb& rgb) {
  Spectrum out;
  for (int k = 0; k < kNodes; ++k) {
    out[k] = static_cast<float>(rgb[0] * kBasis[k * 4 + 1] + rgb[1] * kBasis[k * 4 + 2] +
                                rgb[2] * kBasis[k * 4 + 3]);
  }
  return out;
}

Spectrum spectrum_from_rgb(const Eigen::Array3f& rgb) {
  static const std::array<Spectrum, 3> kColumns = [] {
    std::array<Spectrum, 3> out;
    for (int c = 0; c < 3; ++c) {
      out[static_cast<std::size_t>(c)] = spectrum_from_rgb(Rgb(Rgb::Unit(c)));
    }
    return out;
  }();
  return rgb[0] * kColumns[0] + rgb[1] * kColumns[1] + rgb[2] * kColumns[2];
}

// A node stands for a band of wavelengths: 1, 2, 1 over 5 nm steps keeps narrow lines from being
// hit or missed by chance.
Spectrum spectrum_from_table(const NmTable& reflectance) {
  Spectrum out;
  for (int k = 0; k < kNodes; ++k) {
    const auto i = static_cast<std::size_t>(kNodeNm[static_cast<std::size_t>(k)] - kFirstNm);
    out[k] = static_cast<float>((reflectance[i - 5] + 2 * reflectance[i] + reflectance[i + 5]) / 4);
  }
  return out;
}

Rgb rgb_under_d65(const Spectrum& spectrum) {
  static const LightTable kD65 = light_table(*cie_illuminant("D65"));
  return rec709_from_xyz() * tristimulus(kD65, spectrum, 1.0f).matrix().cast<double>();
}

}  // namespace jovilux
