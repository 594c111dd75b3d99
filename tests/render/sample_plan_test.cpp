#include "jovilux/render/sample_plan.h"

#include "jovilux/base/sampler.h"
#include "jovilux/render/renderer.h"

#include <algorithm>
#include <cmath>
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

double mean_luminance(const Render& r) {
  double sum = 0;
  for (std::size_t i = 0; i < r.film().pixels(); ++i) {
    sum += r.film().luminance(i);
  }
  return sum / static_cast<double>(r.film().pixels());
}

// A render that a time limit has stopped once pixels had different numbers of samples: as short a
// limit as does it, however busy the machine is.
Render stopped_unevenly(const Rig& rig, const Scene& scene) {
  RenderOptions options;
  for (double limit = 0.03;; limit *= 2) {
    options.time_limit = limit;
    Render r = render(rig, scene, options);
    if (r.stats.most_samples > r.stats.least_samples || limit > 20) {
      return r;
    }
  }
}

Rig uneven_rig() {
  auto document = parse_toml(kUneven, "rig.toml");
  REQUIRE(document);
  auto rig = read_rig(std::move(*document), "rig.toml");
  REQUIRE(rig);
  return std::move(*rig);
}

}  // namespace

TEST_CASE("samples are shared out in multiples of the batches, in proportion to need",
          "[render][adaptive]") {
  const std::vector<float> need = {0, 1, 2, 4, 8, 16, 0.5f, 100};
  for (const double mean : {8.0, 13.0, 64.0, 1000.0}) {
    const auto counts = share_out(need, mean);
    CHECK(std::abs(sum_of(counts) - mean * 8) <= kBatches);
    for (const auto n : counts) {
      CHECK(n >= kBatches);
      CHECK(n % kBatches == 0);
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
  rig.render.samples = 12000;
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
    const FilmVariance variance = film_variance(r.film());
    double unequal = 0;  // what weighting each pixel by its own samples would do
    for (std::size_t i = 0; i < pixel.size(); ++i) {
      pixel[i].add(r.film().luminance(i));
      stated[i] += variance.whole[i] / kSeeds;
      unequal += static_cast<double>(r.film().luminance(i)) * r.film().taken(i) /
                 r.stats.samples_per_pixel / static_cast<double>(pixel.size());
    }
    wrong.add(unequal);
  }
  CHECK(rounds > 1.5);
  CHECK(spread > 4);
  const double exact = reference.stats.mean_luminance;
  const FilmVariance variance = film_variance(reference.film());
  double known = 0;  // standard error of the reference
  for (std::size_t i = 0; i < pixel.size(); ++i) {
    known += variance.whole[i];
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
    // A pixel that hardly any light reaches tells no error of its own.
    const double least = 1e-6 * exact;
    worst =
        std::max(worst,
                 std::abs(pixel[i].mean() - reference.film().luminance(i)) /
                     std::hypot(pixel[i].standard_error(), std::sqrt(variance.whole[i]), least));
  }
  INFO("spread " << std::sqrt(seen) << ", stated " << std::sqrt(said));
  CHECK(worst < kZBound);
  CHECK(std::sqrt(said / seen) == Approx(1).margin(0.15));
}

TEST_CASE("more samples go in proportion to the deviation, to nobody who has enough",
          "[render][samples]") {
  const std::vector<float> deviation = {1, 2, 4, 1}, taken = {8, 8, 8, 200};
  const auto more = share_more(deviation, taken, 100);
  CHECK(sum_of(more) == Approx(400).margin(8));
  CHECK(more[3] == 0);
  for (const std::uint32_t n : more) {
    CHECK(n % kBatches == 0);
  }
  // 424 samples in all for the first three, one to two to four.
  CHECK(more[0] + 8 == Approx(424.0 / 7).margin(8));
  CHECK(more[1] + 8 == Approx(2 * 424.0 / 7).margin(8));
  CHECK(more[2] + 8 == Approx(4 * 424.0 / 7).margin(8));
  // Nothing is known: all alike.
  const std::vector<float> none(64, 0.0f), eight(64, 8.0f);
  const auto alike = share_more(none, eight, 16);
  CHECK(*std::min_element(alike.begin(), alike.end()) == 16);
  CHECK(*std::max_element(alike.begin(), alike.end()) == 16);
}

TEST_CASE("a pixel's own noise decides nothing of its samples, and lumps nothing of those beside",
          "[render][samples]") {
  constexpr int kSide = 40;
  const std::vector<float> samples(kSide * kSide, 8.0f);
  // Noise of whole regions is followed: a region four times noisier gets more.
  const auto regions = two_halves(kSide, kSide, 0.1f, 4);
  const auto followed = deviation_around(kSide, kSide, regions, samples);
  CHECK(followed[20 * kSide + 35] > 3 * followed[20 * kSide + 4]);
  // Its own value, however large, is not its own.
  auto one = regions;
  one[20 * kSide + 4] = 0.2f;
  const auto with_one = deviation_around(kSide, kSide, one, samples);
  CHECK(with_one[20 * kSide + 4] == Approx(followed[20 * kSide + 4]).epsilon(0.02));
  CHECK(with_one[20 * kSide + 5] > 1.02 * followed[20 * kSide + 5]);
  // Single bright pixels by chance: no place promises more than another.
  std::vector<float> lumps(kSide * kSide, 0.01f);
  Rng random(5);
  for (int k = 0; k < 40; ++k) {
    lumps[random.next() % lumps.size()] = 3;
  }
  const auto even = deviation_around(kSide, kSide, lumps, samples);
  CHECK(*std::max_element(even.begin(), even.end()) <
        1.6 * *std::min_element(even.begin(), even.end()));
}

TEST_CASE("a time limit shares out samples without a bias, and its error is what it says",
          "[render][samples]") {
  Rig rig = uneven_rig();
  rig.render.guiding = false;
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  rig.render.samples = 4096;
  const Render reference = render(rig, *scene, {});
  rig.render.samples = 100'000;
  RunningMoments means;
  double squares = 0, stated = 0;
  for (int seed = 1; seed <= 24; ++seed) {
    rig.render.seed = static_cast<std::uint32_t>(1000 + seed);
    const Render r = stopped_unevenly(rig, *scene);
    REQUIRE(r.stats.stopped_by == StoppedBy::kTime);
    CHECK(r.stats.most_samples > r.stats.least_samples);
    CHECK(r.stats.least_samples >= kBatches);
    means.add(mean_luminance(r));
    const FilmVariance variance = film_variance(r.film());
    for (std::size_t i = 0; i < r.film().pixels(); ++i) {
      squares += std::pow(r.film().luminance(i) - reference.film().luminance(i), 2);
      stated += variance.whole[i];
    }
    // Each light's noise is told, too.
    CHECK(r.stats.lights.at(0).noise > 0);
    CHECK(r.stats.lights.at(0).noise < 0.5);
  }
  const double exact = mean_luminance(reference);
  INFO(means.mean() << " +- " << means.standard_error() << " against " << exact);
  CHECK(std::abs(means.mean() - exact) < 5 * means.standard_error() + 5e-4 * exact);
  CHECK(std::sqrt(stated / squares) > 0.7);
  CHECK(std::sqrt(stated / squares) < 1.6);
}

TEST_CASE("time enough for all samples gives the picture without a limit, and so does going on",
          "[render][samples]") {
  Rig rig = uneven_rig();
  rig.render.samples = 64;
  rig.render.guiding = false;
  rig.render.light_tracing = false;
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const Render plain = render(rig, *scene, {});
  RenderOptions long_limit;
  long_limit.time_limit = 600;
  const Render limited = render(rig, *scene, long_limit);
  // One that was stopped unevenly, and then goes on without a limit: the same samples.
  rig.render.samples = 8000;
  Render stopped = stopped_unevenly(rig, *scene);
  REQUIRE(stopped.stats.most_samples > stopped.stats.least_samples);
  const Render whole = render_on(rig, *scene, {}, std::move(stopped.state));
  CHECK(whole.stats.least_samples == 8000);
  CHECK(whole.stats.most_samples == 8000);
  for (std::size_t i = 0; i < plain.film().pixels(); ++i) {
    CHECK(limited.film().luminance(i) == plain.film().luminance(i));
  }
}

TEST_CASE("a time limit that allows a few samples leaves all pixels about as many",
          "[render][samples]") {
  Rig rig = uneven_rig();
  rig.render.width = 240;
  rig.render.height = 160;
  rig.render.samples = kBatches;
  rig.render.guiding = false;
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  // Other work on the machine may change the rate that the last pass was planned by.
  constexpr int kTries = 4;
  bool even = false;
  for (int i = 0; i < kTries && !even; ++i) {
    const double whole = render(rig, *scene, {}).stats.wall_s;
    RenderOptions options;
    options.time_limit = 0.6 * whole;
    const RenderStats stats = render(rig, *scene, options).stats;
    INFO(stats.least_samples << " to " << stats.most_samples << " samples");
    even = stats.least_samples >= 2 && stats.most_samples < kBatches;
  }
  CHECK(even);
}
