#pragma once

#include <string>
#include <vector>

namespace jovilux::cli {

/// One parameter of a sweep with its values, as texts that --set takes.
struct SweptParameter {
  std::string address;
  std::vector<std::string> values;
  /// Of the values, without their units; empty for a list that is not all numbers.
  std::vector<double> numbers;
  std::string unit;  ///< that all numbers have; may be empty
  bool logarithmic = false;
};

/// Reads "ADDRESS = A .. B / N", with "log" behind N for even ratios, or "ADDRESS = V1, V2, ..."; A
/// and B numbers with one unit, N 2..100 (5 where not given). Throws UsageError.
SweptParameter parse_sweep(const std::string& text);

}  // namespace jovilux::cli
