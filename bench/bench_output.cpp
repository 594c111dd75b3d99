#include "bench/bench_output.h"

#include <algorithm>
#include <cstdio>

#include <fmt/format.h>

namespace jovilux {

void print_table(const std::vector<std::vector<std::string>>& rows) {
  std::vector<std::size_t> widths(rows.front().size());
  for (const auto& row : rows) {
    for (std::size_t c = 0; c < row.size(); ++c) {
      widths[c] = std::max(widths[c], row[c].size());
    }
  }
  std::string out;
  for (const auto& row : rows) {
    for (std::size_t c = 0; c < row.size(); ++c) {
      out += fmt::format("{:<{}}", row[c], c + 1 < row.size() ? widths[c] + 2 : 0);
    }
    out += '\n';
  }
  std::fputs(out.c_str(), stderr);
}

std::string three_digits(double value) { return fmt::format("{:.3g}", value); }

double seconds_since(std::chrono::steady_clock::time_point start) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

}  // namespace jovilux
