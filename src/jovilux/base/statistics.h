#pragma once

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <vector>

namespace jovilux {

/// Mean and variance of numbers seen one at a time.
/// Source: B. P. Welford, Technometrics 4(3), 1962.
class RunningMoments {
 public:
  void add(double x) {
    ++n_;
    const double d = x - mean_;
    mean_ += d / static_cast<double>(n_);
    m2_ += d * (x - mean_);
  }
  std::int64_t count() const { return n_; }
  double mean() const { return mean_; }
  /// Unbiased; 0 for fewer than two numbers.
  double variance() const { return n_ > 1 ? m2_ / static_cast<double>(n_ - 1) : 0.0; }
  /// Of the mean.
  double standard_error() const {
    return n_ > 0 ? std::sqrt(variance() / static_cast<double>(n_)) : 0.0;
  }

 private:
  std::int64_t n_ = 0;
  double mean_ = 0, m2_ = 0;
};

/// The correlation of the noise of pixels side by side whose samples count by tents that reach one
/// pixel far: of t(x) = 1 - |x|, the integral of t(x) t(x - 1) over that of t(x)^2, (1/6) / (2/3).
/// Pixels at a corner have its square.
inline constexpr double kTentCorrelation = 0.25;

/// The value that a share in [0, 1] of the numbers does not exceed, the lower of two; 0 of none.
template <class T>
T percentile(std::vector<T> values, double share) {
  if (values.empty()) {
    return T(0);
  }
  const auto at =
      values.begin() + static_cast<std::ptrdiff_t>(share * static_cast<double>(values.size() - 1));
  std::nth_element(values.begin(), at, values.end());
  return *at;
}

}  // namespace jovilux
