#pragma once

#include "jovilux/base/vec.h"

#include <algorithm>
#include <cmath>
#include <cstddef>
#include <utility>
#include <vector>

namespace jovilux {

/// A picture on a surface: linear Rec.709, rows from the top, repeated in both directions, bilinear
/// between pixels.
class Picture {
 public:
  Picture(int width, int height, std::vector<float> rgb)
      : width_(width), height_(height), rgb_(std::move(rgb)) {}

  /// At a place; the unit square is the picture once, v upwards.
  Vec3 at(const Vec2& uv) const {
    const auto wrapped = [](float x) { return std::isfinite(x) ? x - std::floor(x) : 0.0f; };
    const float x = wrapped(uv.x()) * static_cast<float>(width_) - 0.5f,
                y = (1 - wrapped(uv.y())) * static_cast<float>(height_) - 0.5f;
    const int x0 = static_cast<int>(std::floor(x)), y0 = static_cast<int>(std::floor(y));
    const float u = x - static_cast<float>(x0), v = y - static_cast<float>(y0);
    return (1 - v) * ((1 - u) * pixel(x0, y0) + u * pixel(x0 + 1, y0)) +
           v * ((1 - u) * pixel(x0, y0 + 1) + u * pixel(x0 + 1, y0 + 1));
  }

 private:
  Vec3 pixel(int x, int y) const {
    x = (x % width_ + width_) % width_;
    y = (y % height_ + height_) % height_;
    return Vec3(rgb_.data() + 3 * (static_cast<std::size_t>(y) * static_cast<std::size_t>(width_) +
                                   static_cast<std::size_t>(x)));
  }

  int width_, height_;
  std::vector<float> rgb_;
};

}  // namespace jovilux
