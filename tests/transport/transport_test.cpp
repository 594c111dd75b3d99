// Weights of ways to find light, what of it passes, and how a contribution comes to its layer.
#include "jovilux/transport/transport.h"

#include "jovilux/color/rgb.h"

#include <cmath>
#include <limits>

#include "tests/support/rigs.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// An upright square of two meters at y, of a material.
std::string wall(const std::string& name, double y, const std::string& material) {
  return fmt::format(
      "[[object]]\nname='{}'\nshape={{kind='rect', size=[2,2]}}\nrotate=[90,0,0]\nat=[0,{},0]\n"
      "material='{}'\n",
      name,
      y,
      material);
}
const std::string kMaterials =
    "[[material]]\nname='board'\nkind='diffuse'\ncolor=[0.5,0.5,0.5]\n"
    "[[material]]\nname='pane'\nkind='glass'\nior=1.5\nthin=true\n"
    "[[light]]\nname='l'\nkind='point'\nat=[0,9,0]\noutput='100 cd'\n";

Scene scene_behind(const std::string& walls) {
  auto scene = prepare_scene(rig_of(kMaterials + walls));
  REQUIRE(scene);
  return std::move(*scene);
}

// What is left of light from y = 5 to the origin.
float passes(const Scene& scene, const ShadowRule& rule = {}) {
  RayCounts counts;
  const Spectrum left =
      passage(scene, rule, Ray{Vec3(0.1f, 0, 0.2f), Vec3::UnitY(), 5}, kNoIndex, counts);
  CHECK(left.minCoeff() == left.maxCoeff());
  return left[0];
}

// One slot's sums after a contribution of a light whose luminance is that of its table.
struct Kept {
  std::array<float, 12> sums{};
  std::array<float, 4> luminance{};
  double clamped = 0;
};
Kept contributed(const LightCheats& cheats, const Arrival& how, float luminance, int parts = 1) {
  Emitter e;
  e.cheats = cheats;
  e.layer = 0;
  const Scene scene = scene_behind("");
  e.table = scene.emitters[0].table;
  Kept out;
  LightSink sink(out.sums.data(), out.luminance.data(), parts, &out.clamped);
  contribute(e, Spectrum::Ones(), luminance, how, sink);
  return out;
}

}  // namespace

TEST_CASE("weights of all ways to the same light add up to one, whatever their densities",
          "[render][transport]") {
  const auto [a, b, c] = GENERATE(table<float, float, float>({{1, 1, 1},
                                                              {1, 2, 0.5f},
                                                              {1e-20f, 1e-20f, 3e-20f},
                                                              {1e25f, 3e24f, 2e25f},
                                                              {1e-10f, 1e10f, 1}}));
  CHECK(power_heuristic(a, b) + power_heuristic(b, a) == Approx(1));
  CHECK(power_heuristic(a, b, c) + power_heuristic(b, a, c) + power_heuristic(c, a, b) ==
        Approx(1));
  CHECK(power_heuristic(a, 0) == 1);
  CHECK(power_heuristic(a, b, 0) == Approx(power_heuristic(a, b)));
  CHECK(power_heuristic(a, std::numeric_limits<float>::infinity()) == 0);
}

TEST_CASE("chroma is taken away and added about the neutral of the same luminance",
          "[render][transport]") {
  const Eigen::Array3f red = (xyz_from_rec709() * Vec3d(4, 2, 1)).cast<float>().array();
  for (const float factor : {0.0f, 0.5f, 1.0f, 1.3f, 10.0f}) {
    const Eigen::Array3f out = with_chroma(red, factor);
    const Vec3d rgb = rec709_from_xyz() * out.cast<double>().matrix();
    INFO(factor << ": " << rgb.transpose());
    CHECK(out[1] == Approx(red[1]).epsilon(1e-5));
    CHECK(rgb.minCoeff() > -1e-4);
    if (factor == 0) {
      CHECK(rgb.maxCoeff() - rgb.minCoeff() < 1e-4);
    } else if (factor == 1) {
      CHECK((rgb - Vec3d(4, 2, 1)).norm() < 1e-4);
    } else if (factor == 10) {
      CHECK(rgb.minCoeff() == Approx(0).margin(1e-4));  // as far as there is a color
    }
  }
}

TEST_CASE("light passes panes by what they do not mirror, and boards not at all",
          "[render][transport]") {
  const float pane = 1 - 2 * 0.04f / 1.04f;  // n = 1.5, head on
  CHECK(passes(scene_behind("")) == 1);
  CHECK(passes(scene_behind(wall("a", 2, "board"))) == 0);
  CHECK(passes(scene_behind(wall("a", 6, "board"))) == 1);  // behind the ray's end
  CHECK(passes(scene_behind(wall("a", 2, "pane"))) == Approx(pane).epsilon(1e-4));
  CHECK(passes(scene_behind(wall("a", 2, "pane") + wall("b", 3, "pane"))) ==
        Approx(pane * pane).epsilon(1e-4));
  CHECK(passes(scene_behind(wall("a", 2, "pane") + wall("b", 3, "board"))) == 0);
}

TEST_CASE("light passes what throws none of its shadows, and a part where shadows are thin",
          "[render][transport]") {
  const Scene two = scene_behind(wall("a", 2, "board") + wall("b", 3, "board"));
  const std::vector<bool> none(two.surfaces.size(), false), all(two.surfaces.size(), true);
  std::vector<bool> first = none;
  first[0] = true;
  CHECK(passes(two, {&none}) == 1);
  CHECK(passes(two, {&first}) == 0);
  CHECK(passes(two, {&first, Spectrum::Constant(0.25f)}) == Approx(0.25f));
  CHECK(passes(two, {&all, Spectrum::Constant(0.25f)}) == Approx(0.25f));  // one shadow is enough
}

TEST_CASE("a contribution has the part, the factors and the limit that its way has",
          "[render][transport]") {
  CHECK(Arrival{1}.part() == Part::kDirect);
  CHECK(Arrival{0}.part() == Part::kDirect);
  CHECK(Arrival{2}.part() == Part::kBounce);
  CHECK(Arrival{2, true, true}.part() == Part::kHaze);
  Arrival caustic{2};
  caustic.caustic = true;
  CHECK(caustic.part() == Part::kCaustic);
  LightCheats cheats;
  cheats.direct = 0.5f;
  cheats.bounce = 3;
  cheats.caustics = 7;
  const float whole = contributed({}, Arrival{1}, 10).luminance[0];
  REQUIRE(whole > 0);
  CHECK(contributed(cheats, Arrival{1}, 10).luminance[0] == Approx(0.5f * whole));
  CHECK(contributed(cheats, Arrival{0}, 10).luminance[0] == Approx(whole));
  CHECK(contributed(cheats, Arrival{2}, 10).luminance[0] == Approx(3 * whole));
  CHECK(contributed(cheats, caustic, 10).luminance[0] == Approx(7 * whole));
  CHECK(contributed({}, Arrival{2}, 10, 4).luminance[static_cast<std::size_t>(Part::kBounce)] ==
        Approx(whole));
  CHECK(contributed({}, Arrival{2}, 0).luminance[0] == 0);
  cheats.bounce = 1;
  cheats.bounce_limit = 0.25f * whole;
  const Kept limited = contributed(cheats, Arrival{2}, 10);
  CHECK(limited.luminance[0] == Approx(0.25f * whole));
  CHECK(limited.clamped == Approx(0.75 * static_cast<double>(whole)));
  CHECK(contributed(cheats, Arrival{1}, 20).clamped == 0);  // direct light has no limit
}

TEST_CASE("what is not finite is counted and left out of the sums", "[render][transport]") {
  std::array<float, 3> sums{};
  std::array<float, 1> luminance{};
  LightSink sink(sums.data(), luminance.data(), 1);
  sink.add(0, Part::kDirect, {1, 2, 3});
  sink.add(0, Part::kDirect, {1, std::numeric_limits<float>::quiet_NaN(), 3});
  sink.add(0, Part::kDirect, {std::numeric_limits<float>::infinity(), 2, 3});
  sink.add(0, Part::kBounce, {1, 2, 3});
  CHECK(sink.not_finite() == 2);
  CHECK(sums == std::array<float, 3>{2, 4, 6});
  CHECK(luminance[0] == 4);
  CHECK(sink.total() == 4);
  CHECK_FALSE(sink.keeps_parts());
}
