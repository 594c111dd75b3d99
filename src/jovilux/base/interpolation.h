#pragma once

#include <algorithm>
#include <cmath>
#include <cstddef>
#include <vector>

namespace jovilux {

/// Slope at the middle of three points that keeps a cubic monotone between them: 0 at a turn, else
/// the weighted harmonic mean of the neighboring chords. h: widths of both intervals (> 0), s:
/// slopes of their chords.
/// Source: F. N. Fritsch, J. Butland, "A Method for Constructing Local Monotone Piecewise Cubic
/// Interpolants", SIAM J.
/// Sci. Stat. Comput. 5(2), 1984.
template <class T>
T monotone_slope(T h0, T s0, T h1, T s1) {
  if (s0 * s1 <= T(0)) {
    return T(0);
  }
  const T w0 = 2 * h1 + h0, w1 = h1 + 2 * h0;
  return (w0 + w1) / (w0 / s0 + w1 / s1);
}

/// The cubic through (0, y0) and (h, y1) with slopes m0 and m1, at t in [0, 1] of h.
template <class T>
T hermite(T y0, T m0, T y1, T m1, T h, T t) {
  const T t2 = t * t, t3 = t2 * t;
  return y0 * (2 * t3 - 3 * t2 + 1) + m0 * h * (t3 - 2 * t2 + t) + y1 * (3 * t2 - 2 * t3) +
         m1 * h * (t3 - t2);
}

/// A monotone piecewise cubic through points with increasing x, constant beyond both ends. It has
/// no overshoot: between two points it stays between their values.
class MonotoneCubic {
 public:
  MonotoneCubic() = default;
  /// At least 1 point; x strictly increasing.
  MonotoneCubic(std::vector<double> x, std::vector<double> y)
      : x_(std::move(x)), y_(std::move(y)), m_(x_.size(), 0.0) {
    const auto chord = [&](std::size_t i) { return (y_[i + 1] - y_[i]) / (x_[i + 1] - x_[i]); };
    for (std::size_t i = 1; i + 1 < x_.size(); ++i) {
      m_[i] = monotone_slope(x_[i] - x_[i - 1], chord(i - 1), x_[i + 1] - x_[i], chord(i));
    }
    if (x_.size() > 1) {
      m_.front() = chord(0);
      m_.back() = chord(x_.size() - 2);
      // An end slope of up to three chords keeps monotone; the parabola's, where it does.
      if (x_.size() > 2) {
        m_.front() = end_slope(x_[1] - x_[0], chord(0), x_[2] - x_[1], chord(1));
        m_.back() = end_slope(x_[x_.size() - 1] - x_[x_.size() - 2],
                              chord(x_.size() - 2),
                              x_[x_.size() - 2] - x_[x_.size() - 3],
                              chord(x_.size() - 3));
      }
    }
  }

  double operator()(double x) const {
    if (!(x > x_.front())) {
      return y_.front();
    }
    if (x >= x_.back()) {
      return y_.back();
    }
    const auto i =
        static_cast<std::size_t>(std::upper_bound(x_.begin(), x_.end(), x) - x_.begin()) - 1;
    const double h = x_[i + 1] - x_[i];
    return hermite(y_[i], m_[i], y_[i + 1], m_[i + 1], h, (x - x_[i]) / h);
  }

  const std::vector<double>& x() const { return x_; }
  const std::vector<double>& y() const { return y_; }

 private:
  static double end_slope(double h0, double s0, double h1, double s1) {
    const double m = ((2 * h0 + h1) * s0 - h0 * s1) / (h0 + h1);
    if (m * s0 <= 0) {
      return 0;
    }
    return s0 * s1 <= 0 && std::abs(m) > 3 * std::abs(s0) ? 3 * s0 : m;
  }

  std::vector<double> x_, y_, m_;
};

}  // namespace jovilux
