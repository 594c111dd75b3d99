#include "jovilux/color/difference.h"

#include "jovilux/base/vec.h"

#include <cmath>

namespace jovilux {

Lab lab(const Xyz& color, const Xyz& white) {
  constexpr double kEdge = 6.0 / 29;
  // CIE 1976: a cube root, with a straight start that avoids its infinite slope at black.
  const auto f = [&](double t) {
    return t > kEdge * kEdge * kEdge ? std::cbrt(t) : t / (3 * kEdge * kEdge) + 4.0 / 29;
  };
  const double x = f(color[0] / white[0]), y = f(color[1] / white[1]), z = f(color[2] / white[2]);
  return {116 * y - 16, 500 * (x - y), 200 * (y - z)};
}

// CIEDE2000 (CIE 142-2001) with unit weights; the names follow the standard's symbols.
double delta_e_2000(const Lab& p, const Lab& q) {
  const double mean_chroma = 0.5 * (std::hypot(p[1], p[2]) + std::hypot(q[1], q[2]));
  const double c7 = std::pow(mean_chroma, 7),
               g = 0.5 * (1 - std::sqrt(c7 / (c7 + std::pow(25.0, 7))));
  const double a1 = (1 + g) * p[1], a2 = (1 + g) * q[1];
  const double C1 = std::hypot(a1, p[2]), C2 = std::hypot(a2, q[2]);
  const auto hue = [&](double a, double b) {
    const double h = a == 0 && b == 0 ? 0 : std::atan2(b, a) / kDegree;
    return h < 0 ? h + 360 : h;
  };
  const double h1 = hue(a1, p[2]), h2 = hue(a2, q[2]);
  // Hue differences go the short way round the circle; a gray has no hue and takes the other's.
  double dh = C1 * C2 == 0 ? 0 : h2 - h1;
  dh -= dh > 180 ? 360 : dh < -180 ? -360 : 0;
  const double dL = q[0] - p[0], dC = C2 - C1,
               dH = 2 * std::sqrt(C1 * C2) * std::sin(0.5 * dh * kDegree);
  const double L = 0.5 * (p[0] + q[0]), C = 0.5 * (C1 + C2);
  double h = h1 + h2;
  if (C1 * C2 != 0) {
    h = std::abs(h1 - h2) <= 180 ? 0.5 * h : 0.5 * (h < 360 ? h + 360 : h - 360);
  }
  const double T = 1 - 0.17 * std::cos((h - 30) * kDegree) + 0.24 * std::cos(2 * h * kDegree) +
                   0.32 * std::cos((3 * h + 6) * kDegree) - 0.20 * std::cos((4 * h - 63) * kDegree);
  const double C7 = std::pow(C, 7);
  const double turn = 30 * std::exp(-std::pow((h - 275) / 25, 2)),
               R_C = 2 * std::sqrt(C7 / (C7 + std::pow(25.0, 7)));
  const double l2 = (L - 50) * (L - 50);
  const double S_L = 1 + 0.015 * l2 / std::sqrt(20 + l2), S_C = 1 + 0.045 * C,
               S_H = 1 + 0.015 * C * T, R_T = -std::sin(2 * turn * kDegree) * R_C;
  const double l = dL / S_L, c = dC / S_C, s = dH / S_H;
  return std::sqrt(l * l + c * c + s * s + R_T * c * s);
}

}  // namespace jovilux
