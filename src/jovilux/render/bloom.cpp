#include "jovilux/render/bloom.h"

#include "jovilux/base/assert.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <memory>
#include <numbers>

#include <fftw3.h>

namespace jovilux {

void bloom(std::vector<float>& rgb, int width, int height, double share) {
  const std::size_t pixels = static_cast<std::size_t>(width) * static_cast<std::size_t>(height);
  JOVILUX_ASSERT(rgb.size() == 3 * pixels);
  if (share <= 0) {
    return;
  }
  constexpr std::array<double, 3> kWidths = {0.002, 0.01, 0.05};
  constexpr double kNarrowest = 1.6;  // pixels: a narrower one would ring
  std::vector<float> spread(pixels);
  for (std::size_t y = 0; y < static_cast<std::size_t>(height); ++y) {
    for (std::size_t x = 0; x < static_cast<std::size_t>(width); ++x) {
      // [1/pixel].
      const double f =
          std::hypot(static_cast<double>(x) / (2 * width), static_cast<double>(y) / (2 * height));
      double kept = 0;
      for (const double a : kWidths) {
        kept +=
            std::exp(-2 * std::numbers::pi * std::max(a * width, kNarrowest) * f) / kWidths.size();
      }
      spread[y * static_cast<std::size_t>(width) + x] =
          static_cast<float>(1 - share + share * kept);
    }
  }
  struct Free {
    void operator()(float* p) const { fftwf_free(p); }
  };
  const std::unique_ptr<float[], Free> plane(fftwf_alloc_real(pixels));
  if (plane == nullptr) {
    throw std::bad_alloc();
  }
  // Cosine transforms: the picture mirrored at its edges.
  struct Plan {
    fftwf_plan plan;
    explicit Plan(fftwf_plan p) : plan(p) {}
    ~Plan() { fftwf_destroy_plan(plan); }
    Plan(const Plan&) = delete;
  };
  const Plan forth(fftwf_plan_r2r_2d(
      height, width, plane.get(), plane.get(), FFTW_REDFT10, FFTW_REDFT10, FFTW_ESTIMATE));
  const Plan back(fftwf_plan_r2r_2d(
      height, width, plane.get(), plane.get(), FFTW_REDFT01, FFTW_REDFT01, FFTW_ESTIMATE));
  const float scale = 1 / (4 * static_cast<float>(pixels));
  for (std::size_t c = 0; c < 3; ++c) {
    for (std::size_t i = 0; i < pixels; ++i) {
      plane[i] = rgb[3 * i + c];
    }
    fftwf_execute(forth.plan);
    for (std::size_t i = 0; i < pixels; ++i) {
      plane[i] *= spread[i] * scale;
    }
    fftwf_execute(back.plan);
    for (std::size_t i = 0; i < pixels; ++i) {
      rgb[3 * i + c] = plane[i];
    }
  }
}

}  // namespace jovilux
