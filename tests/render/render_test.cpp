#include "jovilux/base/sampler.h"
#include "jovilux/base/statistics.h"
#include "jovilux/judge/metering.h"
#include "jovilux/render/renderer.h"
#include "jovilux/render/view.h"
#include "jovilux/transport/camera.h"

#include <Eigen/Dense>
#include <limits>

#include "tests/support/rigs.h"
#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

const std::string kRoom = R"(
[[camera]]
name = "c"
at = [0, -2, 1]
look_at = [0, 0, 0.5]
[[object]]
name = "floor"
shape = { kind = "plane" }
[[object]]
name = "ball"
shape = { kind = "sphere", radius = 0.4 }
at = [0, 0, 0.4]
material = "g"
[[material]]
name = "g"
kind = "gloss"
color = [0.3, 0.5, 0.2]
[[light]]
name = "a"
kind = "disk"
at = [1, 0, 2]
aim = [0, 0, 0]
radius = 0.2
output = "500 lm"
white = "2700 K"
[[light]]
name = "b"
kind = "point"
at = [-1, -1, 1]
output = "200 lm"
[[light]]
name = "dark"
kind = "sphere"
at = [2, 2, 2]
radius = 0.1
output = "100 lm"
on = false
[render]
size = [40, 24]
samples = 16
)";

Render render_of(const Rig& rig, int threads = 0) {
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  RenderOptions options;
  options.threads = threads;
  return render(rig, *scene, options);
}

// Luminance at a point of a surface, averaged over independent scramblings: the mean over the whole
// small picture.
RunningMoments mean_luminance(Rig rig, int seeds = kScramblingsTested) {
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  RunningMoments m;
  for (int s = 0; s < seeds; ++s) {
    rig.render.seed = static_cast<std::uint32_t>(1000 + s);
    m.add(render(rig, *scene, {}).stats.mean_luminance);
  }
  return m;
}

}  // namespace

TEST_CASE("a picture is the same bits for 1, 2 and 3 threads", "[render]") {
  const Rig rig = rig_of(kRoom);
  const Render one = render_of(rig, 1);
  for (const int threads : {2, 3}) {
    const Render other = render_of(rig, threads);
    bool same = true;
    for (std::size_t i = 0; i < one.film().pixels(); ++i) {
      for (int k = 0; k < one.film().slots() * 3 * kHalves; ++k) {
        same = same && one.film().xyz(i)[k] == other.film().xyz(i)[k];
      }
      same = same && one.film().batch_variance(i) == other.film().batch_variance(i);
    }
    CHECK(same);
    CHECK(one.stats.lights[0].noise == other.stats.lights[0].noise);
    CHECK(one.stats.rays.shadow == other.stats.rays.shadow);
  }
}

TEST_CASE("each light has its layer, dark ones have none, and the layers make the whole",
          "[render]") {
  const Render r = render_of(rig_of(kRoom));
  CHECK(r.film().layers() == 2);
  REQUIRE(r.stats.lights.size() == 3);
  CHECK(r.stats.lights[2].mean_luminance == 0);
  double shares = 0;
  for (const auto& l : r.stats.lights) {
    shares += l.share;
  }
  CHECK(shares == Approx(1).epsilon(1e-5));
  for (std::size_t i = 0; i < r.film().pixels(); i += 37) {
    CHECK(r.film().slot_mean(i, 0).y() + r.film().slot_mean(i, 1).y() ==
          Approx(r.film().luminance(i)).epsilon(1e-5).margin(1e-9));
  }
}

TEST_CASE("a film tells what shows lights: a lamp, its images in a mirror ball and through a pane",
          "[render]") {
  const auto picture_of = [](const std::string& floor_color) {
    return render_of(rig_of(R"(
[[camera]]
name = "c"
at = [0, -3, 1]
look_at = [0, 0, 0.8]
[[material]]
name = "ground"
kind = "diffuse"
color = )" + floor_color + R"(
[[material]]
name = "chrome"
kind = "metal"
color = [0.9, 0.9, 0.9]
roughness = 0
[[material]]
name = "pane"
kind = "glass"
thin = true
[[object]]
name = "floor"
shape = { kind = "plane" }
material = "ground"
[[object]]
name = "ball"
shape = { kind = "sphere", radius = 0.4 }
at = [0.6, 0, 1]
material = "chrome"
[[object]]
name = "window"
shape = { kind = "rect", size = [6, 6] }
at = [0, -2, 1]
rotate = [90, 0, 0]
material = "pane"
[[light]]
name = "lamp"
kind = "sphere"
at = [-0.6, 0, 1.2]
radius = 0.15
output = "500 lm"
[render]
size = [64, 40]
samples = 32
bounces = 3
)"));
  };
  // Over a black floor nothing else shines: no path is rough. Some of the images take an unlikely
  // reflection by the pane.
  const Render black = picture_of("[0, 0, 0]");
  double seen = 0, all = 0;
  for (std::size_t i = 0; i < black.film().pixels(); ++i) {
    seen += static_cast<double>(black.film().seen(i));
    all += static_cast<double>(black.film().luminance(i));
  }
  CHECK(seen == Approx(all).epsilon(0.02));
  // A white floor is lit by the lamp, and shows none.
  const Render white = picture_of("[0.8, 0.8, 0.8]");
  const std::size_t on_floor = white.film().pixel(20, 36);
  CHECK(white.film().luminance(on_floor) > 1);
  CHECK(white.film().seen(on_floor) < 0.02f * white.film().luminance(on_floor));
}

TEST_CASE("parts divide a light's layer into direct and bounced light", "[render]") {
  Rig rig = rig_of(kRoom);
  rig.render.layers = RenderSpec::Layers::kLightsAndParts;
  const Render parts = render_of(rig);
  rig.render.layers = RenderSpec::Layers::kLights;
  const Render whole = render_of(rig);
  double direct = 0, bounce = 0, all = 0;
  for (std::size_t i = 0; i < parts.film().pixels(); ++i) {
    direct += parts.film().slot_mean(i, 0).y();
    bounce += parts.film().slot_mean(i, static_cast<int>(Part::kBounce)).y() +
              parts.film().slot_mean(i, static_cast<int>(Part::kCaustic)).y();
    all += whole.film().slot_mean(i, 0).y();
  }
  // Parts and the whole each take their own mixture of samples (SharedSamples).
  CHECK(direct + bounce == Approx(all).epsilon(1e-3));
  CHECK(bounce > 0.02 * all);
  rig.render.layers = RenderSpec::Layers::kLightsAndParts;
  rig.render.bounces = 1;
  const Render only_direct = render_of(rig);
  double left = 0;
  for (std::size_t i = 0; i < only_direct.film().pixels(); ++i) {
    left += only_direct.film().slot_mean(i, 1).y() + only_direct.film().slot_mean(i, 2).y();
  }
  CHECK(left == 0);
}

TEST_CASE("errors differ from pixel to pixel and cancel over a few", "[render][statistical]") {
  // A soft shadow over the whole picture. Of independent errors, a mean of 4 x 4 would keep a
  // quarter.
  Rig rig = rig_of(R"(
[[camera]]
name = "c"
at = [-0.5, -1.2, 1]
look_at = [0, 0, 0]
field_of_view = 25
[[object]]
name = "floor"
shape = { kind = "plane" }
[[object]]
name = "card"
shape = { kind = "rect", size = [0.8, 0.8] }
at = [0.4, 0.3, 1.3]
[[light]]
name = "panel"
kind = "rect"
size = [1.5, 1.5]
at = [0, 0, 2.5]
toward = [0, 0, -1]
output = "900 lm"
[render]
size = [64, 64]
samples = 1024
bounces = 1
)");
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const Render exact = render(rig, *scene, {});
  for (const int samples : {8, 16, 32}) {
    rig.render.samples = samples;
    rig.render.seed = 77;
    const Render r = render(rig, *scene, {});
    const auto error = [&](int x, int y) {
      return r.film().luminance(r.film().pixel(x, y)) / exact.stats.mean_luminance -
             exact.film().luminance(exact.film().pixel(x, y)) / exact.stats.mean_luminance;
    };
    double alone = 0, together = 0;
    for (int y = 0; y < 64; y += 4) {
      for (int x = 0; x < 64; x += 4) {
        double sum = 0;
        for (int k = 0; k < 16; ++k) {
          const double e = error(x + k % 4, y + k / 4);
          sum += e / 16;
          alone += e * e;
        }
        together += sum * sum;
      }
    }
    const double kept = std::sqrt((together / 256) / (alone / 4096));
    INFO(samples << " samples: " << kept << " of " << std::sqrt(alone / 4096));
    CHECK(kept < 0.2);
    CHECK(alone > 0);
  }
}

TEST_CASE("the stated standard error is the spread over seeds", "[render][statistical]") {
  Rig rig = rig_of(kRoom);
  rig.render.width = 12;
  rig.render.height = 8;
  const auto scene = prepare_scene(rig);
  constexpr int kSeeds = 80;  // 8 % of each pixel's spread, 1 % of all
  std::vector<RunningMoments> pixel(static_cast<std::size_t>(rig.render.width) * rig.render.height);
  std::vector<double> stated(pixel.size());
  for (int s = 0; s < kSeeds; ++s) {
    rig.render.seed = static_cast<std::uint32_t>(s);
    const Render r = render(rig, *scene, {});
    const FilmVariance variance = film_variance(r.film());
    for (std::size_t i = 0; i < pixel.size(); ++i) {
      pixel[i].add(r.film().luminance(i));
      stated[i] += variance.whole[i] / kSeeds;
    }
  }
  double seen = 0, said = 0;
  for (std::size_t i = 0; i < pixel.size(); ++i) {
    seen += pixel[i].variance();
    said += stated[i];
  }
  CHECK(std::sqrt(said / seen) == Approx(1).margin(0.1));
}

TEST_CASE("renders stop when they are clean, out of time or told to", "[render]") {
  Rig rig = rig_of(kRoom);
  rig.render.samples = 4096;
  rig.render.noise = 0.2;
  const Render clean = render_of(rig);
  CHECK(clean.stats.stopped_by == StoppedBy::kNoise);
  CHECK(clean.stats.noise.p95 <= 0.2);
  CHECK(clean.stats.samples_per_pixel < 4096);

  rig.render.noise.reset();
  rig.render.samples = 1 << 18;
  const auto scene = prepare_scene(rig);
  RenderOptions timed;
  timed.time_limit = 0.3;
  const Render late = render(rig, *scene, timed);
  CHECK(late.stats.stopped_by == StoppedBy::kTime);
  CHECK(late.stats.wall_s < 3);
  CHECK(late.stats.samples_per_pixel > 0);
  CHECK(late.stats.mean_luminance == Approx(clean.stats.mean_luminance).epsilon(0.1));

  RenderOptions told;
  int asked = 0;
  told.stop = [&] { return ++asked > 100; };
  told.threads = 1;
  CHECK(render(rig, *scene, told).stats.stopped_by == StoppedBy::kSignal);
}

TEST_CASE("one sample has no known error, two have one", "[render]") {
  Film film(1, 1, 1, 1);
  film.weight(0) = 1;
  film.batch(0)[0] = 5;
  CHECK(std::isinf(film_variance(film).whole[0]));
  film.weight(0) = 2;
  film.batch(0)[1] = 7;
  CHECK(film.luminance(0) == 6);
  CHECK(film_variance(film).whole[0] == Approx(1));  // ((5 - 6)^2 + (7 - 6)^2) / (2 * 1)
}

TEST_CASE("samples go to the batches in equal runs, each in its half", "[render]") {
  // Passes of whole multiples of the batches, and what is left in the last one; from any beginning.
  for (const int last : {0, 1, 5, 7, 13}) {
    std::array<int, kBatches> counts{};
    int begin = 0;
    for (const int count : {8, 16, 3, 40, last, 24}) {
      int before = 0;  // the batch that the half's sample before this one went to
      for (int i = begin; i < begin + count; ++i) {
        const int b = batch_of(i, begin, count);
        REQUIRE(b % kHalves == i % kHalves);
        ++counts[static_cast<std::size_t>(b)];
        const bool whole = count % kBatches == 0;
        CHECK((!whole || i % kHalves != 0 || b >= before));
        before = i % kHalves == 0 ? b : before;
      }
      begin += count;
    }
    for (int b = 0; b < kBatches; ++b) {
      CHECK(counts[static_cast<std::size_t>(b)] == begin / kBatches + (b < begin % kBatches));
    }
  }
}

TEST_CASE("a film's variance is the true one whether batches tell it or only halves do",
          "[render][statistical]") {
  // Of each batch a normal error; then `even` of it is taken away within each half, as where the
  // half is spread more evenly than its batches.
  Rng rng(5);
  const auto normal = [&] {
    const double r = std::sqrt(-2 * std::log(1 - rng.uniform()));
    return r * std::cos(2 * kPiD * rng.uniform());
  };
  for (const double even : {0.0, 0.5, 0.9}) {
    Film film(64, 48, 1, 1);
    RunningMoments mean;
    double told = 0, batches = 0;
    for (std::size_t i = 0; i < film.pixels(); ++i) {
      film.weight(i) = 8;
      std::array<double, kBatches> error{};
      std::array<double, kHalves> of_half{};
      for (std::size_t b = 0; b < kBatches; ++b) {
        error[b] = normal();
        of_half[b % kHalves] += error[b] / (kBatches / kHalves);
      }
      for (std::size_t b = 0; b < kBatches; ++b) {
        film.batch(i)[b] = static_cast<float>(10 + error[b] - even * of_half[b % kHalves]);
      }
      mean.add(static_cast<double>(film.luminance(i)));
    }
    const FilmVariance variance = film_variance(film);
    for (std::size_t i = 0; i < film.pixels(); ++i) {
      told += static_cast<double>(variance.whole[i]) / static_cast<double>(film.pixels());
      batches += static_cast<double>(film.batch_variance(i)) / static_cast<double>(film.pixels());
    }
    INFO(even);
    const double truth = (1 - even) * (1 - even) / kBatches;
    CHECK(mean.variance() == Approx(truth).epsilon(0.1));
    CHECK(told == Approx(truth).epsilon(0.1));
    CHECK(batches == Approx(1.0 / kBatches).epsilon(0.05));  // an upper bound only
  }
}

TEST_CASE("noise is the error over the larger of luminance and 2 % of white", "[render]") {
  Film film(10, 10, 1, 1);
  for (std::size_t i = 0; i < 100; ++i) {
    film.weight(i) = 8;
    const float level = i < 50 ? 100.0f : 0.01f;
    for (int b = 0; b < kBatches; ++b) {
      film.batch(i)[b] = level * ((b % kHalves == 0) == (b / kHalves < 3) ? 1.1f : 0.9f);
    }
  }
  // Means of the halves 1.05 and 0.95, whose difference tells a standard error of 0.05; batches
  // alone would tell the square root of (0.01 / 4) / 2, 0.035.
  const double error = 0.05;
  CHECK(noise_figures(film, 1000).p95 == Approx(error).epsilon(0.01));
  CHECK(noise_figures(film, 1000).median < 1e-3);  // dark ones are measured against 20 cd/m2
  CHECK(noise_figures(film, 1000).fireflies == 0);
  film.batch(34)[2] = 50'000;
  CHECK(noise_figures(film, 1000).fireflies == 1);
}

TEST_CASE("in a closed sphere of albedo 0.8 the luminance is that of the integrating sphere",
          "[render][statistical]") {
  // truths.json: 2000 lm, radius 1.7 m, albedo 0.8, 70.118 cd/m2 with all bounces
  const Rig rig = rig_of(R"(
[[camera]]
name = "c"
at = [0.5, 0.2, -0.3]
look_at = [1, 1, 0.4]
[[material]]
name = "m"
kind = "diffuse"
color = [0.8, 0.8, 0.8]
[[object]]
name = "shell"
shape = { kind = "sphere", radius = 1.7 }
material = "m"
[[light]]
name = "p"
kind = "point"
at = [0, 0, 0]
output = "2000 lm"
[render]
size = [16, 16]
samples = 16
bounces = 64
)");
  const double exact = 70.11846618846909;
  const RunningMoments m = mean_luminance(rig);
  const ZTest z = z_test(m, exact, kScramblingBound);
  INFO(m.mean() << " +- " << m.standard_error());
  CHECK(std::abs(z.z) < kScramblingBound);
  CHECK(z.sees < 0.02);
  CHECK(std::abs((1.02 * m.mean() - exact) / m.standard_error()) > kScramblingBound);
}

TEST_CASE("95 of 100 intervals of pixels and meters hold the closed form",
          "[render][statistical]") {
  // The integrating sphere again, of albedo 0.5: Phi rho / (4 pi^2 R^2 (1 - rho)), and on its wall
  // pi / rho times that in lux.
  Rig rig = rig_of(R"(
[[camera]]
name = "c"
at = [0.5, 0.2, -0.3]
look_at = [1, 1, 0.4]
[[material]]
name = "m"
kind = "diffuse"
color = [0.5, 0.5, 0.5]
[[object]]
name = "shell"
shape = { kind = "sphere", radius = 2 }
material = "m"
[[light]]
name = "p"
kind = "point"
at = [0, 0, 0]
output = "2000 lm"
[[meter]]
name = "wall"
kind = "illuminance"
at = [0, 0, -1.99999]
[render]
size = [8, 8]
samples = 128
bounces = 40
)");
  const double luminance = 2000 * 0.5 / (4 * kPiD * kPiD * 4 * 0.5), lux = luminance * kPiD / 0.5;
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  // Student's t at 97.5 %: pixels have 8 scramblings, meters 16.
  constexpr double kPixelTimes = 2.365, kMeterTimes = 2.131;
  constexpr int kSeeds = 200;
  double pixels = 0, held = 0, meters = 0, stated = 0;
  RunningMoments values;
  for (int s = 0; s < kSeeds; ++s) {
    rig.render.seed = static_cast<std::uint32_t>(500 + s);
    const Render r = render(rig, *scene, {});
    const FilmVariance variance = film_variance(r.film());
    for (std::size_t i = 0; i < r.film().pixels(); ++i) {
      ++pixels;
      held +=
          std::abs(r.film().luminance(i) - luminance) <= kPixelTimes * std::sqrt(variance.whole[i])
              ? 1
              : 0;
    }
    MeteringOptions options;
    options.error = 0.05;
    const MeterReading m = read_meters(rig, *scene, options)[0].readings[0];
    meters += std::abs(m.value - lux) <= kMeterTimes * m.standard_error ? 1 : 0;
    values.add(m.value);
    stated += sqr(m.standard_error) / kSeeds;
  }
  INFO(held / pixels << " of pixels, " << meters / kSeeds << " of meters");
  // Where neighbors share samples, a pixel's batches vary less evenly than the interval assumes:
  // measured, 92.8 % of the intervals hold.
  CHECK(held / pixels == Approx(0.95).margin(0.03));
  CHECK(meters / kSeeds == Approx(0.95).margin(0.045));  // three standard deviations of 200 draws
  CHECK(std::sqrt(stated / values.variance()) == Approx(1).margin(0.15));
}

TEST_CASE("bounces count scatterings: n of them leave out the rest of the series",
          "[render][statistical]") {
  const int bounces = GENERATE(1, 2, 3);
  Rig rig = rig_of(R"(
[[camera]]
name = "c"
at = [0.1, 0, 0]
look_at = [1, 0, 0]
[[object]]
name = "shell"
shape = { kind = "sphere", radius = 1 }
[[light]]
name = "p"
kind = "point"
at = [0, 0, 0]
output = "1000 lm"
[render]
size = [8, 8]
samples = 64
)");
  rig.render.bounces = bounces;
  // E = Phi / (4 pi R^2) (1 + rho + rho^2 ...), L = rho E / pi
  double series = 0;
  for (int k = 0; k < bounces; ++k) {
    series += std::pow(0.5, k);
  }
  const double exact = 1000 / (4 * kPiD) * series * 0.5 / kPiD;
  const RunningMoments m = mean_luminance(rig);
  CHECK(std::abs(m.mean() - exact) < kScramblingBound * m.standard_error() + 1e-4 * exact);
  CHECK(m.standard_error() < 2e-3 * exact);
}

TEST_CASE("a diffuse cube agrees with finely patched radiosity", "[render][statistical]") {
  // A unit cube whose ceiling shines (exitance 1000, black to other light), other faces of albedo
  // 0.5. The reference:
  // patches with exact factors between them, solved by iteration, extrapolated to patches of no
  // size.
  const double rho = 0.5;
  const auto floor_mean = [&](int n) {
    const int faces = 6, per = n * n;
    struct Patch {
      Vec3d center, normal;
    };
    std::vector<Patch> patches;
    const Vec3d axes[3] = {Vec3d::UnitX(), Vec3d::UnitY(), Vec3d::UnitZ()};
    for (int f = 0; f < faces; ++f) {
      const Vec3d outward = axes[f / 2] * (f % 2 == 0 ? -1 : 1);
      for (int i = 0; i < n; ++i) {
        for (int j = 0; j < n; ++j) {
          const Vec3d at = 0.5 * outward + ((i + 0.5) / n - 0.5) * axes[(f / 2 + 1) % 3] +
                           ((j + 0.5) / n - 0.5) * axes[(f / 2 + 2) % 3];
          patches.push_back({at, -outward});
        }
      }
    }
    const int count = faces * per;
    Eigen::MatrixXd factor = Eigen::MatrixXd::Zero(count, count);
    for (int i = 0; i < count; ++i) {
      for (int f = 0; f < faces; ++f) {
        if (f == i / per) {
          continue;
        }
        for (int k = 0; k < per; ++k) {
          const Patch& to = patches[f * per + k];
          const Vec3d u = axes[(f / 2 + 1) % 3] / (2.0 * n), v = axes[(f / 2 + 2) % 3] / (2.0 * n);
          const bool flip = u.cross(v).dot(to.normal) < 0;
          factor(i, f * per + k) = rect_illuminance(1 / kPiD,
                                                    to.center,
                                                    flip ? v : u,
                                                    flip ? u : v,
                                                    patches[i].center,
                                                    patches[i].normal);
        }
      }
    }
    Eigen::VectorXd emitted = Eigen::VectorXd::Zero(count),
                    albedo = Eigen::VectorXd::Constant(count, rho);
    for (int k = 0; k < per; ++k) {
      emitted[5 * per + k] = 1000;
      albedo[5 * per + k] = 0;
    }
    Eigen::VectorXd exitance = emitted, incident;
    for (int step = 0; step < 60; ++step) {
      incident = factor * exitance;
      exitance = emitted + albedo.cwiseProduct(incident);
    }
    return incident.segment(4 * per, per).mean();
  };
  const double coarse = floor_mean(6), fine = floor_mean(12);
  const double exact = fine + (fine - coarse) / 3;  // the error falls with the square of the patch
  CHECK(fine == Approx(exact).epsilon(0.01));

  Rig rig = rig_of(R"(
[[camera]]
name = "c"
at = [0, 0, 0]
look_at = [0, 0, -1]
[[object]]
name = "cube"
shape = { kind = "box", size = [1, 1, 1] }
[[light]]
name = "ceiling"
kind = "rect"
at = [0, 0, 0.49999]
toward = [0, 0, -1]
size = [1, 1]
output = "1000 lm"
[render]
bounces = 40
)");
  const auto scene = prepare_scene(rig);
  // Of illuminance: pi times luminance towards cosine-distributed directions from even places.
  RunningMoments m;
  for (std::uint32_t scrambling = 0; scrambling < kScramblingsTested; ++scrambling) {
    double sum = 0;
    constexpr std::uint32_t kRays = 16384;
    for (std::uint32_t i = 0; i < kRays; ++i) {
      const Sampler place(scrambling, 11, i), sampler(scrambling, 12, i);
      const Vec2 at = place.pair(0), u = place.pair(1);
      const float r = std::sqrt(u.x()), phi = 2 * kPi * u.y();
      const Ray ray{{at.x() - 0.5f, at.y() - 0.5f, -0.49999f},
                    Vec3(r * std::cos(phi), r * std::sin(phi), std::sqrt(1 - u.x()))};
      float sums[3] = {}, luminance = 0;
      LightSink sink(sums, &luminance, 1);
      RayCounts counts;
      PathOptions path;
      path.bounces = 40;
      trace_path(*scene, ray, sampler, path, sink, nullptr, counts);
      sum += sink.total();
    }
    m.add(kPiD * sum / kRays);
  }
  INFO(m.mean() << " +- " << m.standard_error() << " against " << exact);
  constexpr double kReference = 2e-3;  // what extrapolation leaves
  CHECK(std::abs(m.mean() - exact) < kScramblingBound * m.standard_error() + kReference * exact);
  CHECK(m.standard_error() < 2e-3 * exact);
  CHECK(std::abs(1.04 * m.mean() - exact) >
        kScramblingBound * m.standard_error() + kReference * exact);
}

TEST_CASE("the film curve is straight below, ends white, and has no corner", "[render][view]") {
  CHECK(film_curve(0.2) == 0.2);
  CHECK(film_curve(-1) == 0);
  CHECK(film_curve(kFilmWhite) == 1);
  CHECK(film_curve(9) == 1);
  const double h = 1e-6;
  CHECK((film_curve(0.4 + h) - film_curve(0.4)) / h == Approx(1).epsilon(1e-3));
  double last = -1;
  for (double x = 0; x < 4; x += 0.01) {
    CHECK(film_curve(x) > last);
    last = film_curve(x);
  }
}

TEST_CASE("a gray card under the camera's own exposure is middle gray, whatever the balance",
          "[render][view]") {
  LookSpec look;
  look.curve = LookSpec::Curve::kLinear;
  const double ev = 9;
  const double L = luminance_at(ev).value;
  const auto gray = View(look, ev).srgb8(Rgb(L, L, L));
  CHECK(static_cast<int>(gray[0]) == 118);  // 18 % in sRGB
  CHECK(View(look, ev).white_luminance() == Approx(L / 0.18));
  CHECK(View(look, ev).clips(Rgb(L, L, L) / 0.17));
  CHECK_FALSE(View(look, ev).clips(Rgb(L, L, L) / 0.19));
  look.white_balance = White{White::Kind::kPlanck, {3200}};
  const Rgb warm = rec709_from_xyz() * tristimulus(planck({3200})) * L;
  const auto balanced = View(look, ev).srgb8(warm);
  CHECK(balanced[0] == balanced[1]);
  CHECK(balanced[1] == balanced[2]);
}

TEST_CASE("camera rays span the angle of view and meet in the plane of focus", "[render][camera]") {
  CameraSpec spec;
  spec.at = {0, 0, 0};
  spec.look_at = {0, 5, 0};
  spec.field_of_view = degrees(60).value;
  const Camera pinhole(spec, Vec3d::UnitZ(), 200, 100);
  CHECK((pinhole.ray(100, 50, {0, 0}).direction - Vec3::UnitY()).norm() < 1e-6);
  const Vec3 left = pinhole.ray(0, 50, {0, 0}).direction;
  CHECK(std::acos(left.dot(Vec3::UnitY())) == Approx(degrees(30).value));
  CHECK(left.x() < 0);
  CHECK(pinhole.ray(100, 0, {0, 0}).direction.z() > 0);  // y runs down
  spec.lens = 0.031;
  spec.focus = 4;
  spec.exposure.stop = 2;
  const Camera lens(spec, Vec3d::UnitZ(), 200, 100);
  const Ray a = lens.ray(30, 20, {0.1f, 0.2f}), b = lens.ray(30, 20, {0.9f, 0.7f});
  CHECK((a.at(4 / a.direction.y()) - b.at(4 / b.direction.y())).norm() < 1e-5);
  CHECK((a.origin - b.origin).norm() > 1e-3);
}

TEST_CASE("what is not finite is left out of a pixel and counted, with the place of the first",
          "[render]") {
  std::vector<float> sums(6), luminance(2);
  LightSink sink(sums.data(), luminance.data(), 1);
  constexpr float kNan = std::numeric_limits<float>::quiet_NaN(),
                  kInfinite = std::numeric_limits<float>::infinity();
  sink.add(0, Part::kDirect, {1, 2, 3});
  sink.add(0, Part::kDirect, {kNan, 2, 3});
  sink.add(1, Part::kDirect, {1, kInfinite, 3});
  sink.add(1, Part::kDirect, {0.5f, 0.25f, 0});
  CHECK(sink.not_finite() == 2);
  CHECK(sink.total() == 2.25f);
  CHECK(sums == std::vector<float>{1, 2, 3, 0.5f, 0.25f, 0});
  // Of tiles joined, the first place is kept and all are counted.
  TileTally tile, first, second;
  first.not_finite = {2, 10, 11, 5, 0};
  second.not_finite = {1, 20, 21, 6, 1};
  tile.add(first);
  tile.add(second);
  CHECK(tile.not_finite == std::vector<double>{3, 10, 11, 5, 0});
}

TEST_CASE("a render of a single pass tells each light's share of the noise, and its parts'",
          "[render]") {
  const std::string lamp = "[[light]]\nkind='sphere'\nradius=0.2\n";
  Rig rig = rig_of(
      "[[camera]]\nname='c'\nat=[0,-3,1.5]\nlook_at=[0,0,0]\n[[object]]\nname='floor'\n"
      "shape={kind='plane'}\n[[object]]\nname='box'\nshape={kind='box',size=[0.5,0.5,0.5]}\n" +
      lamp + "name='a'\nat=[1,0,1]\noutput='900 lm'\n" + lamp +
      "name='b'\nat=[-1,0.5,1]\noutput='100 lm'\n[render]\nsize=[40,24]\nsamples=8\n"
      "layers='lights+parts'\n");
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  for (const int samples : {4, 8, 24}) {
    rig.render.samples = samples;
    const Render r = render(rig, *scene, {});
    double all = 0;
    for (const RenderStats::Light& light : r.stats.lights) {
      INFO(samples << " samples, " << light.name);
      REQUIRE(std::isfinite(light.noise_share));
      CHECK(light.noise_share > 0);
      all += light.noise_share;
      REQUIRE(light.part_shares.size() == 3);  // no haze
      double parts = 0;
      for (const double share : light.part_shares) {
        REQUIRE(std::isfinite(share));
        parts += share;
      }
      CHECK(parts > 0.5 * light.noise_share);
    }
    CHECK(all == Approx(1));
  }
}
