#include "jovilux/optics/haze.h"

#include "jovilux/base/statistics.h"

#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

std::shared_ptr<DensityGrid> bumpy_grid(float constant = -1) {
  // 2 x 1 x 1 blocks of 10 cm cells; values rise along x, or are all the same.
  auto grid =
      std::make_shared<DensityGrid>(placement({0.5, -0.4, 0.1}, {0, 0, 0.3}, Vec3d::Constant(0.1)),
                                    std::array<int, 3>{-8, 0, 8},
                                    std::array<int, 3>{2, 1, 1});
  for (int b = 0; b < 2; ++b) {
    std::array<float, 512> values{};
    for (int z = 0; z < 8; ++z) {
      for (int y = 0; y < 8; ++y) {
        for (int x = 0; x < 8; ++x) {
          values[static_cast<std::size_t>((z * 8 + y) * 8 + x)] =
              constant >= 0
                  ? constant
                  : 0.1f * static_cast<float>(x + 8 * b) + 0.2f * static_cast<float>((y * z) % 3);
        }
      }
    }
    grid->set_block({b, 0, 0}, values.data());
  }
  grid->finish();
  return grid;
}

Haze haze(float sigma_t) {
  Haze h;
  h.sigma_t = sigma_t;
  return h;
}

// Uneven in every way that there is.
std::vector<std::pair<std::string, std::vector<Haze>>> uneven() {
  std::vector<std::pair<std::string, std::vector<Haze>>> out;
  Haze clumps = haze(0.7f);
  clumps.density.clumps = HazeDensity::Clumps{0.5f, 0.8f, Vec3(0.1f, 0, 0), 3, true};
  out.push_back({"clumps, bounds of cells", {clumps}});
  clumps.density.clumps->local_bounds = false;
  out.push_back({"clumps, one bound", {clumps}});
  Haze thinning = haze(0.9f);
  thinning.density.scale_height = 0.7f;
  out.push_back({"thinning with height", {thinning}});
  thinning.density.clumps = HazeDensity::Clumps{0.5f, 1.0f, Vec3::Zero(), 5, true};
  out.push_back({"clumps that thin", {thinning}});
  Haze grid = haze(1.5f);
  grid.density.grid = bumpy_grid();
  out.push_back({"a grid", {grid}});
  Haze boxed = clumps;
  boxed.inside = Enclosure(Shape{ShapeKind::kBox, 0.8, 0.8, 0.8},
                           placement({0.3, 0, 0.5}, {0.1, 0.4, 0.2}, Vec3d::Ones()));
  out.push_back({"clumps in a box, in even haze, with a grid", {boxed, haze(0.2f), grid}});
  return out;
}

double exact_depth(const std::vector<Haze>& hazes, const Ray& ray, double end) {
  constexpr int kSteps = 20000;
  double sum = 0;
  for (int i = 0; i < kSteps; ++i) {
    const auto t = static_cast<float>((i + 0.5) / kSteps * end);
    for (const Haze& h : hazes) {
      if (!h.inside || h.inside->contains(ray.at(t).cast<double>())) {
        sum += h.sigma_t * h.density.at(ray.at(t));
      }
    }
  }
  return sum * end / kSteps;
}

const std::vector<Ray> kRays = {{Vec3(-1, 0.1f, 0.9f), Vec3(1, 0.05f, 0.02f).normalized()},
                                {Vec3(1.2f, -0.9f, 2.2f), Vec3(-0.6f, 0.5f, -0.8f).normalized()},
                                {Vec3(0.2f, 0.1f, 0.2f), Vec3(0.1f, 0, 1).normalized()}};

}  // namespace

TEST_CASE("no density exceeds the bounds that tracking relies on", "[optics][haze]") {
  for (const auto& [name, hazes] : uneven()) {
    const HazeDensity& d = hazes.front().density;
    Rng rng(2);
    int stretches = 0;
    double exceeded = 0;
    for (const Ray& ray : kRays) {
      for (float t = 0; t < 4;) {
        float end = 4;
        const float bound = d.bound(ray, t, 4, end);
        REQUIRE(end > t);
        for (int i = 0; i < 20; ++i) {
          exceeded = std::max(
              exceeded,
              static_cast<double>(
                  d.at(ray.at(t + static_cast<float>(rng.uniform()) * (std::min(end, 4.0f) - t))) -
                  bound));
        }
        t = end;
        ++stretches;
      }
    }
    INFO(name << ", " << stretches << " stretches");
    CHECK(exceeded < 1e-4);
  }
}

TEST_CASE(
    "transmittance through uneven haze is right on average, and places lie where light is taken",
    "[optics][haze][statistical]") {
  for (const auto& [name, hazes] : uneven()) {
    for (const Ray& ray : kRays) {
      const float end = 2.5f;
      const HazeAlong along(hazes, ray, end);
      const double exact = std::exp(-exact_depth(hazes, ray, end)),
                   half = std::exp(-exact_depth(hazes, ray, 0.5 * end));
      INFO(name << ": " << exact);
      REQUIRE(along.uneven());
      RunningMoments passed, beyond, before_half;
      Rng rng(17);
      for (int i = 0; i < 40000; ++i) {
        passed.add(along.transmittance(end, rng));
        const float t = along.sample(static_cast<float>(rng.uniform()), rng);
        beyond.add(t >= end ? 1 : 0);
        before_half.add(t < 0.5f * end ? 1 : 0);
      }
      CHECK(std::abs(passed.mean() - exact) < test::kZBound * passed.standard_error() + 1e-4);
      CHECK(std::abs(beyond.mean() - exact) < test::kZBound * beyond.standard_error() + 1e-4);
      CHECK(std::abs(before_half.mean() - (1 - half)) <
            test::kZBound * before_half.standard_error() + 1e-4);
      // A guess, only for weights.
      CHECK(along.likely_transmittance(end) == Approx(exact).margin(0.15));
    }
  }
}

TEST_CASE("clumps keep the mean density, and without depth they are even", "[optics][haze]") {
  Rng rng(4);
  RunningMoments noise;
  for (int i = 0; i < 200000; ++i) {
    const Vec3 p(static_cast<float>(rng.uniform(-100, 100)),
                 static_cast<float>(rng.uniform(-100, 100)),
                 static_cast<float>(rng.uniform(-100, 100)));
    const float n = clump_noise(p, 7);
    REQUIRE(std::abs(n) <= 1);
    noise.add(n);
  }
  CHECK(std::abs(noise.mean()) < test::kZBound * noise.standard_error() + 0.005);
  CHECK(noise.variance() > 0.05);
  Haze h = haze(0.5f);
  h.density.clumps = HazeDensity::Clumps{0.4f, 0.0f, Vec3::Zero(), 1, true};
  const std::vector<Haze> hazes = {h};
  const HazeAlong along(hazes, kRays[0], 3);
  CHECK_FALSE(along.uneven());
  CHECK(along.optical_depth(3) == Approx(1.5));
}

TEST_CASE("a grid is trilinear between its points and nothing outside", "[optics][haze]") {
  const auto grid = bumpy_grid();
  const Transform place = placement({0.5, -0.4, 0.1}, {0, 0, 0.3}, Vec3d::Constant(0.1));
  const auto at = [&](double x, double y, double z) {
    return grid->at(place.point(Vec3d(x, y, z)).cast<float>());
  };
  CHECK(at(-8, 0, 8) == Approx(0).margin(1e-4));
  CHECK(at(-3, 0, 8) == Approx(0.5).margin(1e-4));
  CHECK(at(-2.5, 0, 8) == Approx(0.55).margin(1e-4));
  CHECK(at(-0.5, 0, 8) == Approx(0.75).margin(1e-4));  // between two blocks
  CHECK(at(4, 1, 10) == Approx(1.2 + 0.2 * (2 % 3)).margin(1e-3));
  CHECK(at(-20, 0, 8) == 0);
  CHECK(at(0, 0, 7.5) == Approx(0.5 * 0.8).margin(1e-3));  // half a cell outside it fades
}

TEST_CASE("haze that glows adds its luminance over the way", "[optics][haze]") {
  Haze h = haze(0.3f);
  h.emission = 10;
  h.inside = Enclosure(Shape{ShapeKind::kBox, 1, 1, 1}, {});
  const std::vector<Haze> hazes = {h, haze(0.2f)};
  const Ray ray{Vec3(-3, 0, 0), Vec3(1, 0, 0)};
  double sum = 0;
  HazeAlong(hazes, ray, kFar).emission([&](std::size_t i, float luminance) {
    sum += i == 0 ? luminance : 1e9;
  });
  // 2 m of even haze before it, then 2 m in which 0.5 /m takes and 10 cd/m2 a meter are added.
  CHECK(sum == Approx(std::exp(-0.4) * 10 * (1 - std::exp(-1.0)) / 0.5).epsilon(1e-4));
}

TEST_CASE("the mean cosine of hazes is that of their phase functions", "[optics][haze]") {
  Haze forward = haze(0.3f), back = haze(0.1f);
  forward.g = 0.8f;
  back.g = -0.4f;
  const std::vector<Haze> both = {forward, back};
  const HazeAt at = HazeAlong(both, Ray{Vec3::Zero(), Vec3::UnitX()}, 1).at(0.5f);
  // Source: L. Henyey, J. Greenstein 1941: g is the mean cosine.
  CHECK(at.mean_cosine() == Approx((0.3 * 0.8 - 0.1 * 0.4) / 0.4));
  double sum = 0, mean = 0;
  constexpr int kSteps = 20000;
  for (int i = 0; i < kSteps; ++i) {
    const double cosine = 2 * (i + 0.5) / kSteps - 1,
                 part = static_cast<double>(at.phase_pdf(static_cast<float>(cosine))) * 4 * kPi /
                        kSteps;
    sum += part;
    mean += part * cosine;
  }
  CHECK(sum == Approx(1).epsilon(1e-4));
  CHECK(mean == Approx(at.mean_cosine()).epsilon(1e-3));
  const std::vector<Haze> none;
  CHECK(HazeAlong(none, Ray{Vec3::Zero(), Vec3::UnitX()}, 1).at(0.5f).mean_cosine() == 0);
}
