#include "jovilux/photometry/distribution.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/interpolation.h"
#include "jovilux/base/quadrature.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace jovilux {
namespace {

constexpr double kAngleEpsilon = 1e-6;

// The table repeated by its symmetry: type C over [0, 2 pi), types A and B over both signs.
CandelaGrid whole(const CandelaGrid& g) {
  CandelaGrid out;
  out.type = g.type;
  out.symmetry =
      g.symmetry == PhotometricSymmetry::kRotational ? g.symmetry : PhotometricSymmetry::kNone;
  const std::size_t n = g.ver_rad.size();
  const auto row = [&](std::size_t h) {
    return std::vector<double>(g.candela.begin() + static_cast<std::ptrdiff_t>(h * n),
                               g.candela.begin() + static_cast<std::ptrdiff_t>((h + 1) * n));
  };
  std::map<double, std::vector<double>> rows;
  const auto put = [&](double angle, const std::vector<double>& values) {
    if (g.type == PhotometricType::kC) {
      angle = std::fmod(angle + 4 * kPiD, 2 * kPiD);
      if (angle > 2 * kPiD - kAngleEpsilon) {
        angle = 0;
      }
    }
    const auto near = rows.lower_bound(angle - kAngleEpsilon);
    if (near == rows.end() || near->first > angle + kAngleEpsilon) {
      rows.emplace(angle, values);
    }
  };
  for (std::size_t h = 0; h < g.hor_rad.size(); ++h) {
    const double a = g.hor_rad[h];
    put(a, row(h));
    if (g.type != PhotometricType::kC) {
      if (g.symmetry != PhotometricSymmetry::kNone) {
        put(-a, row(h));
      }
      continue;
    }
    switch (g.symmetry) {
      case PhotometricSymmetry::kQuadrant:
        put(kPiD - a, row(h));
        put(kPiD + a, row(h));
        put(-a, row(h));
        break;
      case PhotometricSymmetry::kBilateral:
        put(-a, row(h));
        break;
      case PhotometricSymmetry::kBilateral90:
        put(kPiD - a, row(h));
        break;
      default:
        break;
    }
  }
  out.ver_rad = g.ver_rad;
  const bool mirror_ver =
      g.type != PhotometricType::kC && g.symmetry == PhotometricSymmetry::kQuadrant;
  if (mirror_ver) {
    out.ver_rad.clear();
    for (std::size_t v = n; v-- > 0;) {
      if (g.ver_rad[v] > kAngleEpsilon) {
        out.ver_rad.push_back(-g.ver_rad[v]);
      }
    }
    out.ver_rad.insert(out.ver_rad.end(), g.ver_rad.begin(), g.ver_rad.end());
  }
  for (const auto& [angle, values] : rows) {
    out.hor_rad.push_back(angle);
    if (mirror_ver) {
      for (std::size_t v = n; v-- > 0;) {
        if (g.ver_rad[v] > kAngleEpsilon) {
          out.candela.push_back(values[v]);
        }
      }
    }
    out.candela.insert(out.candela.end(), values.begin(), values.end());
  }
  return out;
}

}  // namespace

std::string_view to_string(PhotometricType type) {
  return type == PhotometricType::kC ? "C" : type == PhotometricType::kB ? "B" : "A";
}

std::string_view to_string(PhotometricSymmetry symmetry) {
  switch (symmetry) {
    case PhotometricSymmetry::kRotational:
      return "rotational";
    case PhotometricSymmetry::kQuadrant:
      return "quadrant";
    case PhotometricSymmetry::kBilateral:
      return "bilateral";
    case PhotometricSymmetry::kBilateral90:
      return "bilateral-90";
    case PhotometricSymmetry::kNone:
      return "none";
  }
  return "";
}

LuminousDistribution::LuminousDistribution(const CandelaGrid& grid) : type_(grid.type) {
  JOVILUX_ASSERT(grid.ver_rad.size() >= 2 && !grid.hor_rad.empty() &&
                 grid.candela.size() == grid.hor_rad.size() * grid.ver_rad.size());
  const CandelaGrid g = whole(grid);
  const std::size_t rows = g.hor_rad.size(), n = g.ver_rad.size();
  rotational_ = rows == 1;
  periodic_ = type_ == PhotometricType::kC;
  hor_.assign(g.hor_rad.begin(), g.hor_rad.end());
  ver_.assign(g.ver_rad.begin(), g.ver_rad.end());
  value_.assign(g.candela.begin(), g.candela.end());
  slope_.assign(value_.size(), 0.0f);
  for (std::size_t h = 0; h < rows; ++h) {
    const auto chord = [&](std::size_t v) {
      return (g.at(h, v + 1) - g.at(h, v)) / (g.ver_rad[v + 1] - g.ver_rad[v]);
    };
    for (std::size_t v = 0; v < n; ++v) {
      double m = 0;
      if (v > 0 && v + 1 < n) {
        m = monotone_slope(g.ver_rad[v] - g.ver_rad[v - 1],
                           chord(v - 1),
                           g.ver_rad[v + 1] - g.ver_rad[v],
                           chord(v));
      } else if (periodic_ && ((v == 0 && g.ver_rad[0] < kAngleEpsilon) ||
                               (v + 1 == n && g.ver_rad[v] > kPiD - kAngleEpsilon))) {
        // Over the pole the opposite half plane goes on, where one is measured; a lone plane turns
        // there.
        const double across = g.hor_rad[h] + (g.hor_rad[h] < kPiD ? kPiD : -kPiD);
        for (std::size_t o = 0; !rotational_ && o < rows; ++o) {
          if (std::abs(g.hor_rad[o] - across) < kAngleEpsilon) {
            const double width =
                v == 0 ? g.ver_rad[1] - g.ver_rad[0] : g.ver_rad[v] - g.ver_rad[v - 1];
            const double other = v == 0 ? g.at(o, 1) : g.at(o, v - 1);
            const double inward =
                v == 0 ? (g.at(h, 0) - other) / width : (other - g.at(h, v)) / width;
            m = v == 0 ? monotone_slope(width, inward, width, chord(0))
                       : monotone_slope(width, chord(v - 1), width, inward);
          }
        }
      } else {
        m = v == 0 ? chord(0) : chord(v - 1);
      }
      slope_[h * n + v] = static_cast<float>(m);
    }
  }
  peak_ = *std::max_element(g.candela.begin(), g.candela.end());
  on_axis_ = intensity(Vec3::UnitZ());

  // Cells of the table, or of the circle that a rotational one stands for.
  constexpr double kX[4] = {
      0.1834346424956498, 0.5255324099163290, 0.7966664774136267, 0.9602898564975363};
  constexpr double kW[4] = {
      0.3626837833783620, 0.3137066458778873, 0.2223810344533745, 0.1012285362903763};
  const auto over_ver = [&](double hor, bool front_only) {
    double sum = 0;
    for (std::size_t v = 0; v + 1 < n; ++v) {
      double a = g.ver_rad[v], b = g.ver_rad[v + 1];
      if (front_only && type_ == PhotometricType::kC) {
        a = std::min(a, kPiD / 2);
        b = std::min(b, kPiD / 2);
      }
      for (int i = 0; i < 8 && b > a; ++i) {
        const double x = (i < 4 ? kX[i] : -kX[i - 4]), w = kW[i % 4];
        const double ver = 0.5 * (a + b) + 0.5 * (b - a) * x;
        const double measure = type_ == PhotometricType::kC   ? std::sin(ver)
                               : type_ == PhotometricType::kA ? std::cos(ver)
                                                              : std::cos(hor);
        sum += 0.5 * (b - a) * w * measure *
               interpolated(static_cast<float>(hor), static_cast<float>(ver));
      }
    }
    return sum;
  };
  for (const bool front : {false, true}) {
    double& total = front ? flux_in_front_ : flux_;
    if (rotational_) {
      total = 2 * kPiD * over_ver(0, front);
      continue;
    }
    for (std::size_t h = 0; h + (periodic_ ? 0 : 1) < rows; ++h) {
      const double a = g.hor_rad[h], b = h + 1 < rows ? g.hor_rad[h + 1] : g.hor_rad[0] + 2 * kPiD;
      for (int i = 0; i < 8; ++i) {
        const double x = (i < 4 ? kX[i] : -kX[i - 4]), w = kW[i % 4];
        total += 0.5 * (b - a) * w * over_ver(0.5 * (a + b) + 0.5 * (b - a) * x, front);
      }
    }
  }
  if (type_ != PhotometricType::kC) {
    flux_in_front_ = flux_;  // both angles stay within a quarter turn
  }
}

float LuminousDistribution::along(std::size_t h, std::size_t v, float t) const {
  const std::size_t i = h * ver_.size() + v;
  return hermite(value_[i], slope_[i], value_[i + 1], slope_[i + 1], ver_[v + 1] - ver_[v], t);
}

float LuminousDistribution::interpolated(float hor, float ver) const {
  constexpr float kSlack = 1e-5f;  // a rounding outside the table is still on its edge
  if (ver < ver_.front() - kSlack || ver > ver_.back() + kSlack) {
    return 0;
  }
  const auto above = std::upper_bound(ver_.begin() + 1, ver_.end() - 1, ver);
  const auto v = static_cast<std::size_t>(above - ver_.begin()) - 1;
  const float t = std::clamp((ver - ver_[v]) / (ver_[v + 1] - ver_[v]), 0.0f, 1.0f);
  if (rotational_) {
    return std::max(0.0f, along(0, v, t));
  }
  const std::size_t rows = hor_.size();
  constexpr float kTurn = 2 * kPi;
  std::size_t h1, h2;
  float a1, a2;  // the angles on both sides
  if (periodic_) {
    const auto next = std::upper_bound(hor_.begin(), hor_.end(), hor);
    h2 = next == hor_.end() ? 0 : static_cast<std::size_t>(next - hor_.begin());
    h1 = next == hor_.begin() ? rows - 1 : static_cast<std::size_t>(next - hor_.begin()) - 1;
    a1 = hor_[h1] - (next == hor_.begin() ? kTurn : 0.0f);
    a2 = hor_[h2] + (next == hor_.end() ? kTurn : 0.0f);
  } else {
    if (hor < hor_.front() - kSlack || hor > hor_.back() + kSlack) {
      return 0;
    }
    const auto next = std::upper_bound(hor_.begin() + 1, hor_.end() - 1, hor);
    h2 = static_cast<std::size_t>(next - hor_.begin());
    h1 = h2 - 1;
    a1 = hor_[h1];
    a2 = hor_[h2];
  }
  const float width = a2 - a1, u = std::clamp((hor - a1) / width, 0.0f, 1.0f);
  const float y1 = along(h1, v, t), y2 = along(h2, v, t), s = (y2 - y1) / width;
  float m1 = s, m2 = s;
  if (periodic_ || h1 > 0) {
    const std::size_t h0 = h1 > 0 ? h1 - 1 : rows - 1;
    const float w0 = hor_[h1] - hor_[h0] + (h1 > 0 ? 0.0f : kTurn);
    m1 = monotone_slope(w0, (y1 - along(h0, v, t)) / w0, width, s);
  }
  if (periodic_ || h2 + 1 < rows) {
    const std::size_t h3 = h2 + 1 < rows ? h2 + 1 : 0;
    const float w2 = hor_[h3] - hor_[h2] + (h2 + 1 < rows ? 0.0f : kTurn);
    m2 = monotone_slope(width, s, w2, (along(h3, v, t) - y2) / w2);
  }
  return std::max(0.0f, hermite(y1, m1, y2, m2, width, u));
}

float LuminousDistribution::intensity(const Vec3& d) const {
  switch (type_) {
    case PhotometricType::kC: {
      const float ver = std::atan2(std::hypot(d.x(), d.y()), d.z());
      if (rotational_) {
        return interpolated(0, ver);
      }
      const float c = std::atan2(d.y(), d.x());
      return interpolated(c < 0 ? c + 2 * kPi : c, ver);
    }
    case PhotometricType::kB:
      return interpolated(std::asin(std::clamp(d.x(), -1.0f, 1.0f)), std::atan2(d.y(), d.z()));
    case PhotometricType::kA:
      return interpolated(std::atan2(d.x(), d.z()), std::asin(std::clamp(d.y(), -1.0f, 1.0f)));
  }
  return 0;
}

double outermost_crossing(const std::vector<double>& angles,
                          const std::vector<double>& values,
                          double level) {
  for (std::size_t i = values.size(); i-- > 0;) {
    if (values[i] >= level) {
      if (i + 1 == values.size()) {
        return angles[i];
      }
      return angles[i] +
             (values[i] - level) / (values[i] - values[i + 1]) * (angles[i + 1] - angles[i]);
    }
  }
  return 0;
}

double LuminousDistribution::outermost_angle(double c_rad, double level) const {
  std::vector<double> angles, values;
  if (type_ == PhotometricType::kC) {
    angles.assign(ver_.begin(), ver_.end());
  } else {  // the table runs along other lines: read it each degree
    for (int i = 0; i <= 180; ++i) {
      angles.push_back(i * kPiD / 180);
    }
  }
  for (const double a : angles) {
    values.push_back(
        intensity(Vec3d(std::sin(a) * std::cos(c_rad), std::sin(a) * std::sin(c_rad), std::cos(a))
                      .cast<float>()));
  }
  return outermost_crossing(angles, values, level);
}

}  // namespace jovilux
