#pragma once

#include <chrono>
#include <string>
#include <vector>

namespace jovilux {

/// Prints rows to standard error as a table; the first row heads the columns. All rows are as long.
void print_table(const std::vector<std::vector<std::string>>& rows);

/// Three significant digits.
std::string three_digits(double value);

/// Since a time of the steady clock [s].
double seconds_since(std::chrono::steady_clock::time_point start);

/// The least time of `runs` calls [s].
template <typename Work>
double least_seconds(int runs, const Work& work) {
  double best = 1e30;
  for (int run = 0; run < runs; ++run) {
    const auto start = std::chrono::steady_clock::now();
    work();
    const double spent = seconds_since(start);
    best = spent < best ? spent : best;
  }
  return best;
}

}  // namespace jovilux
