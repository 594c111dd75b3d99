#pragma once

#include "jovilux/base/statistics.h"

#include <cmath>

namespace jovilux::test {

/// How far a mean lies from an exact value, and how small a bias the comparison would see.
struct ZTest {
  double z = 0;  ///< (mean - exact) / standard error
  /// Relative bias caught about 99 times in 100: the bound plus 3 standard errors.
  double sees = 0;
};

/// Exceeded by chance once in 1.7 million redraws of independent samples.
inline constexpr double kZBound = 5;
/// For the means of 32 independent scramblings (Student's t with 31 degrees of freedom): chance
/// 1e-6.
inline constexpr int kScramblingsTested = 32;
inline constexpr double kScramblingBound = 6;

inline ZTest z_test(const RunningMoments& s, double exact, double bound = kZBound) {
  return {(s.mean() - exact) / s.standard_error(),
          (bound + 3) * s.standard_error() / std::abs(exact)};
}

/// How many standard errors of both `factor` times the mean of `a` is above that of `b`.
/// `b`: moments, or a KnownMean.
template <class Reference>
double difference_in_errors(const RunningMoments& a, const Reference& b, double factor = 1) {
  return (factor * a.mean() - b.mean()) / std::hypot(a.standard_error(), b.standard_error());
}

}  // namespace jovilux::test
