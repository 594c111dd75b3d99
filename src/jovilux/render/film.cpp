#include "jovilux/render/film.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace jovilux {

Film::Film(int width, int height, int layers, int parts)
    : width_(width), height_(height), layers_(layers), parts_(parts),
      xyz_(pixels() * slots() * 3), batch_(pixels() * kScramblings), guide_(pixels() * kGuides),
      weight_(pixels()), taken_(pixels()), object_(pixels()) {}

double Film::memory_bytes(int width, int height, int layers, int parts) {
  return static_cast<double>(width) * height * (12.0 * layers * parts + 4.0 * (kScramblings + kGuides + 3));
}

Eigen::Vector3f Film::slot_mean(std::size_t pixel, int slot) const {
  const std::uint32_t n = weight_[pixel];
  const float* v = xyz(pixel) + slot * 3;
  return n == 0 ? Eigen::Vector3f(0, 0, 0) : Eigen::Vector3f(v[0], v[1], v[2]) / static_cast<float>(n);
}

float Film::luminance(std::size_t pixel) const {
  float sum = 0;
  for (int b = 0; b < kScramblings; ++b) {
    sum += batch(pixel)[b];
  }
  return weight_[pixel] == 0 ? 0 : sum / static_cast<float>(weight_[pixel]);
}

double variance_of_mean(const float* sums, const std::uint32_t* counts) {
  double n = 0, total = 0;
  for (int b = 0; b < kScramblings; ++b) {
    n += counts[b];
    total += sums[b];
  }
  double scatter = 0, squares = 0;  // of w_b^2 (mean_b - mean)^2, of w_b^2
  int used = 0;
  for (int b = 0; b < kScramblings; ++b) {
    if (counts[b] == 0) {
      continue;
    }
    const double w = counts[b] / n, d = sums[b] / static_cast<double>(counts[b]) - total / n;
    scatter += w * w * d * d;
    squares += w * w;
    ++used;
  }
  return used < 2 ? std::numeric_limits<double>::infinity() : scatter / (1 - squares);
}

float Film::variance(std::size_t pixel) const {
  std::array<std::uint32_t, kScramblings> counts{};
  const std::uint32_t n = weight_[pixel];
  for (std::uint32_t b = 0; b < kScramblings; ++b) {
    counts[b] = n / kScramblings + (b < n % kScramblings ? 1 : 0);
  }
  return static_cast<float>(variance_of_mean(batch(pixel), counts.data()));
}

std::vector<float> noise_of_pixels(const Film& film, double white) {
  std::vector<float> noise(film.pixels());
  const double floor = std::max(kNoiseFloor * white, 1e-12);
  for (std::size_t i = 0; i < noise.size(); ++i) {
    noise[i] = static_cast<float>(std::sqrt(film.variance(i)) / std::max<double>(film.luminance(i), floor));
  }
  return noise;
}

NoiseFigures noise_figures(const Film& film, double white) {
  NoiseFigures out;
  const std::size_t count = film.pixels();
  std::vector<float> noise = noise_of_pixels(film, white), luminance(count);
  const double floor = std::max(kNoiseFloor * white, 1e-12);
  for (std::size_t i = 0; i < count; ++i) {
    luminance[i] = film.luminance(i);
  }
  for (int y = 0; y < film.height(); ++y) {
    for (int x = 0; x < film.width(); ++x) {
      const std::size_t i = film.pixel(x, y);
      if (noise[i] < 0.5f || luminance[i] < floor || !std::isfinite(noise[i])) {
        continue;
      }
      int near = 0, much_darker = 0;
      for (int dy = -1; dy <= 1; ++dy) {
        for (int dx = -1; dx <= 1; ++dx) {
          const int u = x + dx, v = y + dy;
          if ((dx != 0 || dy != 0) && u >= 0 && v >= 0 && u < film.width() && v < film.height()) {
            ++near;
            much_darker += 3 * luminance[film.pixel(u, v)] < luminance[i] ? 1 : 0;
          }
        }
      }
      if (2 * much_darker > near) {
        ++out.fireflies;
      }
    }
  }
  const auto at = [&](double share) {
    const auto k = static_cast<std::size_t>(share * static_cast<double>(count - 1));
    std::nth_element(noise.begin(), noise.begin() + static_cast<std::ptrdiff_t>(k), noise.end());
    return static_cast<double>(noise[k]);
  };
  out.median = at(0.5);
  out.p95 = at(0.95);
  return out;
}

}  // namespace jovilux
