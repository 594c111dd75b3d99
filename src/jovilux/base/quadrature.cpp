#include "jovilux/base/quadrature.h"

#include <boost/math/quadrature/gauss.hpp>

namespace jovilux {

double integral(const std::function<double(double)>& f, double a, double b, int panels) {
  const double width = (b - a) / panels;
  double sum = 0;
  for (int p = 0; p < panels; ++p) {
    const double from = a + p * width;
    // Gauss-Legendre, ten points a panel: exact to polynomials of degree 19.
    sum += boost::math::quadrature::gauss<double, 10>::integrate(f, from, from + width);
  }
  return sum;
}

}  // namespace jovilux
