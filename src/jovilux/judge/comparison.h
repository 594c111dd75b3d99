#pragma once

#include <cstdint>
#include <vector>

#include "jovilux/judge/rendered_image.h"

namespace jovilux {

/// How one picture differs from another of the same size.
struct Comparison {
  double mean_stops = 0;       ///< mean of log2(b / a) over pixels that are lit in both
  double p95_stops = 0, max_stops = 0;  ///< of its size
  double delta_e_mean = 0, delta_e_p95 = 0;  ///< CIEDE2000 beside a's white
  double rmse = 0;             ///< of luminance [cd/m2]
  double mean_a = 0, mean_b = 0;  ///< luminance
  double z = 0;                ///< difference of the mean luminances over its standard error; NaN where a picture does not tell
  double beyond_noise = 0;     ///< share of the pixels that differ by more than 3 standard errors; NaN likewise
  std::vector<float> stops;    ///< of each pixel: log2(b / a), limited to +-8; 0 where both are dark
};

/// Compares two pictures of one size. `floor`: luminance below which a pixel counts as dark.
Comparison compare_images(const RenderedImage& a, const RenderedImage& b, double floor);

/// A picture resized to width x height, bilinear between pixel centers.
RenderedImage resized(const RenderedImage& image, int width, int height);

}  // namespace jovilux
