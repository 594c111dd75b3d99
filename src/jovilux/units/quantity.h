#pragma once

#include <compare>
#include <numbers>

namespace jovilux {

/// A physical quantity, held in the coherent SI unit that names it. Trivially copyable: pass by
/// value.
template <class Tag>
struct Quantity {
  double value = 0.0;
  friend constexpr auto operator<=>(Quantity, Quantity) = default;
  friend constexpr Quantity operator+(Quantity a, Quantity b) { return {a.value + b.value}; }
  friend constexpr Quantity operator-(Quantity a, Quantity b) { return {a.value - b.value}; }
  friend constexpr Quantity operator*(double s, Quantity q) { return {s * q.value}; }
  friend constexpr Quantity operator*(Quantity q, double s) { return {s * q.value}; }
  friend constexpr Quantity operator/(Quantity q, double s) { return {q.value / s}; }
  friend constexpr double operator/(Quantity a, Quantity b) { return a.value / b.value; }
};

using Meters = Quantity<struct MetersTag>;                // length
using Radians = Quantity<struct RadiansTag>;              // plane angle
using Seconds = Quantity<struct SecondsTag>;              // time
using Kelvin = Quantity<struct KelvinTag>;                // temperature
using Watts = Quantity<struct WattsTag>;                  // electric power
using LumensPerWatt = Quantity<struct LumensPerWattTag>;  // luminous efficacy
using Lumens = Quantity<struct LumensTag>;                // luminous flux
using Candela = Quantity<struct CandelaTag>;              // luminous intensity, lm/sr
using Lux = Quantity<struct LuxTag>;                      // illuminance, lm/m^2
using Nits = Quantity<struct NitsTag>;                    // luminance, cd/m^2

constexpr Meters millimeters(double v) { return {1e-3 * v}; }
constexpr Meters centimeters(double v) { return {1e-2 * v}; }
constexpr Radians degrees(double v) { return {v * std::numbers::pi / 180.0}; }
constexpr double in_degrees(Radians a) { return a.value * 180.0 / std::numbers::pi; }
/// Reciprocal color temperature, 10^6/K; its own inverse.
constexpr double mired(Kelvin t) { return 1e6 / t.value; }
constexpr Kelvin from_mired(double m) { return {1e6 / m}; }

}  // namespace jovilux
