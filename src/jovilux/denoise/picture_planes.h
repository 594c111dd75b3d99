#pragma once

#include "jovilux/base/parallel.h"
#include "jovilux/denoise/denoise_kernels.h"

#include <cstddef>
#include <vector>

namespace jovilux {

/// A value for each pixel, of a function of (x, y), with its border filled.
template <class Fn>
Plane plane_of(int width, int height, const Fn& value) {
  Plane out(width, height);
  parallel_for(static_cast<std::size_t>(height), [&](std::size_t row) {
    const int y = static_cast<int>(row);
    for (int x = 0; x < width; ++x) {
      *out.at(x, y) = value(x, y);
    }
  });
  out.fill_border();
  return out;
}

/// The mean over the (2 radius + 1)^2 pixels around each that lie in the picture.
Plane box_mean(const Plane& of, int radius);
/// Their median.
Plane median(const Plane& of, int reach);
/// Their mean without the brightest eighth: what a few fireflies leave as it is.
Plane trimmed_mean(const Plane& of, int reach);

/// Color c of a pixel of `values` [pixel][3 slots], the sum of the slots, and its luminance.
float color_in(const std::vector<float>& values,
               std::size_t slots,
               std::size_t pixel,
               std::size_t c);
float luminance_in(const std::vector<float>& values, std::size_t slots, std::size_t pixel);

}  // namespace jovilux
