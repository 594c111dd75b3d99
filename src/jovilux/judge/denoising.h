#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/denoise/denoise.h"

#include <string>
#include <vector>

namespace jovilux {

/// What denoising made of a render, in figures.
struct DenoisingReport {
  int width = 0, height = 0;
  std::size_t layers = 0;  ///< of lights
  double seconds = 0;      ///< without reading and writing
  /// Of the pixels' standard errors, over the larger of their luminance and 2 % of the white.
  double median_before = 0, p95_before = 0, median = 0, p95 = 0;
  std::size_t fireflies = 0;  ///< halves of pixels whose excess was spread
  double spread = 0;          ///< the share of the picture's light that they held
};

/// The traced picture of a render's folder, as two halves with its features, and the names of its
/// slots. A problem where the picture keeps no halves.
struct TracedPicture {
  NoisyPicture picture;
  /// Of each layer its name and its slots; one nameless layer where the render keeps none.
  struct Layer {
    std::string name;
    std::vector<std::string> parts;  ///< empty: the layer is one slot
  };
  std::vector<Layer> layers;
};
Result<TracedPicture> load_traced(const std::string& folder);

/// Writes denoised.exr (the picture, its layers and their parts as in image.exr, which add up to
/// it to the bit; error.V, the expected squared error of its luminance, bias included) and
/// view-denoised.png beside a render's image.exr. Throws MachineTrouble.
Result<DenoisingReport> denoise_render(const std::string& folder);

}  // namespace jovilux
