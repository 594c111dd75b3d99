#pragma once

#include "jovilux/units/quantity.h"

#include <optional>
#include <string>
#include <string_view>
#include <variant>

namespace jovilux {

/// The kinds of quantity that a rig or a command line names with a unit.
enum class Dimension {
  kLength,
  kAngle,
  kFlux,
  kIntensity,
  kIlluminance,
  kLuminance,
  kPower,
  kEfficacy,
  kFluxPerLength,
  kTemperature,
  kTime,
  kFrequency,
  kExtinction,
  kExposure,
  kPercent,
};

/// A number in the coherent unit of its dimension: m, rad, lm, cd, lx, cd/m2, W, lm/W, lm/m, K, s,
/// Hz, 1/m, EV, 1.
struct Amount {
  double value = 0;
  Dimension dimension = Dimension::kLength;
};

/// Why a text is not a quantity: what is wrong with it, and the nearest valid unit where one is
/// near.
struct UnitFault {
  std::string text;
  std::string hint;
};

/// Reads "1350 lm", "12cm", "0.05 /m", "EV 9", "370 mired", "1/60 s", "30 %". Spaces between number
/// and unit are optional; m², µ, · and ° are read as well. Mired become kelvin.
std::variant<Amount, UnitFault> parse_amount(std::string_view text);

/// What leaves a light, as its author states it: "1350 lm", "500 lx @ 2 m", "18 W @ 105 lm/W",
/// "3000 cd/m2".
struct Output {
  enum class Kind { kFlux, kIntensity, kIlluminance, kLuminance, kPower, kAsIs } kind = Kind::kFlux;
  double value = 0;                ///< lm, cd, lx, cd/m2 or W
  std::optional<Meters> distance;  ///< of an illuminance
  LumensPerWatt efficacy;          ///< of a power
  bool per_meter = false;          ///< of a flux: "900 lm/m"
};

/// Reads an Output. `sun_like` allows an illuminance without distance; kAsIs has no text here.
std::variant<Output, UnitFault> parse_output(std::string_view text, bool sun_like = false);

/// "length (mm, cm, m, km, in, ft)": the units that a dimension accepts, for messages.
std::string expected_units(Dimension dimension);

/// A quantity for people: 4 significant digits and its unit, such as "19.89 lx" or "1.35 klm"
/// (`unit` as given).
std::string with_unit(double value, std::string_view unit);

/// A length for people in the unit that reads best: "2 mm", "11 cm", "1.5 m".
std::string readable_length(double meters);

}  // namespace jovilux
