#include "jovilux/denoise/picture_planes.h"

#include "jovilux/color/rgb.h"

#include <algorithm>

namespace jovilux {
namespace {

// The numbers of `of` around (x, y), in the picture, within `reach`.
void gather(const Plane& of, int x, int y, int reach, std::vector<float>& into) {
  into.clear();
  for (int v = std::max(0, y - reach); v <= std::min(of.height() - 1, y + reach); ++v) {
    const float* row = of.at(0, v);
    into.insert(
        into.end(), row + std::max(0, x - reach), row + std::min(of.width() - 1, x + reach) + 1);
  }
}

}  // namespace

Plane median(const Plane& of, int reach) {
  return plane_of(of.width(), of.height(), [&](int x, int y) {
    thread_local std::vector<float> around;
    gather(of, x, y, reach, around);
    const auto middle = around.begin() + static_cast<std::ptrdiff_t>(around.size() / 2);
    std::nth_element(around.begin(), middle, around.end());
    return *middle;
  });
}

Plane trimmed_mean(const Plane& of, int reach) {
  return plane_of(of.width(), of.height(), [&](int x, int y) {
    thread_local std::vector<float> around;
    gather(of, x, y, reach, around);
    const auto kept = around.begin() + static_cast<std::ptrdiff_t>(around.size() * 7 / 8);
    std::nth_element(around.begin(), kept, around.end());
    float sum = 0;
    std::for_each(around.begin(), kept + 1, [&](float v) { sum += v; });
    return sum / static_cast<float>(kept + 1 - around.begin());
  });
}

Plane box_mean(const Plane& of, int radius) {
  const int width = of.width(), height = of.height();
  Plane rows(width, height);
  parallel_for(static_cast<std::size_t>(height), [&](std::size_t row) {
    const int y = static_cast<int>(row);
    for (int x = 0; x < width; ++x) {
      const int first = std::max(0, x - radius), last = std::min(width - 1, x + radius);
      float sum = 0;
      for (int u = first; u <= last; ++u) {
        sum += *of.at(u, y);
      }
      *rows.at(x, y) = sum / static_cast<float>(last - first + 1);
    }
  });
  return plane_of(width, height, [&](int x, int y) {
    const int first = std::max(0, y - radius), last = std::min(height - 1, y + radius);
    float sum = 0;
    for (int v = first; v <= last; ++v) {
      sum += *rows.at(x, v);
    }
    return sum / static_cast<float>(last - first + 1);
  });
}

float color_in(const std::vector<float>& values,
               std::size_t slots,
               std::size_t pixel,
               std::size_t c) {
  float sum = 0;
  for (std::size_t s = 0; s < slots; ++s) {
    sum += values[(pixel * slots + s) * 3 + c];
  }
  return sum;
}

float luminance_in(const std::vector<float>& values, std::size_t slots, std::size_t pixel) {
  return luminance_of(Eigen::Array3f(color_in(values, slots, pixel, 0),
                                     color_in(values, slots, pixel, 1),
                                     color_in(values, slots, pixel, 2)));
}

}  // namespace jovilux
