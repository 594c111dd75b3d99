#pragma once

#include <cstddef>

namespace jovilux {

/// Integral of f over [a, b] by composite Gauss-Legendre quadrature: 8 points in each of `panels`
/// equal panels.
/// Exact for polynomials of degree 15 in each panel. Source: Abramowitz and Stegun, table 25.4.
template <class F>
double integral(const F& f, double a, double b, int panels = 32) {
  constexpr double kX[4] = {
      0.1834346424956498, 0.5255324099163290, 0.7966664774136267, 0.9602898564975363};
  constexpr double kW[4] = {
      0.3626837833783620, 0.3137066458778873, 0.2223810344533745, 0.1012285362903763};
  const double half = 0.5 * (b - a) / panels;
  double sum = 0;
  for (int p = 0; p < panels; ++p) {
    const double mid = a + (2 * p + 1) * half;
    for (int i = 0; i < 4; ++i) {
      sum += kW[i] * (f(mid - half * kX[i]) + f(mid + half * kX[i]));
    }
  }
  return sum * half;
}

}  // namespace jovilux
