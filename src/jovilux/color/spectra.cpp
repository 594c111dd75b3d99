#include "jovilux/color/spectra.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/text.h"
#include "jovilux/units/text.h"

#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

constexpr double kC2 = 1.4388e-2;  // m K, the value that CIE 15 tables rest on

constexpr double kCie1931[] = {
#include "cie-1931-2deg-5nm.inc"
};
constexpr double kDaylight[] = {
#include "cie-daylight-components-5nm.inc"
};
constexpr double kTestColors[] = {
#include "cie-test-colors-5nm.inc"
};
constexpr double kIlluminants[] = {
#include "cie-illuminants-5nm.inc"
};
constexpr std::string_view kIlluminantNames[] = {"A",
                                                 "C",
                                                 "D50",
                                                 "D55",
                                                 "D65",
                                                 "F1",
                                                 "F2",
                                                 "F3",
                                                 "F4",
                                                 "F5",
                                                 "F6",
                                                 "F7",
                                                 "F8",
                                                 "F9",
                                                 "F10",
                                                 "F11",
                                                 "F12"};

// Column `column` of a table whose rows are a wavelength followed by `columns` numbers.
template <std::size_t N>
std::vector<double> column_of(const double (&rows)[N], std::size_t columns, std::size_t column) {
  static_assert(N > 2);
  std::vector<double> samples;
  for (std::size_t row = 0; row < N / (columns + 1); ++row) {
    samples.push_back(rows[row * (columns + 1) + 1 + column]);
  }
  return samples;
}

template <std::size_t N>
NmTable from_rows(const double (&rows)[N], std::size_t columns, std::size_t column) {
  return tabulated(rows[0], rows[columns + 1] - rows[0], column_of(rows, columns, column));
}

// Cubic Lagrange interpolation of smooth 5 nm samples that cover the whole range.
template <std::size_t N>
NmTable smooth_from_rows(const double (&rows)[N], std::size_t columns, std::size_t column) {
  const std::vector<double> y = column_of(rows, columns, column);
  const double first = rows[0], step = rows[columns + 1] - rows[0];
  NmTable out;
  for (std::size_t i = 0; i < kNmCount; ++i) {
    const double x = (kFirstNm + static_cast<double>(i) - first) / step;
    const auto j = static_cast<std::size_t>(
        std::clamp(std::floor(x) - 1, 0.0, static_cast<double>(y.size()) - 4));
    const double t = x - static_cast<double>(j);  // in [0, 3]; knots at 0, 1, 2, 3
    out[i] =
        std::max(0.0,
                 -y[j] * (t - 1) * (t - 2) * (t - 3) / 6 + y[j + 1] * t * (t - 2) * (t - 3) / 2 -
                     y[j + 2] * t * (t - 1) * (t - 3) / 2 + y[j + 3] * t * (t - 1) * (t - 2) / 6);
  }
  return out;
}

// Powers of 5 nm bands, kept at the bands' own wavelengths: sums over 1 nm are then the 5 nm sums
// that the CIE means for sources with lines, which interpolation would smear.
template <std::size_t N>
NmTable bands_from_rows(const double (&rows)[N], std::size_t columns, std::size_t column) {
  const std::vector<double> y = column_of(rows, columns, column);
  NmTable out;
  for (std::size_t k = 0; k < y.size(); ++k) {
    const int i = static_cast<int>(rows[k * (columns + 1)]) - kFirstNm;
    out[static_cast<std::size_t>(i)] = y[k];
  }
  return out;
}

}  // namespace

NmTable tabulated(double first_nm, double step_nm, const std::vector<double>& samples) {
  JOVILUX_ASSERT(step_nm > 0 && samples.size() >= 2);
  NmTable out;
  for (std::size_t i = 0; i < kNmCount; ++i) {
    const double x = (kFirstNm + static_cast<double>(i) - first_nm) / step_nm;
    const double last = static_cast<double>(samples.size() - 1);
    if (x < 0 || x > last) {
      continue;
    }
    const auto j = static_cast<std::size_t>(std::min(std::floor(x), last - 1));
    const double t = x - static_cast<double>(j);
    out[i] = (1 - t) * samples[j] + t * samples[j + 1];
  }
  return out;
}

const NmTable& color_matching(int c) {
  static const NmTable kTables[3] = {smooth_from_rows(kCie1931, 3, 0),
                                     smooth_from_rows(kCie1931, 3, 1),
                                     smooth_from_rows(kCie1931, 3, 2)};
  JOVILUX_ASSERT(c >= 0 && c < 3);
  return kTables[c];
}

// Relative to 560 nm, as CIE tables are, so that numbers stay near 1 at any temperature.
NmTable planck(Kelvin t) {
  JOVILUX_ASSERT(t.value > 0);
  NmTable out;
  const double at_560 = std::pow(560e-9, -5) / std::expm1(kC2 / (560e-9 * t.value));
  for (std::size_t i = 0; i < kNmCount; ++i) {
    const double lambda = (kFirstNm + static_cast<double>(i)) * 1e-9;
    out[i] = std::pow(lambda, -5) / std::expm1(kC2 / (lambda * t.value)) / at_560;
  }
  return out;
}

// CIE 15: daylight's chromaticity over its temperature, then two components that reach it.
NmTable cie_daylight(Kelvin t) {
  JOVILUX_ASSERT(t.value >= 4000 && t.value <= 25000);
  const double r = 1e3 / t.value;
  const double x = t.value <= 7000 ? 0.244063 + r * (0.09911 + r * (2.9678 - r * 4.6070))
                                   : 0.237040 + r * (0.24748 + r * (1.9018 - r * 2.0064));
  const double y = -3.000 * x * x + 2.870 * x - 0.275;
  const double m = 0.0241 + 0.2562 * x - 0.7341 * y;
  const double m1 = (-1.3515 - 1.7703 * x + 5.9114 * y) / m;
  const double m2 = (0.0300 - 31.4424 * x + 30.0717 * y) / m;
  static const NmTable kS[3] = {
      from_rows(kDaylight, 3, 0), from_rows(kDaylight, 3, 1), from_rows(kDaylight, 3, 2)};
  NmTable out;
  for (std::size_t i = 0; i < kNmCount; ++i) {
    out[i] = std::max(0.0, kS[0][i] + m1 * kS[1][i] + m2 * kS[2][i]);
  }
  return out;
}

std::optional<NmTable> cie_illuminant(std::string_view name) {
  for (std::size_t i = 0; i < std::size(kIlluminantNames); ++i) {
    if (kIlluminantNames[i] == name) {
      const bool has_lines = name[0] == 'F';
      return has_lines ? bands_from_rows(kIlluminants, std::size(kIlluminantNames), i)
                       : from_rows(kIlluminants, std::size(kIlluminantNames), i);
    }
  }
  return std::nullopt;
}

NmTable test_color(int number) {
  JOVILUX_ASSERT(number >= 1 && number <= 14);
  return from_rows(kTestColors, 14, static_cast<std::size_t>(number - 1));
}

namespace {

// Values that the trade gives for the kind of light, not of one lamp.
constexpr NamedWhite kNamedWhites[] = {{"candle", {White::Kind::kPlanck, {1900}}},
                                       {"oil-lamp", {White::Kind::kPlanck, {2050}}},
                                       {"filament", {White::Kind::kPlanck, {2700}}},
                                       {"halogen", {White::Kind::kPlanck, {3000}}},
                                       {"tungsten", {White::Kind::kPlanck, {3200}}},
                                       {"moon", {White::Kind::kDaylight, {4125}}},
                                       {"noon", {White::Kind::kDaylight, {5500}}},
                                       {"overcast", {White::Kind::kDaylight, {6500}}},
                                       {"shade", {White::Kind::kDaylight, {7500}}},
                                       {"blue-sky", {White::Kind::kDaylight, {12000}}}};

struct ShiftName {
  std::string_view name;
  double share;  // of kFullShift
};
constexpr ShiftName kShifts[] = {{"quarter warm", 0.25},
                                 {"half warm", 0.5},
                                 {"three-quarter warm", 0.75},
                                 {"full warm", 1},
                                 {"quarter cool", -0.25},
                                 {"half cool", -0.5},
                                 {"three-quarter cool", -0.75},
                                 {"full cool", -1}};

}  // namespace

std::span<const NamedWhite> named_whites() { return kNamedWhites; }

std::vector<std::string> white_names() {
  std::vector<std::string> out;
  for (const NamedWhite& w : kNamedWhites) {
    out.emplace_back(w.name);
  }
  return out;
}

NmTable mired_shift(double mired) {
  // A conversion filter multiplies Planck's law at one temperature into that at another (Wien's
  // approximation): exp(-c2 (1/T2 - 1/T1) / lambda). It is scaled to pass everything at the end of
  // the visible range that it favors.
  constexpr double kShortest = 420e-9, kLongest = 700e-9;
  const double reciprocal = mired * 1e-6;  // [1/K]
  const double clear = mired > 0 ? kLongest : kShortest;
  NmTable out;
  for (std::size_t i = 0; i < kNmCount; ++i) {
    const double lambda = (kFirstNm + static_cast<double>(i)) * 1e-9;
    out[i] = std::min(1.0, std::exp(-kC2 * reciprocal * (1 / lambda - 1 / clear)));
  }
  return out;
}

std::optional<NmTable> gel_by_effect(std::string_view text) {
  constexpr double kMost = 500;
  text = trimmed(text);
  for (const ShiftName& s : kShifts) {
    if (s.name == text) {
      return mired_shift(s.share * kFullShift);
    }
  }
  constexpr std::string_view kUnit = "mired";
  if (!text.ends_with(kUnit)) {
    return std::nullopt;
  }
  std::string_view number = trimmed(text.substr(0, text.size() - kUnit.size()));
  if (number.starts_with('+')) {
    number.remove_prefix(1);
  }
  const auto mired = parse_number(number);
  return mired && std::abs(*mired) <= kMost ? std::optional(mired_shift(*mired)) : std::nullopt;
}

std::vector<std::string> gel_effects() {
  std::vector<std::string> out;
  for (const ShiftName& s : kShifts) {
    out.emplace_back(s.name);
  }
  return out;
}

std::optional<White> parse_white(std::string_view text) {
  text = trimmed(text);
  for (const NamedWhite& w : kNamedWhites) {
    if (w.name == text) {
      return w.white;
    }
  }
  if (text.starts_with("daylight")) {
    const auto amount = parse_amount(text.substr(8));
    const auto* t = std::get_if<Amount>(&amount);
    if (t == nullptr || t->dimension != Dimension::kTemperature || t->value < 4000 ||
        t->value > 25000) {
      return std::nullopt;
    }
    return White{White::Kind::kDaylight, {t->value}};
  }
  if (text.starts_with("D")) {
    auto t = parse_number(text.substr(1));
    if (t && (*t == 50 || *t == 55 || *t == 65 || *t == 75)) {
      t = *t * 100 * 1.4388 / 1.4380;  // the nominal temperatures predate today's c2 (CIE 15)
    }
    if (!t || *t < 4000 || *t > 25000) {
      return std::nullopt;
    }
    return White{White::Kind::kDaylight, {*t}};
  }
  const auto amount = parse_amount(text);
  const auto* t = std::get_if<Amount>(&amount);
  if (t == nullptr || t->dimension != Dimension::kTemperature || t->value < 500 ||
      t->value > 100000) {
    return std::nullopt;
  }
  return White{White::Kind::kPlanck, {t->value}};
}

std::string to_string(const White& white) {
  return (white.kind == White::Kind::kPlanck ? "" : "daylight ") +
         short_number(white.temperature.value, 6) + " K";
}

NmTable spectrum(const White& white) {
  return white.kind == White::Kind::kPlanck ? planck(white.temperature)
                                            : cie_daylight(white.temperature);
}

}  // namespace jovilux
