// Closed forms of luminous surfaces.
#include "jovilux/photometry/sources.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/quadrature.h"

#include <algorithm>
#include <cmath>
#include <vector>

namespace jovilux {

double hot_center_weighting(LightKind kind, double w, double qx, double qy) {
  // The integral of the bell over the surface is the surface's area, so that a hot center moves
  // light to the middle and keeps the flux.
  const auto bell = [&](double q) { return std::pow(std::max(0.0, 1 - q * q), w); };
  if (kind == LightKind::kRect) {
    const double k = 2 * std::tgamma(w + 1.5) / (std::sqrt(kPiD) * std::tgamma(w + 1));
    return k * k * bell(qx) * bell(qy);
  }
  return (w + 1) * bell(std::hypot(qx, qy));
}

double tube_illuminance(
    double L, const Vec3d& A, const Vec3d& B, double radius, const Vec3d& P, const Vec3d& n) {
  const Vec3d axis = (B - A).normalized();
  const double za = (A - P).dot(axis), zb = (B - P).dot(axis);
  const Vec3d across = A - P - za * axis;  // from P straight to the axis
  const double d = across.norm();
  if (d <= radius || !(d > 0)) {
    return 0;
  }
  // The tube is cut into strips along its axis. A strip at the angle phi to the middle lies in a
  // plane through P; its illuminance is that of a line of the strip's projected width, in closed
  // form.
  const Vec3d to = across / d, side = axis.cross(to);
  const double along = n.dot(axis);
  // Integral of max(0, a cos b + along sin b) cos b over the angles b to the perpendicular in [b0,
  // b1]. What lies below the horizon of n is cut off by narrowing the interval.
  const auto strip = [&](double a, double b0, double b1) {
    const auto F = [&](double b) {
      return a * (b / 2 + std::sin(2 * b) / 4) + along * sqr(std::sin(b)) / 2;
    };
    const double horizon = along != 0 ? std::atan(-a / along) : 0;
    if (along > 0) {
      b0 = std::max(b0, horizon);
    } else if (along < 0) {
      b1 = std::min(b1, horizon);
    } else if (a <= 0) {
      return 0.0;
    }
    return b1 > b0 ? F(b1) - F(b0) : 0.0;
  };
  if (radius == 0) {
    return L / d * strip(n.dot(to), std::atan(za / d), std::atan(zb / d));
  }
  const double widest = std::asin(radius / d);
  // The substitution phi = widest sin(t) takes the square root out of the integrand where the
  // tube's limb is grazed.
  return L * integral(
                 [&](double t) {
                   const double phi = widest * std::sin(t);
                   const double s =
                       d * std::cos(phi) -
                       std::sqrt(std::max(0.0, radius * radius - sqr(d * std::sin(phi))));
                   return widest * std::cos(t) *
                          strip(n.dot(std::cos(phi) * to + std::sin(phi) * side),
                                std::atan(za / s),
                                std::atan(zb / s));
                 },
                 -kPiD / 2,
                 kPiD / 2,
                 64);
}

double endless_tube_illuminance(double flux_per_meter, double d) {
  return flux_per_meter / (2 * kPiD * d);
}

double disk_illuminance_on_axis(double L, double radius, double d) {
  return kPiD * L * radius * radius / (radius * radius + d * d);
}

double rect_illuminance_on_axis(double L, double w, double h, double d) {
  const double a = w / 2, b = h / 2;
  const double pa = std::hypot(d, a), pb = std::hypot(d, b);
  // Two of the four edges of Lambert's formula twice, by symmetry.
  return 4 * L / 2 * (a / pa * std::atan(b / pa) + b / pb * std::atan(a / pb));
}

double sphere_illuminance(
    double L, const Vec3d& center, double radius, const Vec3d& P, const Vec3d& n) {
  const Vec3d to = center - P;
  const double d = to.norm();
  JOVILUX_ASSERT(d > radius);
  const double H = d / radius;
  const double cos_w = std::clamp(n.dot(to) / d, -1.0, 1.0);
  // The whole sphere is above the horizon: the configuration factor is cos / H^2. Otherwise a part
  // is cut off (Howell, "A Catalog of Radiation Heat Transfer Configuration Factors", sphere to a
  // tilted element).
  if (cos_w * H >= 1) {
    return kPiD * L * cos_w / (H * H);
  }
  if (cos_w * H <= -1) {
    return 0;
  }
  const double sin_w = std::sqrt(1 - cos_w * cos_w);
  const double s = std::sqrt(H * H - 1);
  const double share = 0.5 - std::asin(std::min(1.0, s / (H * sin_w))) / kPiD +
                       (cos_w * std::acos(std::clamp(-s * cos_w / sin_w, -1.0, 1.0)) -
                        s * std::sqrt(std::max(0.0, 1 - H * H * cos_w * cos_w))) /
                           (kPiD * H * H);
  return kPiD * L * std::max(0.0, share);
}

double polygon_illuminance(double L,
                           std::span<const Vec3d> corners,
                           const Vec3d& P,
                           const Vec3d& n) {
  JOVILUX_ASSERT(corners.size() >= 3);
  Vec3d facing = Vec3d::Zero();
  for (std::size_t i = 0; i < corners.size(); ++i) {
    facing += (corners[i] - P).cross(corners[(i + 1) % corners.size()] - P);
  }
  if (facing.dot(P - corners[0]) <= 0) {
    return 0;  // P is behind
  }
  std::vector<Vec3d> above;  // the part above the horizon
  for (std::size_t i = 0; i < corners.size(); ++i) {
    const Vec3d a = corners[i] - P, b = corners[(i + 1) % corners.size()] - P;
    const double ha = n.dot(a), hb = n.dot(b);
    if (ha >= 0) {
      above.push_back(a);
    }
    if ((ha < 0) != (hb < 0)) {
      above.push_back(a + (b - a) * (ha / (ha - hb)));
    }
  }
  double sum = 0;
  for (std::size_t i = 0; i < above.size(); ++i) {
    const Vec3d& a = above[i];
    const Vec3d& b = above[(i + 1) % above.size()];
    const Vec3d c = a.cross(b);
    const double length = c.norm();
    if (length > 0) {
      // The edge's angle seen from P times its normal's cosine (Lambert 1760); atan2 keeps the
      // digits of small and of nearly straight angles.
      sum += std::atan2(length, a.dot(b)) * n.dot(c) / length;
    }
  }
  return std::abs(0.5 * L * sum);
}

double rect_illuminance(
    double L, const Vec3d& center, const Vec3d& u, const Vec3d& v, const Vec3d& P, const Vec3d& n) {
  const Vec3d corners[] = {center - u - v, center + u - v, center + u + v, center - u + v};
  return polygon_illuminance(L, corners, P, n);
}

double disk_illuminance(double L,
                        const Vec3d& center,
                        const Vec3d& axis,
                        double radius,
                        const Vec3d& P,
                        const Vec3d& n) {
  // A regular polygon of the same area: 4e-7 from the disk at this number of corners.
  constexpr int kCorners = 2048;
  const Frame frame = Frame::around(axis.cast<float>());
  const Vec3d x = (frame.x.cast<double>() - axis * axis.dot(frame.x.cast<double>())).normalized();
  const Vec3d y = axis.cross(x);
  const double step = 2 * kPiD / kCorners;
  const double r = radius * std::sqrt(step / std::sin(step));
  std::vector<Vec3d> corners;
  corners.reserve(kCorners);
  for (int i = 0; i < kCorners; ++i) {
    corners.push_back(center + r * (std::cos(i * step) * x + std::sin(i * step) * y));
  }
  return polygon_illuminance(L, corners, P, n);
}

Nits disc_luminance(Lux E, double disc) { return {E.value / (kPiD * sqr(std::sin(disc / 2)))}; }

double disc_share_past_chord(double u) {
  const double t = std::clamp(u, -1.0, 1.0);
  return 0.5 + (t * std::sqrt(1 - t * t) + std::asin(t)) / kPiD;
}

}  // namespace jovilux
