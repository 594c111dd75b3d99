#include "jovilux/base/box_sums.h"

#include "jovilux/base/parallel.h"

#include <algorithm>
#include <cstddef>

namespace jovilux {

void box_sums(int width, int height, int reach, std::vector<float>& values) {
  // Columns and rows apart: 2 (2 reach + 1) additions for each value and not (2 reach + 1)^2.
  std::vector<float> rows(values.size());
  const auto columns = static_cast<std::size_t>(width);
  // Added anew for each pixel: a running sum would carry the rounding of a bright pixel along.
  const auto sum_within = [reach](const float* line, std::size_t stride, int at, int end) {
    float sum = 0;
    for (int k = std::max(0, at - reach); k <= std::min(end - 1, at + reach); ++k) {
      sum += line[static_cast<std::size_t>(k) * stride];
    }
    return sum;
  };
  parallel_for(static_cast<std::size_t>(height), [&](std::size_t y) {
    for (int x = 0; x < width; ++x) {
      rows[y * columns + static_cast<std::size_t>(x)] =
          sum_within(values.data() + y * columns, 1, x, width);
    }
  });
  parallel_for(static_cast<std::size_t>(height), [&](std::size_t y) {
    for (std::size_t x = 0; x < columns; ++x) {
      values[y * columns + x] = sum_within(rows.data() + x, columns, static_cast<int>(y), height);
    }
  });
}

}  // namespace jovilux
