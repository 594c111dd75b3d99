#pragma once

#include <functional>

namespace jovilux {

/// Integral of f over [a, b] by composite Gauss-Legendre quadrature: 10 points in each of `panels`
/// equal panels. Exact for polynomials of degree 19 in each panel.
double integral(const std::function<double(double)>& f, double a, double b, int panels = 32);

}  // namespace jovilux
