#pragma once

#include "jovilux/base/formula.h"
#include "jovilux/base/interpolation.h"
#include "jovilux/units/quantity.h"

#include <algorithm>
#include <cmath>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <variant>

namespace jovilux {

/// How a light weakens with distance. Physics is kInverseSquare without near_softening and reach.
enum class FalloffLaw { kInverseSquare, kNone, kLinear, kPolynomial, kPoints, kFormula };

std::string_view to_string(FalloffLaw law);
std::optional<FalloffLaw> parse_falloff_law(std::string_view text);

/// The law that a user draws or writes: a function of d [m].
struct FalloffCurve {
  std::variant<MonotoneCubic, Formula> law;

  double operator()(double d) const {
    const double v =
        law.index() == 0 ? std::get<0>(law)(d) : std::get<1>(law)(std::span<const double>(&d, 1));
    return v > 0 && v <= 1e30 ? v : 0.0;
  }
};

/// A falloff law as a factor on the physical answer, a pure function of the distance to the light's
/// center:
///
///     weight(d) = law(sqrt(d^2 + near_softening^2)) d^2 window(d),   law(matches_at) = 1 /
///     matches_at^2
///
///     inverse-square  law(d) = 1 / d^2
///     none            law(d) = 1 / matches_at^2
///     linear          law(d) = max(0, 1 - d / zero_at), scaled
///     polynomial      law(d) = 1 / (constant + linear d + quadratic d^2), scaled; d in meters
///     points          law(d) = a monotone cubic through points, constant beyond them, scaled
///     formula         law(d) = a formula of d in meters, scaled; counted as 0 where it is below 0
///     or has no value
///     window(d)       1 up to range_start, 0 from range_end, 1 - (3 t^2 - 2 t^3) between
///
/// All lengths in meters. matches_at > 0; zero_at > matches_at; range_start <= range_end.
struct Falloff {
  FalloffLaw law = FalloffLaw::kInverseSquare;
  float matches_at = 1;
  float zero_at = 0;
  float constant = 0, linear = 0, quadratic = 1;
  float near_softening = 0;
  bool has_range = false;
  float range_start = 0, range_end = 0;
  std::shared_ptr<const FalloffCurve> curve;  ///< of points and formula
  float curve_at_match = 1;                   ///< its value there, > 0

  bool is_physical() const {
    return law == FalloffLaw::kInverseSquare && near_softening == 0 && !has_range;
  }
};

/// 1 up to `start`, 0 from `end` on, smoothstep between; a step where both are equal.
template <class T>
T range_window(T d, T start, T end) {
  if (d <= start) {
    return T(1);
  }
  if (d >= end) {
    return T(0);
  }
  const T t = (d - start) / (end - start);
  return T(1) - t * t * (T(3) - T(2) * t);
}

/// The factor on the physical illuminance at distance d > 0 [m]; >= 0, infinite only for a
/// polynomial's root.
template <class T>
T falloff_weight(const Falloff& f, T d) {
  const T window = f.has_range ? range_window(d, T(f.range_start), T(f.range_end)) : T(1);
  const T m = T(f.matches_at);
  const T d2 = d * d;
  const T soft2 = d2 + T(f.near_softening) * T(f.near_softening);
  const T soft = std::sqrt(soft2);
  switch (f.law) {
    case FalloffLaw::kInverseSquare:
      return f.near_softening > 0 ? window * d2 / soft2 : window;
    case FalloffLaw::kNone:
      return window * d2 / (m * m);
    case FalloffLaw::kLinear: {
      const T z = T(f.zero_at);
      return window * std::max(T(0), T(1) - soft / z) / (T(1) - m / z) * d2 / (m * m);
    }
    case FalloffLaw::kPolynomial: {
      const T a = T(f.constant), b = T(f.linear), c = T(f.quadratic);
      return window * (a + m * (b + m * c)) / (a + soft * (b + soft * c)) * d2 / (m * m);
    }
    case FalloffLaw::kPoints:
    case FalloffLaw::kFormula:
      return window * static_cast<T>((*f.curve)(static_cast<double>(soft))) / T(f.curve_at_match) *
             d2 / (m * m);
  }
  return window;
}

/// The smallest distance d > 0 [m] at which the polynomial a + b d + c d^2 is 0; 0 where it is not
/// above 0 at the lamp (and, with a below 0, at no distance either); nothing where it is positive
/// everywhere.
std::optional<double> polynomial_root(double a, double b, double c);

}  // namespace jovilux
