// Late caustics: light that something rough has scattered and that mirrors or glass send on last.
#include "jovilux/transport/late_caustics.h"

#include "jovilux/base/parallel.h"
#include "jovilux/base/sampler.h"
#include "jovilux/render/renderer.h"

#include <cmath>

#include "tests/support/known_means.h"
#include "tests/support/rigs.h"
#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// A spot lights a white card under the ceiling. A screen hides the card from a part of the floor,
// which sees it in a mirror alone: the image of the card lies as far behind the mirror.
constexpr float kMirrorX = 1.5f, kCardX = -1, kCardZ = 2, kCardRadius = 0.35f;
const Vec3 kHidden(0.5f, 0, 0);
const std::string kCardAndScreen = R"(
[[camera]]
name = "c"
at = [0.5, -0.5, 2]
look_at = [0.5, 0, 0]
[[material]]
name = "white"
kind = "diffuse"
color = [0.8, 0.8, 0.8]
[[material]]
name = "black"
kind = "diffuse"
color = [0.02, 0.02, 0.02]
[[material]]
name = "silver"
kind = "metal"
color = [0.9, 0.9, 0.9]
roughness = 0
[[object]]
name = "floor"
shape = { kind = "box", size = [8, 8, 0.1] }
at = [0, 0, -0.05]
material = "black"
[[object]]
name = "card"
shape = { kind = "disk", radius = 0.35 }
at = [-1, 0, 2]
rotate = [180, 0, 0]
material = "white"
[[object]]
name = "screen"
shape = { kind = "box", size = [0.02, 4, 1.4] }
at = [-0.3, 0, 0.7]
material = "black"
[[light]]
name = "l"
kind = "spot"
at = [-1, 0, 0.2]
toward = [0, 0, 1]
beam = "20 deg"
output = "2000 lm"
)";
const std::string kStandingMirror = R"(
[[object]]
name = "mirror"
shape = { kind = "box", size = [0.02, 1.2, 1] }
at = [1.51, 0, 0.5]
material = "silver"
)";

GuideTree learned(const std::string& text,
                  const std::vector<ShadingPlace>& places,
                  int bounces = 5) {
  const Rig rig = rig_of(text);
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  RayCounts rays;
  return learn_late_caustics(*scene, {1 << 14, bounces, 1}, places, rays);
}

std::vector<ShadingPlace> place_on_floor(const Vec3& at) {
  return {{at, Vec3::UnitZ(), Vec3::Zero(), 0}};
}

// Whether a direction from the hidden place goes to the card's image.
bool toward_image(const Vec3& d) {
  const Vec3 at = kHidden + d * (kCardZ / d.z());
  return d.x() > 0 && d.z() > 0 &&
         std::hypot(at.x() - (2 * kMirrorX - kCardX), at.y()) < kCardRadius;
}

}  // namespace

TEST_CASE("directions are guided to the image of what a lamp lights, in a mirror",
          "[transport][guiding]") {
  const GuideTree tree = learned(kCardAndScreen + kStandingMirror, place_on_floor(kHidden));
  REQUIRE_FALSE(tree.empty());
  const GuideCell& cell = tree.cell(tree.cell_at(kHidden, Vec3::UnitZ()));
  CHECK(cell.share > 0.5f);
  constexpr int kDirections = 4000;
  int met = 0;
  double inverse = 0;  // of the densities there: the solid angle of the image
  Rng rng(3);
  for (int i = 0; i < kDirections; ++i) {
    float pdf = 0;
    const Vec2 u(static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform()));
    const Vec3 d = tree.sample(cell, kHidden, u, pdf);
    if (toward_image(d)) {
      ++met;
      inverse += 1 / static_cast<double>(pdf) / kDirections;
    }
  }
  // By the cosine 0.19 % of the directions go there: E over pi L of the image.
  INFO(met << " of " << kDirections << " directions go to the image");
  CHECK(met > 0.3 * kDirections);
  const double distance = std::hypot(3.5, 2.0),
               solid_angle =
                   kPiD * sqr(static_cast<double>(kCardRadius)) * 2 / std::pow(distance, 3);
  CHECK(inverse == Approx(solid_angle).epsilon(0.1));
}

TEST_CASE("no directions are guided where no mirror sends on scattered light",
          "[transport][guiding]") {
  const std::string scene = kCardAndScreen + kStandingMirror;
  const auto hidden = place_on_floor(kHidden);
  CHECK(learned(kCardAndScreen, hidden).empty());  // no mirror
  CHECK(learned(scene, hidden, 2).empty());        // too few scatterings
  CHECK(learned(scene, {}).empty());               // no camera paths
  // A mirror under the floor.
  std::string below = kStandingMirror;
  below.replace(below.find("[1.51, 0, 0.5]"), 14, "[1.51, 0, -2]");
  CHECK(learned(kCardAndScreen + below, hidden).empty());
}

TEST_CASE("late caustics are learned the same by one thread and three", "[transport][guiding]") {
  const auto densities = [](int threads) {
    std::vector<float> out;
    with_threads(threads, [&] {
      const GuideTree tree = learned(kCardAndScreen + kStandingMirror, place_on_floor(kHidden));
      REQUIRE_FALSE(tree.empty());
      Rng rng(5);
      for (int i = 0; i < 200; ++i) {
        const Vec3 p(static_cast<float>(rng.uniform(0, 1.4)), 0, 0);
        const GuideCell& cell = tree.cell(tree.cell_at(p, Vec3::UnitZ()));
        float pdf = 0;
        const Vec2 u(static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform()));
        tree.sample(cell, p, u, pdf);
        out.push_back(pdf);
        out.push_back(cell.share);
      }
    });
    return out;
  };
  CHECK(densities(1) == densities(3));
}

TEST_CASE("a paper shade's light behind a jar has the mean of plain rendering, with less noise",
          "[render][guiding][statistical]") {
  const std::string text = R"(
[[camera]]
name = "c"
at = [0.6, -0.5, 1.6]
look_at = [0.56, -0.11, 0.8]
field_of_view = "18 deg"
[render]
size = [48, 32]
samples = 64
bounces = 8
[[material]]
name = "wood"
kind = "diffuse"
color = [0.3, 0.3, 0.3]
[[material]]
name = "paper"
kind = "translucent"
color = [0.7, 0.7, 0.7]
transmittance = 0.45
[[material]]
name = "glass"
kind = "glass"
[[object]]
name = "bench"
shape = { kind = "box", size = [3, 1, 0.05] }
at = [0, 0, 0.775]
material = "wood"
[[object]]
name = "shade"
shape = { kind = "cylinder", radius = 0.16, height = 0.34, open = true }
at = [-0.3, 0.1, 1.1]
material = "paper"
[[solid]]
name = "jar-wall"
kind = "cylinder"
radius = 0.1
height = 0.24
[[solid]]
name = "jar"
kind = "shell"
of = "jar-wall"
thickness = "8 mm"
[[object]]
name = "jar"
solid = "jar"
at = [0.32, -0.05, 0.926]
material = "glass"
[[light]]
name = "bulb"
kind = "sphere"
at = [-0.3, 0.1, 1.08]
radius = "3 cm"
output = "600 lm"
)";
  constexpr int kSeeds = 8;
  Rig rig = rig_of(text);
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const auto pictures = [&](bool guiding, int seeds) {
    rig.render.guiding = guiding;
    RunningMoments out;
    for (int seed = 1; seed <= seeds; ++seed) {
      rig.render.seed = static_cast<std::uint32_t>(seed);
      const Render r = render(rig, *scene, {});
      REQUIRE((r.state.guide_rounds > 0) == guiding);
      out.add(r.stats.mean_luminance);
    }
    return out;
  };
  const KnownMean plain = known_mean("behind a jar", text, [&](int factor) {
    const RunningMoments m = pictures(false, factor * kSeeds);
    return KnownMean::of(m, std::sqrt(m.variance()));
  });
  const RunningMoments guided = pictures(true, kSeeds);
  const double variances = guided.variance() / sqr(plain.noise);
  INFO(plain.mean() << " +- " << plain.standard_error() << " plain, " << guided.mean() << " +- "
                    << guided.standard_error() << " guided; " << variances << " of the variance");
  CHECK(std::abs(difference_in_errors(guided, plain)) < kScramblingBound);
  CHECK(std::abs(difference_in_errors(guided, plain, 1.2)) > kScramblingBound);
  CHECK(variances < 0.1);
}
