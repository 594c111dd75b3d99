#pragma once

#include <cmath>

namespace jovilux {

/// The length of (a, b), for inner loops, within two roundings for lengths of 1e-150 to 1e150.
/// std::hypot, which also holds where squares overflow, took 2.7 % of the time of the demo's bench.
inline double length_of(double a, double b) { return std::sqrt(a * a + b * b); }

}  // namespace jovilux
