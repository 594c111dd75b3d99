#include "jovilux/render/sample_plan.h"

#include "jovilux/base/sampler.h"
#include "jovilux/render/renderer.h"

#include <numeric>

#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

double sum_of(const std::vector<std::uint32_t>& v) {
  return std::accumulate(v.begin(), v.end(), 0.0);
}

// A noise map of two halves, the right one `times` noisier.
std::vector<float> two_halves(int width, int height, float quiet, float times) {
  std::vector<float> out;
  for (int i = 0; i < width * height; ++i) {
    out.push_back(i % width < width / 2 ? quiet : quiet * times);
  }
  return out;
}

// A soft shadow and a wall lit by bounces: noisy at some places, quiet at the others.
const char* const kUneven = R"(jovilux = 1
[[camera]]
name = "c"
at = [0, -2, 1]
look_at = [0, 0, 0.2]
[[object]]
name = "floor"
shape = { kind = "plane" }
[[object]]
name = "wall"
shape = { kind = "box", size = [0.1, 2, 1] }
at = [0.8, 0, 0.5]
[[light]]
name = "lamp"
kind = "sphere"
radius = 0.15
at = [1.6, 0, 1.2]
output = "500 lm"
[render]
size = [12, 8]
bounces = 2
)";

Rig uneven_rig() {
  auto document = parse_toml(kUneven, "rig.toml");
  REQUIRE(document);
  auto rig = read_rig(std::move(*document), "rig.toml");
  REQUIRE(rig);
  return std::move(*rig);
}

}  // namespace

TEST_CASE("samples are shared out in multiples of the scramblings, in proportion to need",
          "[render][adaptive]") {
  const std::vector<float> need = {0, 1, 2, 4, 8, 16, 0.5f, 100};
  for (const double mean : {8.0, 13.0, 64.0, 1000.0}) {
    const auto counts = share_out(need, mean);
    CHECK(std::abs(sum_of(counts) - mean * 8) <= kScramblings);
    for (const auto n : counts) {
      CHECK(n >= kScramblings);
      CHECK(n % kScramblings == 0);
    }
  }
  const auto many = share_out(need, 100000);
  CHECK(many[7] / static_cast<double>(many[5]) == Approx(100.0 / 16).epsilon(1e-3));
  CHECK(many[3] / static_cast<double>(many[2]) == Approx(2).epsilon(1e-2));
  for (const auto n : share_out(std::vector<float>(50, 0.0f), 24)) {
    CHECK(n == 24);  // nothing is noisy: alike
  }
  CHECK(share_out({}, 16).empty());
}

TEST_CASE(
    "the need is the variance of a sample, whatever number it was measured with, fireflies are cut "
    "first",
    "[render][adaptive]") {
  constexpr int kWidth = 40, kHeight = 30;
  std::vector<float> noise = two_halves(kWidth, kHeight, 0.01f, 4), samples(noise.size(), 16);
  const auto need = sample_need(kWidth, kHeight, noise, samples);
  CHECK(need[5] == Approx(16 * 1e-4));
  CHECK(need[kWidth - 5] == Approx(16 * 16e-4));
  // The same variance, told with four times the samples in the right half.
  for (std::size_t i = 0; i < noise.size(); ++i) {
    if (i % kWidth >= kWidth / 2) {
      noise[i] /= 2;
      samples[i] *= 4;
    }
  }
  CHECK(sample_need(kWidth, kHeight, noise, samples)[kWidth - 5] == Approx(16 * 16e-4));
  noise[5 * kWidth + 5] = 50;
  noise[6 * kWidth + 6] = std::numeric_limits<float>::infinity();
  CHECK(sample_need(kWidth, kHeight, noise, samples)[5 * kWidth + 6] < 3 * 16 * 1e-4);
  CHECK(sample_need(0, 0, {}, {}).empty());
}

TEST_CASE("what a target takes: even samples follow the noisy half, shared ones the mean",
          "[render][adaptive]") {
  constexpr int kWidth = 200, kHeight = 100;
  const auto noise = two_halves(kWidth, kHeight, 0.02f, 5);
  const std::vector<float> samples(noise.size(), 100);
  const SamplesForTarget s = samples_for_target(kWidth, kHeight, noise, samples, 0.01);
  // (0.1 / 0.01)^2 times as many.
  CHECK(s.even == Approx(100 * 100).epsilon(1e-3));
  CHECK(s.shared == Approx((100 * 100 + 100 * 4) / 2.0).epsilon(0.02));
  CHECK(std::isnan(samples_for_target(0, 0, {}, {}, 0.01).even));
}

TEST_CASE("a picture whose samples went to the noise is unbiased, and its stated error is true",
          "[render][adaptive][statistical]") {
  Rig rig = uneven_rig();
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  rig.render.samples = 20000;
  const Render reference = render(rig, *scene, {});
  rig.render.noise = 0.15;
  constexpr int kSeeds = 200;
  RunningMoments mean, wrong;
  std::vector<RunningMoments> pixel(reference.film().pixels());
  std::vector<double> stated(pixel.size());
  double rounds = 0, spread = 0;
  for (int s = 0; s < kSeeds; ++s) {
    rig.render.seed = static_cast<std::uint32_t>(100 + s);
    rig.render.samples = 4000;
    const Render r = render(rig, *scene, {});
    CHECK(r.stats.stopped_by == StoppedBy::kNoise);
    rounds += static_cast<double>(r.stats.rounds.size()) / kSeeds;
    spread += r.stats.most_samples / r.stats.least_samples / kSeeds;
    mean.add(r.stats.mean_luminance);
    double unequal = 0;  // what weighting each pixel by its own samples would do
    for (std::size_t i = 0; i < pixel.size(); ++i) {
      pixel[i].add(r.film().luminance(i));
      stated[i] += r.film().variance(i) / kSeeds;
      unequal += static_cast<double>(r.film().luminance(i)) * r.film().taken(i) /
                 r.stats.samples_per_pixel / static_cast<double>(pixel.size());
    }
    wrong.add(unequal);
  }
  CHECK(rounds > 1.5);
  CHECK(spread > 4);
  const double exact = reference.stats.mean_luminance;
  double known = 0;  // standard error of the reference
  for (std::size_t i = 0; i < pixel.size(); ++i) {
    known += reference.film().variance(i);
  }
  known = std::sqrt(known) / static_cast<double>(pixel.size());
  const double error = std::hypot(mean.standard_error(), known);
  INFO(mean.mean() << " against " << exact << " +- " << error);
  CHECK(std::abs(mean.mean() - exact) < kZBound * error);
  CHECK(error < 0.005 * exact);
  CHECK(std::abs(wrong.mean() - exact) > kZBound * wrong.standard_error());
  // Each pixel on its own as well, and the stated error.
  double seen = 0, said = 0, worst = 0;
  for (std::size_t i = 0; i < pixel.size(); ++i) {
    seen += pixel[i].variance();
    said += stated[i];
    worst = std::max(
        worst,
        std::abs(pixel[i].mean() - reference.film().luminance(i)) /
            std::hypot(pixel[i].standard_error(), std::sqrt(reference.film().variance(i))));
  }
  INFO("spread " << std::sqrt(seen) << ", stated " << std::sqrt(said));
  CHECK(worst < kZBound);
  CHECK(std::sqrt(said / seen) == Approx(1).margin(0.15));
}
