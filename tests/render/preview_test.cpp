#include "jovilux/render/preview.h"

#include "jovilux/base/sampler.h"
#include "jovilux/base/statistics.h"

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

// A wall lit evenly, its left half of another color and turned away from its right one; each pixel
// scatters by 30 %.
Film noisy_wall(int width, int height) {
  Film film(width, height, 1, 1);
  Rng rng(4);
  for (std::size_t i = 0; i < film.pixels(); ++i) {
    const bool left = static_cast<int>(i) % width < width / 2;
    const float albedo = left ? 0.2f : 0.6f;
    film.weight(i) = film.taken(i) = 8;
    for (int b = 0; b < kBatches; ++b) {
      const auto y = static_cast<float>(100 * albedo *
                                        (1 + 0.3 * std::sqrt(8 * 12.0) * (rng.uniform() - 0.5)));
      film.batch(i)[b] = y;
      film.xyz(i)[0] += 0.9505f * y;
      film.xyz(i)[1] += y;
      film.xyz(i)[2] += 1.089f * y;
    }
    float* guide = film.guide(i);
    for (int c = 0; c < 3; ++c) {
      guide[c] = 8 * albedo;
    }
    guide[left ? 3 : 4] = 8;
    guide[6] = 8 * 2.0f;
    guide[7] = 8;
  }
  return film;
}

}  // namespace

TEST_CASE("a preview's noise is smoothed, its level and its edges stay", "[render][preview]") {
  constexpr int kWidth = 60, kHeight = 40;
  const Film film = noisy_wall(kWidth, kHeight);
  const std::vector<float> rgb = smoothed(film);
  RunningMoments before[2], after[2];
  for (int y = 0; y < kHeight; ++y) {
    for (int x = 0; x < kWidth; ++x) {
      const std::size_t i = film.pixel(x, y);
      const int side = x < kWidth / 2 ? 0 : 1;
      before[side].add(film.luminance(i));
      after[side].add(rgb[3 * i + 1]);
    }
  }
  for (int side = 0; side < 2; ++side) {
    CHECK(after[side].mean() == Approx(side == 0 ? 20 : 60).epsilon(0.03));
    CHECK(std::sqrt(before[side].variance()) > 0.25 * before[side].mean());
    CHECK(std::sqrt(after[side].variance()) < 0.05 * after[side].mean());
  }
  // Across the edge nothing is mixed.
  for (int y = 0; y < kHeight; ++y) {
    CHECK(rgb[3 * film.pixel(kWidth / 2 - 1, y) + 1] < 30);
    CHECK(rgb[3 * film.pixel(kWidth / 2, y) + 1] > 45);
  }
}

TEST_CASE("haze before the sky is smoothed, a sky without haze stays sharp", "[render][preview]") {
  constexpr int kWidth = 60, kHeight = 40;
  Film film = noisy_wall(kWidth, kHeight);
  for (std::size_t i = 0; i < film.pixels(); ++i) {
    std::fill_n(film.guide(i), Film::kGuides, 0.0f);  // nothing is met
  }
  const std::vector<float> sharp = smoothed(film), hazy = smoothed(film, true);
  RunningMoments before, as_sky, as_haze;
  for (int y = 0; y < kHeight; ++y) {
    for (int x = 4; x < kWidth / 2 - 4; ++x) {
      const std::size_t i = film.pixel(x, y);
      before.add(film.luminance(i));
      as_sky.add(sharp[3 * i + 1]);
      as_haze.add(hazy[3 * i + 1]);
    }
  }
  CHECK(as_sky.variance() == Approx(before.variance()).epsilon(1e-3));
  CHECK(as_haze.mean() == Approx(before.mean()).epsilon(0.03));
  CHECK(as_haze.variance() < 0.1 * before.variance());
}

TEST_CASE("a preview is small, and enlarged without change of level", "[render][preview]") {
  RenderSpec spec;
  spec.width = 1920;
  spec.height = 1080;
  shrink_for_preview(spec);
  CHECK(spec.width == 320);
  CHECK(spec.height == 180);
  spec.width = 10;
  spec.height = 8;
  shrink_for_preview(spec);
  CHECK(spec.width == 10);
  const std::vector<float> ramp = {0, 0, 0, 1, 1, 1, 2, 2, 2, 3, 3, 3};  // 4 x 1
  const auto wide = enlarged(ramp, 4, 1, 8, 2);
  CHECK(wide.size() == 8 * 2 * 3);
  CHECK(wide[3 * 3] == Approx(1.25));
  CHECK(wide[0] == 0);
  CHECK(wide[3 * 7] == 3);
  double sum = 0;
  for (const float v : wide) {
    sum += v;
  }
  CHECK(sum / 48 == Approx(1.5));
  CHECK(enlarged({7, 8, 9}, 1, 1, 3, 3)[26] == 9);
}
