#pragma once

#include "jovilux/base/problem.h"

#include <cstddef>
#include <string>

namespace jovilux {

/// What denoising made of a render, in figures.
struct DenoisingReport {
  int width = 0, height = 0;
  std::size_t layers = 0;  ///< of lights
  double seconds = 0;      ///< without reading and writing
  /// Of the pixels' standard errors, over the larger of their luminance and 2 % of the white.
  double median_before = 0, p95_before = 0, median = 0, p95 = 0;
  std::size_t outliers = 0;  ///< halves of pixels whose excess was spread
  double spread = 0;         ///< the share of the picture's light that they held
};

/// Writes denoised.exr (the picture, its layers and their parts as in image.exr, which add up to
/// it to the bit; error.V, the expected squared error of its luminance, bias included) and
/// view-denoised.png beside a render's image.exr. A problem where that keeps no halves, is denoised
/// already or needs more memory than there is. Throws MachineTrouble.
Result<DenoisingReport> denoise_render(const std::string& folder);

}  // namespace jovilux
