#include "jovilux/photometry/falloff.h"

#include <utility>

namespace jovilux {
namespace {

constexpr std::pair<FalloffLaw, std::string_view> kNames[] = {
    {FalloffLaw::kInverseSquare, "inverse-square"},
    {FalloffLaw::kNone, "none"},
    {FalloffLaw::kLinear, "linear"},
    {FalloffLaw::kPolynomial, "polynomial"},
    {FalloffLaw::kPoints, "points"},
    {FalloffLaw::kFormula, "formula"}};

}  // namespace

std::string_view to_string(FalloffLaw law) {
  for (const auto& [l, name] : kNames) {
    if (l == law) {
      return name;
    }
  }
  return "";
}

std::optional<FalloffLaw> parse_falloff_law(std::string_view text) {
  for (const auto& [law, name] : kNames) {
    if (name == text) {
      return law;
    }
  }
  return std::nullopt;
}

std::optional<double> polynomial_root(double a, double b, double c) {
  if (a == 0) {
    return 0.0;
  }
  const std::optional<double> without = a < 0 ? std::optional(0.0) : std::nullopt;
  // c = 0 leaves a line; q / c would divide by it.
  if (c == 0) {
    return a * b < 0 ? std::optional(-a / b) : without;
  }
  const double discriminant = b * b - 4 * a * c;
  if (discriminant < 0) {
    return without;
  }
  // Both roots without cancellation: -b and the square root have the same sign in q, and the
  // product of the roots gives the other one.
  const double q = -0.5 * (b + std::copysign(std::sqrt(discriminant), b));
  double best = -1;
  for (const double root : {q / c, q != 0 ? a / q : -1.0}) {
    if (root > 0 && (best < 0 || root < best)) {
      best = root;
    }
  }
  return best > 0 ? std::optional(best) : without;
}

}  // namespace jovilux
