// Samples that count for all pixels whose filter holds them: means, evenness, variance, and what is
// left to own samples.
#include "jovilux/render/shared_samples.h"

#include "jovilux/base/sampler.h"
#include "jovilux/transport/camera.h"

#include <cmath>
#include <functional>
#include <vector>

#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

constexpr int kSide = 16;
constexpr std::size_t kArea = static_cast<std::size_t>(kSide) * kSide;

std::size_t at(int x, int y) { return static_cast<std::size_t>(y * kSide + x); }

// What a sample brings: its film point [pixels], its pixel and its number.
using Light = std::function<float(const Vec2& film, std::size_t pixel, int sample)>;
using Counts = std::function<int(std::size_t pixel)>;

// One pass over a tile with a slot for each light, whose film points are drawn by `rng`.
SharedSamples traced(const Counts& count_of, const std::vector<Light>& lights, Rng& rng) {
  SharedSamples out(kSide, kSide, lights.size());
  for (std::size_t p = 0; p < kArea; ++p) {
    out.set_count(p, 0, count_of(p));
  }
  for (std::size_t p = 0; p < kArea; ++p) {
    const int count = count_of(p);
    for (int s = 0; s < count; ++s) {
      const Vec2 offset = Camera::offset_in_pixel(
          {static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform())});
      const Vec2 film =
          offset + Vec2(static_cast<float>(p % kSide) + 0.5f, static_cast<float>(p / kSide) + 0.5f);
      for (std::size_t slot = 0; slot < lights.size(); ++slot) {
        const float l = lights[slot](film, p, s);
        if (l != 0) {
          for (std::size_t c = 0; c < 3; ++c) {
            out.sample()[3 * slot + c] = l * static_cast<float>(c + 1) / 2;  // Y is l
          }
          out.touched().push_back(static_cast<std::uint32_t>(slot));
        }
      }
      out.add(p, batch_of(s, 0, count), offset);
    }
  }
  out.finish();
  return out;
}

SharedSamples traced(const Counts& count_of, const Light& light, Rng& rng) {
  return traced(count_of, std::vector<Light>{light}, rng);
}

// The mean of a pixel with this many samples.
double mean_of(SharedSamples& samples, std::size_t pixel, int count) {
  const float* const sums = samples.sums(pixel);
  return static_cast<double>(sums[1] + sums[4]) / count;
}

double deviate(Rng& rng) { return std::sqrt(12.0) * (rng.uniform() - 0.5); }

int eight(std::size_t) { return 8; }
// Of a pixel 8 and of its neighbors 24 samples.
int uneven(std::size_t pixel) { return (pixel % kSide + pixel / kSide) % 2 == 0 ? 8 : 24; }

}  // namespace

TEST_CASE("an even picture stays even, whatever the numbers of samples", "[render][shared]") {
  Rng rng(1);
  for (const Counts& counts : {Counts(eight), Counts(uneven)}) {
    SharedSamples s = traced(
        counts, [](const Vec2&, std::size_t, int) { return 3.0f; }, rng);
    for (std::size_t p = 0; p < kArea; ++p) {
      const auto of_half = static_cast<float>(counts(p)) / 2;
      for (std::size_t c = 0; c < 3; ++c) {
        const float expected = 3 * of_half * static_cast<float>(c + 1) / 2;
        CHECK(s.sums(p)[c] == Approx(expected).epsilon(1e-5));
        CHECK(s.sums(p)[3 + c] == Approx(expected).epsilon(1e-5));
      }
      for (int b = 0; b < kBatches; ++b) {
        CHECK(s.batches(p)[b] == Approx(3.0 * counts(p) / kBatches).epsilon(1e-5));
      }
    }
  }
}

TEST_CASE(
    "shared samples have the mean of the tent: an edge with noise, pixels of 8 and 24 samples",
    "[render][shared][statistical]") {
  // Bright from x = 4.8 on: pixel 4, from 3.5 to 5.5, has the tent's part beyond 0.3 right of its
  // center, pixel 3 that beyond 1.3: none; pixel 5 all but what lies beyond 0.7 left of its center.
  constexpr double kEdge = 4.8, kBright = 10, kDark = 1;
  const auto part = [](double to_edge) {  // of the tent, right of that place
    return to_edge > 0 ? (1 - to_edge) * (1 - to_edge) / 2 : 1 - (1 + to_edge) * (1 + to_edge) / 2;
  };
  Rng rng(2);
  for (const Counts& counts : {Counts(eight), Counts(uneven)}) {
    std::array<RunningMoments, 3> means;
    for (int t = 0; t < 3000; ++t) {
      SharedSamples s = traced(
          counts,
          [&](const Vec2& film, std::size_t, int) {
            const double level = static_cast<double>(film.x()) > kEdge ? kBright : kDark;
            return static_cast<float>(level * (1 + 0.5 * deviate(rng)));
          },
          rng);
      for (int k = 0; k < 3; ++k) {
        const std::size_t p = at(3 + k, 5);
        means[static_cast<std::size_t>(k)].add(mean_of(s, p, counts(p)));
      }
    }
    for (int k = 1; k < 3; ++k) {
      const double bright = part(kEdge - (3.5 + k));
      const ZTest z =
          z_test(means[static_cast<std::size_t>(k)], kDark + bright * (kBright - kDark));
      CHECK(std::abs(z.z) < kZBound);
      CHECK(z.sees < 0.05);
    }
    CHECK(std::abs(z_test(means[0], kDark).z) < kZBound);
  }
}

TEST_CASE("of independent samples a shared pixel has the variance of the tent with itself",
          "[render][shared][statistical]") {
  Rng rng(3);
  RunningMoments inner, corner;
  for (int t = 0; t < 3000; ++t) {
    SharedSamples s = traced([](std::size_t) { return 32; },
                             [&](const Vec2&, std::size_t, int) {
                               return static_cast<float>(10 * (1 + 0.3 * deviate(rng)));
                             },
                             rng);
    inner.add(mean_of(s, at(3, 3), 32));
    corner.add(mean_of(s, at(0, 0), 32));
  }
  // Of own samples alone (10 * 0.3)^2 / 32. The mixture is chosen by chance in part.
  const double own = 9.0 / 32;
  CHECK(inner.variance() / own == Approx(4.0 / 9).epsilon(0.15));
  // At a block's corner pixels share on one of two sides.
  CHECK(corner.variance() / own == Approx(25.0 / 36).epsilon(0.15));
  CHECK(std::abs(z_test(inner, 10).z) < kZBound);
}

TEST_CASE("where own samples have no noise they are taken alone", "[render][shared]") {
  // Pixels of different levels whose own samples agree: sharing would only blur the difference.
  Rng rng(4);
  const auto level = [](std::size_t p) { return 1 + static_cast<float>(p % 7); };
  SharedSamples s = traced(
      eight, [&](const Vec2&, std::size_t p, int) { return level(p); }, rng);
  for (std::size_t p = 0; p < kArea; ++p) {
    CHECK(mean_of(s, p, 8) == Approx(level(p)).epsilon(1e-5));
  }
}

TEST_CASE("one sample far too bright stays in its pixel", "[render][shared]") {
  Rng rng(5);
  SharedSamples s = traced(
      [](std::size_t) { return 32; },
      [&](const Vec2&, std::size_t p, int k) {
        return p == at(4, 4) && k == 7 ? 5000.0f : static_cast<float>(1 + 0.05 * deviate(rng));
      },
      rng);
  CHECK(mean_of(s, at(4, 4), 32) > 150);
  for (const std::size_t beside : {at(3, 4), at(5, 4), at(4, 3), at(4, 5), at(5, 5)}) {
    CHECK(mean_of(s, beside, 32) == Approx(1).margin(0.1));
  }
}

TEST_CASE("batches have the light of their pixel, where one slot is shared and another is not",
          "[render][shared]") {
  // A lone sample of the second slot stays in its pixel, while the first, noisy one is shared.
  Rng rng(7);
  const Light noisy = [&](const Vec2&, std::size_t, int) {
    return static_cast<float>(1 + 0.8 * deviate(rng) / std::sqrt(3.0));
  };
  const Light lone = [](const Vec2&, std::size_t p, int k) {
    return p == at(4, 4) && k == 7 ? 5000.0f : 0.001f;
  };
  SharedSamples s = traced([](std::size_t) { return 32; }, {noisy, lone}, rng);
  for (std::size_t p = 0; p < kArea; ++p) {
    for (std::size_t h = 0; h < kHalves; ++h) {
      float sum = 0;
      for (std::size_t b = h; b < kBatches; b += kHalves) {
        sum += s.batches(p)[b];
        CHECK((p == at(4, 4) || s.batches(p)[b] < 12));
      }
      CHECK(sum == Approx(s.sums(p)[h * 6 + 1] + s.sums(p)[h * 6 + 4]).epsilon(1e-4));
    }
  }
}

TEST_CASE("pixels of other blocks get nothing, and of a pixel without samples nobody does",
          "[render][shared]") {
  Rng rng(6);
  const auto counts = [](std::size_t p) { return p == at(3, 3) ? 0 : 16; };
  SharedSamples s = traced(
      counts,
      [&](const Vec2&, std::size_t p, int) {
        const bool left = static_cast<int>(p) % kSide < SharedSamples::kShared;
        return left ? static_cast<float>(5 * (1 + 0.5 * deviate(rng))) : 0.0f;
      },
      rng);
  CHECK(s.sums(at(3, 3))[1] == 0);
  CHECK(s.batches(at(3, 3))[0] == 0);
  for (int y = 0; y < kSide; ++y) {
    CHECK(s.sums(at(SharedSamples::kShared, y))[1] == 0);
  }
  // Batches of a half add up to it.
  for (std::size_t p = 0; p < kArea; ++p) {
    for (std::size_t h = 0; h < kHalves; ++h) {
      float sum = 0;
      for (std::size_t b = h; b < kBatches; b += kHalves) {
        sum += s.batches(p)[b];
      }
      CHECK(sum == Approx(s.sums(p)[h * 3 + 1]).epsilon(1e-4).margin(1e-4));
    }
  }
}
