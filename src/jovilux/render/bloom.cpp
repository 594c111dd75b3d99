#include "jovilux/render/bloom.h"

#include "jovilux/base/assert.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <memory>
#include <mutex>
#include <numbers>

#include <fftw3.h>

namespace jovilux {
namespace {

struct Free {
  void operator()(float* p) const { fftwf_free(p); }
};

// A two-dimensional cosine transform in place. The library makes and destroys plans in memory that
// all threads share; only executing them is safe beside others.
class Plan {
 public:
  Plan(float* plane, int width, int height, fftw_r2r_kind kind) {
    const std::lock_guard lock(mutex());
    plan_ = fftwf_plan_r2r_2d(height, width, plane, plane, kind, kind, FFTW_ESTIMATE);
  }
  ~Plan() {
    const std::lock_guard lock(mutex());
    fftwf_destroy_plan(plan_);
  }
  Plan(const Plan&) = delete;
  Plan& operator=(const Plan&) = delete;
  void execute() const { fftwf_execute(plan_); }

 private:
  static std::mutex& mutex() {
    static std::mutex one;
    return one;
  }
  fftwf_plan plan_;
};

}  // namespace

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
  const std::unique_ptr<float[], Free> plane(fftwf_alloc_real(pixels));
  if (plane == nullptr) {
    throw std::bad_alloc();
  }
  // Cosine transforms: the picture mirrored at its edges.
  const Plan forth(plane.get(), width, height, FFTW_REDFT10),
      back(plane.get(), width, height, FFTW_REDFT01);
  const float scale = 1 / (4 * static_cast<float>(pixels));
  for (std::size_t c = 0; c < 3; ++c) {
    for (std::size_t i = 0; i < pixels; ++i) {
      plane[i] = rgb[3 * i + c];
    }
    forth.execute();
    for (std::size_t i = 0; i < pixels; ++i) {
      plane[i] *= spread[i] * scale;
    }
    back.execute();
    for (std::size_t i = 0; i < pixels; ++i) {
      rgb[3 * i + c] = plane[i];
    }
  }
}

}  // namespace jovilux
