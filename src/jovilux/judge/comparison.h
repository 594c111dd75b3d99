#pragma once

#include "jovilux/judge/rendered_image.h"

#include <cstdint>
#include <vector>

namespace jovilux {

/// How one picture differs from another of the same size.
struct Comparison {
  double mean_stops = 0;                ///< mean of log2(b / a) over pixels that are lit in either
  double p95_stops = 0, max_stops = 0;  ///< of its size
  double delta_e_mean = 0, delta_e_p95 = 0;  ///< CIEDE2000 beside a's white
  double rmse = 0;                           ///< of luminance [cd/m2]
  double mean_a = 0, mean_b = 0;             ///< luminance
  /// Difference of the mean luminances over its standard error; NaN where a picture does not tell.
  double z = 0;
  /// Share of the pixels that differ by more than 3 standard errors; NaN likewise.
  double beyond_noise = 0;
  /// Of each pixel: log2(b / a), limited to +-8; 0 where both are dark.
  std::vector<float> stops;
};

/// Compares two pictures of one size, all of whose values are finite. `floor` [cd/m2], above 0:
/// below it a pixel counts as dark, and as bright as the floor beside one that is lit.
Comparison compare_images(const RenderedImage& a, const RenderedImage& b, double floor);

/// A picture resized to width x height, bilinear between pixel centers.
RenderedImage resized(const RenderedImage& image, int width, int height);

}  // namespace jovilux
