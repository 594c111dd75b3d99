#pragma once

#include "jovilux/color/rgb.h"
#include "jovilux/color/spectra.h"

#include <Eigen/Core>
#include <array>
#include <cstring>

namespace jovilux {

/// How many wavelengths a path carries.
inline constexpr int kNodes = 12;
inline constexpr std::array<double, kNodes> kNodeNm = {
    425, 445, 465, 490, 510, 525, 545, 570, 595, 620, 640, 675};

/// Reflectance, transmittance or throughput at the spectral nodes.
using Spectrum = Eigen::Array<float, kNodes, 1>;

/// Whether a throughput lets anything pass; true for one that is not finite, so that it is counted.
/// Asked several times a scattering: four numbers at once, where Eigen's largest one of twelve goes
/// through memory.
inline bool any_passes(const Spectrum& throughput) {
  using Floats [[gnu::vector_size(16)]] = float;
  static_assert(3 * sizeof(Floats) == sizeof(Spectrum));
  std::array<Floats, 3> t;
  std::memcpy(t.data(), throughput.data(), sizeof(t));
  const auto some = ~(t[0] <= 0) | ~(t[1] <= 0) | ~(t[2] <= 0);
  return (some[0] | some[1] | some[2] | some[3]) != 0;
}

/// What turns throughput into color for one light: XYZ_c = L_v * sum over k of table(c, k) * T[k].
///
/// A light of luminance L_v seen through throughput T adds XYZ; the Y row sums to 1, so T = 1 gives
/// exactly the source's own white. Entries may be slightly negative. Row by row, so that a product
/// with a throughput reads both in order.
using LightTable = Eigen::Array<float, 3, kNodes, Eigen::RowMajor>;

/// E[c][k] = sum S cmf_c F_k / sum S y in 1 nm steps (docs/physics.md). `source` holds its gels
/// already.
LightTable light_table(const NmTable& source);

/// The table of a light whose color is multiplied by a tint in linear RGB, its luminance kept (each
/// value >= 0, at least one above 0).
LightTable tinted(const LightTable& table, const Rgb& tint);

/// The part of a tint that one of its channels makes: tinted(table, rgb) is the sum of rgb[c]
/// tint_channel(table, c), over the sum's luminance.
LightTable tint_channel(const LightTable& table, int channel);

/// The spectrum of a reflectance or transmittance given in linear RGB; exact in color under D65.
Spectrum spectrum_from_rgb(const Rgb& rgb);

/// The same in single precision, for inner loops.
Spectrum spectrum_from_rgb(const Eigen::Array3f& rgb);

/// A tabulated reflectance read at the nodes, each as (r(-5 nm) + 2 r(0) + r(+5 nm)) / 4.
Spectrum spectrum_from_table(const NmTable& reflectance);

/// Linear RGB of a reflectance under D65: the inverse of spectrum_from_rgb for colors that have
/// one.
Rgb rgb_under_d65(const Spectrum& spectrum);

/// The XYZ that a light of luminance `luminance` and table `e` adds through throughput `t`.
inline Eigen::Array3f tristimulus(const LightTable& e, const Spectrum& t, float luminance) {
  return luminance * Eigen::Array3f((e.row(0).transpose() * t).sum(),
                                    (e.row(1).transpose() * t).sum(),
                                    (e.row(2).transpose() * t).sum());
}

}  // namespace jovilux
