#include "jovilux/photometry/distribution.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/interpolation.h"
#include "jovilux/base/quadrature.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace jovilux {
namespace {

// Photometric files state angles with up to three decimals of a degree (2e-5 rad): angles
// closer than a twentieth of that step are the same line of the table.
constexpr double kAngleEpsilon = 1e-6;
constexpr int kPanelsOfCell = 1;  // of quadrature over a cell of the table

// The table repeated by its symmetry: type C over [0, 2 pi), types A and B over both signs. Files
// state a quarter or a half of a symmetric lamp; interpolation and flux then need no cases for
// symmetry.
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
  // Keyed by angle: mirrored planes come out of order, and two of them may fall on one angle.
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

namespace {

// The slope at a pole of a type C table. The opposite half plane (h + pi) continues this one beyond
// the pole, so that the slope is a central one where that plane is measured. A plane without an
// opposite one has slope 0: a rotational lamp is level on its axis.
double slope_at_pole(const CandelaGrid& g, std::size_t h, bool at_first) {
  const std::size_t rows = g.hor_rad.size(), n = g.ver_rad.size(), last = n - 1;
  const double across = g.hor_rad[h] + (g.hor_rad[h] < kPiD ? kPiD : -kPiD);
  double slope = 0;
  for (std::size_t o = 0; rows > 1 && o < rows; ++o) {
    if (std::abs(g.hor_rad[o] - across) >= kAngleEpsilon) {
      continue;
    }
    const double width =
        at_first ? g.ver_rad[1] - g.ver_rad[0] : g.ver_rad[last] - g.ver_rad[last - 1];
    const double beyond = at_first ? g.at(o, 1) : g.at(o, last - 1);
    const double outward =
        at_first ? (g.at(h, 0) - beyond) / width : (beyond - g.at(h, last)) / width;
    slope = at_first ? monotone_slope(width, outward, width, (g.at(h, 1) - g.at(h, 0)) / width)
                     : monotone_slope(
                           width, (g.at(h, last) - g.at(h, last - 1)) / width, width, outward);
  }
  return slope;
}

// The slope of half plane h at the angle number v of a whole table: monotone cubic interpolation
// (Fritsch and Carlson), which never goes beyond the measured values, so that an interpolated
// intensity is never negative nor above the stated peak.
double slope_at(const CandelaGrid& g, std::size_t h, std::size_t v) {
  const std::size_t n = g.ver_rad.size();
  const auto chord = [&](std::size_t from) {
    return (g.at(h, from + 1) - g.at(h, from)) / (g.ver_rad[from + 1] - g.ver_rad[from]);
  };
  if (v > 0 && v + 1 < n) {
    return monotone_slope(
        g.ver_rad[v] - g.ver_rad[v - 1], chord(v - 1), g.ver_rad[v + 1] - g.ver_rad[v], chord(v));
  }
  const bool at_pole =
      g.type == PhotometricType::kC &&
      (v == 0 ? g.ver_rad[0] < kAngleEpsilon : g.ver_rad[v] > kPiD - kAngleEpsilon);
  return at_pole ? slope_at_pole(g, h, v == 0) : chord(v == 0 ? 0 : v - 1);
}

}  // namespace

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
  slope_.resize(value_.size());
  for (std::size_t h = 0; h < rows; ++h) {
    for (std::size_t v = 0; v < n; ++v) {
      slope_[h * n + v] = static_cast<float>(slope_at(g, h, v));
    }
  }
  peak_ = *std::max_element(g.candela.begin(), g.candela.end());
  on_axis_ = intensity(Vec3::UnitZ());
  flux_ = flux_of(g, false);
  // Of types A and B both angles stay within a quarter turn.
  flux_in_front_ = periodic_ ? flux_of(g, true) : flux_;
}

// The flux of the interpolated table [lm], cell by cell of its angles; a rotational table stands
// for the full circle. The integrand is what a path samples, so that a render's flux is the stated
// one.
double LuminousDistribution::flux_of(const CandelaGrid& g, bool in_front) const {
  if (rotational_) {
    return 2 * kPiD * flux_along(g, 0, in_front);
  }
  const std::size_t rows = g.hor_rad.size();
  double total = 0;
  for (std::size_t h = 0; h + (periodic_ ? 0 : 1) < rows; ++h) {
    const double to = h + 1 < rows ? g.hor_rad[h + 1] : g.hor_rad[0] + 2 * kPiD;
    total += integral(
        [&](double hor) { return flux_along(g, hor, in_front); }, g.hor_rad[h], to, kPanelsOfCell);
  }
  return total;
}

// The flux that leaves through one half plane for each radian of its angle [lm/rad].
double LuminousDistribution::flux_along(const CandelaGrid& g, double hor, bool in_front) const {
  // The element of solid angle is sin(ver) for angles from the pole (type C), cos(ver) for a
  // latitude (type A), and cos(hor) for type B, whose horizontal angle is the latitude.
  const auto sent = [&](double ver) {
    const double measure = type_ == PhotometricType::kC   ? std::sin(ver)
                           : type_ == PhotometricType::kA ? std::cos(ver)
                                                          : std::cos(hor);
    return measure *
           static_cast<double>(interpolated(static_cast<float>(hor), static_cast<float>(ver)));
  };
  const double end = in_front ? kPiD / 2 : HUGE_VAL;
  double sum = 0;
  for (std::size_t v = 0; v + 1 < g.ver_rad.size(); ++v) {
    const double from = std::min(g.ver_rad[v], end), to = std::min(g.ver_rad[v + 1], end);
    sum += to > from ? integral(sent, from, to, kPanelsOfCell) : 0;
  }
  return sum;
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
  // Slopes across half planes come from the neighbors' values at the same vertical angle: a table
  // of them would be as large as the one of slopes along. Types A and B end at their outermost
  // planes, where the chord stands in.
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
  // The light's frame: z is the axis, type C turns about it, B about x, A about y. atan2 keeps the
  // digits of small angles to the axis, where acos(z) of a float is off by up to 3e-4 rad.
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
