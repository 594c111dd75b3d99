#pragma once

#include "jovilux/units/quantity.h"

#include <array>
#include <cstddef>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace jovilux {

/// The wavelengths that spectra of sources are tabulated at: 360 to 830 nm in steps of 1 nm.
inline constexpr int kFirstNm = 360;
inline constexpr int kLastNm = 830;
inline constexpr std::size_t kNmCount = kLastNm - kFirstNm + 1;

/// A function of wavelength: value[i] belongs to kFirstNm + i nanometers. Relative power of a
/// source, reflectance or transmittance. Trivially copyable.
struct NmTable {
  std::array<double, kNmCount> value{};

  double& operator[](std::size_t i) { return value[i]; }
  double operator[](std::size_t i) const { return value[i]; }
};

/// Linear interpolation of samples `step_nm` apart, the first at `first_nm`; 0 outside.
NmTable tabulated(double first_nm, double step_nm, const std::vector<double>& samples);

/// CIE 1931 2 degree color-matching function (0: x, 1: y, 2: z), interpolated by cubics from the 5
/// nm table.
const NmTable& color_matching(int c);

/// Spectral radiance of a black body, relative. T > 0. Planck's law with c2 = 1.4388e-2 m K.
NmTable planck(Kelvin t);

/// The CIE daylight illuminant of a correlated color temperature in [4000, 25000] K (CIE 15, 3.1).
NmTable cie_daylight(Kelvin t);

/// Power of a CIE illuminant by name: "A", "C", "D50", "D55", "D65", "F1" .. "F12"; nothing for
/// another name. The F series, which has lines, keeps its 5 nm bands at their own wavelengths and
/// is 0 between them.
std::optional<NmTable> cie_illuminant(std::string_view name);

/// Reflectance of a CIE color-rendering test sample, number in 1..14 (CIE 13.3).
NmTable test_color(int number);

/// A white as a rig names it.
struct White {
  enum class Kind { kPlanck, kDaylight } kind = Kind::kDaylight;
  Kelvin temperature{6504};
};

/// Reads "2700 K", "370 mired", "D6504", "D65", "daylight 6500 K" and the names of white_names().
/// Nothing where the text is none of these or the temperature is outside what the law holds for:
/// 500..100000 K (Planck), 4000..25000 K (daylight).
std::optional<White> parse_white(std::string_view text);
std::string to_string(const White& white);
NmTable spectrum(const White& white);

/// Whites that have a name of their own, from warm to cold: "candle", "tungsten", "overcast" ...
struct NamedWhite {
  std::string_view name;
  White white;
};
std::span<const NamedWhite> named_whites();
std::vector<std::string> white_names();

/// Reciprocal color temperature between full tungsten, 3200 K, and noon, 5500 K [10^6/K].
inline constexpr double kFullShift = 1e6 / 3200 - 1e6 / 5500;

/// Transmittance of the ideal filter that adds `mired` to a white's reciprocal temperature:
/// exp(-c2 mired/1e6 / wavelength), the ratio of two of Wien's spectra, whose temperatures do not
/// matter. 1 at its highest between 420 and 700 nm. Positive: warmer.
NmTable mired_shift(double mired);

/// The filter that a text names by its effect: "half warm", "quarter cool", "three-quarter warm",
/// "full cool" (shares of kFullShift) or "+60 mired", at most 500 either way. Nothing where the
/// text is none of these.
std::optional<NmTable> gel_by_effect(std::string_view text);
std::vector<std::string> gel_effects();

}  // namespace jovilux
