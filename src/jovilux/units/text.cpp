#include "jovilux/units/text.h"

#include "jovilux/base/text.h"
#include "jovilux/base/vec.h"

#include <array>
#include <cmath>
#include <vector>

#include <fmt/format.h>

namespace jovilux {
namespace {

struct Unit {
  std::string_view name;
  Dimension dimension;
  double factor;
};

constexpr double kFootCandle = 1.0 / (0.3048 * 0.3048);  // lm/ft^2 in lx

constexpr std::array kUnits = {
    // Light first: of two names equally near to a misspelt one, the first is offered.
    Unit{"lm", Dimension::kFlux, 1},
    Unit{"klm", Dimension::kFlux, 1e3},
    Unit{"cd", Dimension::kIntensity, 1},
    Unit{"kcd", Dimension::kIntensity, 1e3},
    Unit{"lx", Dimension::kIlluminance, 1},
    Unit{"klx", Dimension::kIlluminance, 1e3},
    Unit{"fc", Dimension::kIlluminance, kFootCandle},
    Unit{"cd/m2", Dimension::kLuminance, 1},
    Unit{"nt", Dimension::kLuminance, 1},
    Unit{"kcd/m2", Dimension::kLuminance, 1e3},
    Unit{"W", Dimension::kPower, 1},
    Unit{"kW", Dimension::kPower, 1e3},
    Unit{"lm/W", Dimension::kEfficacy, 1},
    Unit{"lm/m", Dimension::kFluxPerLength, 1},
    Unit{"lm/ft", Dimension::kFluxPerLength, 1 / 0.3048},
    Unit{"um", Dimension::kLength, 1e-6},
    Unit{"mm", Dimension::kLength, 1e-3},
    Unit{"cm", Dimension::kLength, 1e-2},
    Unit{"m", Dimension::kLength, 1},
    Unit{"km", Dimension::kLength, 1e3},
    Unit{"in", Dimension::kLength, 0.0254},
    Unit{"ft", Dimension::kLength, 0.3048},
    Unit{"deg", Dimension::kAngle, kDegree},
    Unit{"rad", Dimension::kAngle, 1},
    Unit{"K", Dimension::kTemperature, 1},
    Unit{"s", Dimension::kTime, 1},
    Unit{"ms", Dimension::kTime, 1e-3},
    Unit{"us", Dimension::kTime, 1e-6},
    Unit{"Hz", Dimension::kFrequency, 1},
    Unit{"kHz", Dimension::kFrequency, 1e3},
    Unit{"/m", Dimension::kExtinction, 1},
    Unit{"/mm", Dimension::kExtinction, 1e3},
    Unit{"/cm", Dimension::kExtinction, 1e2},
    Unit{"/km", Dimension::kExtinction, 1e-3},
    Unit{"/in", Dimension::kExtinction, 1 / 0.0254},
    Unit{"/ft", Dimension::kExtinction, 1 / 0.3048},
    Unit{"EV", Dimension::kExposure, 1},
    Unit{"stops", Dimension::kExposure, 1},
    Unit{"stop", Dimension::kExposure, 1},
    Unit{"%", Dimension::kPercent, 1e-2},
};

// m², µ, ·, ° and ways to write the same unit, made plain ASCII.
std::string plain(std::string_view text) {
  static constexpr std::pair<std::string_view, std::string_view> kSame[] = {{"\u00b2", "2"},
                                                                            {"\u00b5", "u"},
                                                                            {"\u03bc", "u"},
                                                                            {"\u00b7", ""},
                                                                            {"\u00b0", "deg"},
                                                                            {"\u00a0", " "},
                                                                            {"^2", "2"}};
  std::string out(text);
  for (const auto& [from, to] : kSame) {
    for (auto at = out.find(from); at != std::string::npos; at = out.find(from, at + to.size())) {
      out.replace(at, from.size(), to);
    }
  }
  return out;
}

// Units by the names that people say.
std::string unit_called(std::string_view name) {
  static constexpr std::pair<std::string_view, std::string_view> kCalled[] = {
      {"lumen", "lm"},       {"lumens", "lm"},       {"candela", "cd"},
      {"candelas", "cd"},    {"candlepower", "cd"},  {"lux", "lx"},
      {"nit", "nt"},         {"nits", "nt"},         {"footcandle", "fc"},
      {"footcandles", "fc"}, {"foot-candles", "fc"}, {"watt", "W"},
      {"watts", "W"},        {"kelvin", "K"},        {"kelvins", "K"},
      {"degree", "deg"},     {"degrees", "deg"},     {"meter", "m"},
      {"meters", "m"},       {"metre", "m"},         {"metres", "m"},
      {"inch", "in"},        {"inches", "in"},       {"foot", "ft"},
      {"feet", "ft"},        {"second", "s"},        {"seconds", "s"},
      {"sec", "s"},          {"hertz", "Hz"},        {"percent", "%"},
      {"ev", "EV"}};
  std::string lower(name);
  std::transform(lower.begin(), lower.end(), lower.begin(), [](unsigned char c) {
    return static_cast<char>(std::tolower(c));
  });
  for (const auto& [word, unit] : kCalled) {
    if (word == lower) {
      return std::string(unit);
    }
  }
  return "";
}

std::vector<std::string> unit_names() {
  std::vector<std::string> names;
  for (const Unit& u : kUnits) {
    names.emplace_back(u.name);
  }
  names.emplace_back("mired");
  return names;
}

// Length of the longest prefix that reads as a number. Numbers of more than 64 characters are a
// hostile file's, and a search among all prefixes is quadratic.
std::size_t number_length(std::string_view text) {
  std::size_t best = 0;
  for (std::size_t n = 1; n <= text.size() && n <= 64; ++n) {
    if (parse_number(text.substr(0, n))) {
      best = n;
    }
  }
  while (best > 0 && text[best - 1] == ' ') {
    --best;
  }
  return best;
}

}  // namespace

std::variant<Amount, UnitFault> parse_amount(std::string_view raw) {
  const std::string clean = plain(raw);
  std::string_view text = trimmed(clean);
  const std::string shown = "\"" + printable(raw) + "\"";
  // "EV 12" is how exposures are said: the unit comes first.
  if (text.starts_with("EV") && text.size() > 2) {
    if (const auto ev = parse_number(text.substr(2))) {
      return Amount{*ev, Dimension::kExposure};
    }
  }
  const std::size_t digits = number_length(text);
  if (digits == 0) {
    return UnitFault{shown + " does not start with a number", ""};
  }
  const std::string number_text(text.substr(0, digits));
  double value = *parse_number(number_text);
  text = trimmed(text.substr(digits));
  if (text.size() > 1 && text[0] == '/' && text[1] >= '0' && text[1] <= '9') {  // 1/60 s
    const std::size_t more = number_length(text.substr(1));
    const double below = *parse_number(text.substr(1, more));
    if (below == 0) {
      return UnitFault{shown + " divides by zero", ""};
    }
    value /= below;
    text = trimmed(text.substr(1 + more));
  }
  if (text.empty()) {
    return UnitFault{shown + " has no unit", ""};
  }
  // Reciprocal megakelvin (mired): a temperature by its reciprocal, which no factor gives.
  if (text == "mired") {
    if (!(value > 0)) {
      return UnitFault{shown + ": mired must be above 0", ""};
    }
    return Amount{1e6 / value, Dimension::kTemperature};
  }
  for (const Unit& u : kUnits) {
    if (u.name == text) {
      return Amount{value * u.factor, u.dimension};
    }
  }
  const std::string called = unit_called(text);
  return UnitFault{shown + ": unknown unit \"" + printable(text, 20) + "\"",
                   called.empty()
                       ? did_you_mean(text, unit_names())
                       : "write \"" + number_text + (called == "%" ? "" : " ") + called + "\""};
}

std::variant<Output, UnitFault> parse_output(std::string_view text, bool sun_like) {
  const auto at = text.find('@');
  const auto first = parse_amount(text.substr(0, at));
  if (const auto* fault = std::get_if<UnitFault>(&first)) {
    return *fault;
  }
  const Amount amount = std::get<Amount>(first);
  const std::string shown = "\"" + printable(text) + "\"";
  Output out;
  out.value = amount.value;
  switch (amount.dimension) {
    case Dimension::kFlux:
      out.kind = Output::Kind::kFlux;
      break;
    case Dimension::kFluxPerLength:
      out.kind = Output::Kind::kFlux;
      out.per_meter = true;
      break;
    case Dimension::kIntensity:
      out.kind = Output::Kind::kIntensity;
      break;
    case Dimension::kIlluminance:
      out.kind = Output::Kind::kIlluminance;
      break;
    case Dimension::kLuminance:
      out.kind = Output::Kind::kLuminance;
      break;
    case Dimension::kPower:
      out.kind = Output::Kind::kPower;
      break;
    default:
      return UnitFault{shown + " is not an amount of light",
                       "give lm, cd, cd/m2, lx @ distance or W @ lm/W"};
  }
  if (!(out.value >= 0)) {
    return UnitFault{shown + ": an output cannot be negative", ""};
  }
  std::optional<Amount> second;
  if (at != std::string_view::npos) {
    const auto rest = parse_amount(text.substr(at + 1));
    if (const auto* fault = std::get_if<UnitFault>(&rest)) {
      return *fault;
    }
    second = std::get<Amount>(rest);
  }
  // The sun, skies and domes are infinitely far away: their illuminance needs no distance.
  if (out.kind == Output::Kind::kIlluminance && !sun_like) {
    if (!second || second->dimension != Dimension::kLength || !(second->value > 0)) {
      return UnitFault{shown + ": an illuminance needs the distance at which it is measured",
                       fmt::format("write \"{} lx @ 1 m\"", short_number(out.value, 6))};
    }
    out.distance = Meters{second->value};
  } else if (out.kind == Output::Kind::kPower) {
    if (!second || second->dimension != Dimension::kEfficacy || !(second->value > 0)) {
      return UnitFault{shown + ": a power needs the source's luminous efficacy",
                       fmt::format("write \"{} W @ 100 lm/W\"", short_number(out.value, 6))};
    }
    out.efficacy = {second->value};
  } else if (second) {
    return UnitFault{shown + ": only lx (@ distance) and W (@ lm/W) take a second part", ""};
  }
  return out;
}

std::string expected_units(Dimension dimension) {
  static constexpr std::pair<Dimension, std::string_view> kNames[] = {
      {Dimension::kLength, "a length"},
      {Dimension::kAngle, "an angle"},
      {Dimension::kFlux, "a flux"},
      {Dimension::kIntensity, "an intensity"},
      {Dimension::kIlluminance, "an illuminance"},
      {Dimension::kLuminance, "a luminance"},
      {Dimension::kPower, "a power"},
      {Dimension::kEfficacy, "an efficacy"},
      {Dimension::kFluxPerLength, "a flux per length"},
      {Dimension::kTemperature, "a temperature"},
      {Dimension::kTime, "a time"},
      {Dimension::kFrequency, "a frequency"},
      {Dimension::kExtinction, "an extinction"},
      {Dimension::kExposure, "an exposure"},
      {Dimension::kPercent, "a share"}};
  std::string out;
  for (const auto& [d, name] : kNames) {
    if (d == dimension) {
      out = name;
    }
  }
  out += " (";
  std::string_view separator;
  for (const Unit& u : kUnits) {
    if (u.dimension == dimension && u.name != "um" && u.name != "us") {
      out += separator;
      out += u.name;
      separator = ", ";
    }
  }
  return out + (dimension == Dimension::kTemperature ? ", mired)" : ")");
}

std::string with_unit(double value, std::string_view unit) {
  return fmt::format("{} {}", short_number(value), unit);
}

std::string readable_length(double meters) {
  const double m = std::abs(meters);
  // A hair less than 1 cm and 1 m: what rounds to "100 cm" is shown as "1 m".
  if (m > 0 && m < 0.00999) {
    return with_unit(meters * 1000, "mm");
  }
  return m < 0.9999 ? with_unit(meters * 100, "cm")
         : m < 1000 ? with_unit(meters, "m")
                    : with_unit(meters / 1000, "km");
}

}  // namespace jovilux
