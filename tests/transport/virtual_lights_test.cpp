// Connections of camera paths to light paths: the flux that lights emit, the flux that arrives, the
// same bits for any number of threads, and pictures with the mean of plain rendering.
#include "jovilux/transport/virtual_lights.h"

#include "jovilux/base/parallel.h"
#include "jovilux/render/renderer.h"
#include "jovilux/transport/camera.h"
#include "jovilux/transport/guide_training.h"
#include "jovilux/transport/light_emission.h"

#include <cmath>

#include "tests/support/known_means.h"
#include "tests/support/rigs.h"
#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// A closed box of albedo 0.6, four meters wide, with a lamp in the middle of it.
std::string closed_box(const std::string& light, const std::string& more = "") {
  std::string walls;
  for (int k = 0; k < 6; ++k) {
    const int axis = k / 2;
    const char* const side = k % 2 == 0 ? "-2.1" : "2.1";
    const auto of_axis = [&](const char* own, const char* other) {
      std::string out;
      for (int a = 0; a < 3; ++a) {
        out += (a == 0 ? "" : ",") + std::string(a == axis ? own : other);
      }
      return out;
    };
    walls += "[[object]]\nname='wall" + std::to_string(k) + "'\nmaterial='lime'\nat=[" +
             of_axis(side, "0") + "]\nshape={kind='box',size=[" + of_axis("0.2", "4.4") + "]}\n";
  }
  return R"(
[[camera]]
name = "c"
at = [1.6, -1.6, 0.4]
look_at = [-0.8, 0.8, 0]
field_of_view = 70
[[material]]
name = "lime"
kind = "diffuse"
color = [0.6, 0.6, 0.6]
)" + walls +
         light + more +
         R"(
[render]
size = [48, 32]
samples = 64
bounces = 6
)";
}

const std::string kBulb = R"(
[[light]]
name = "bulb"
kind = "sphere"
at = [-0.8, 0.8, 0]
radius = 0.05
output = "900 lm"
)";

// Without size: camera paths do not find it through a mirror, only paths from it do.
const std::string kPoint = R"(
[[light]]
name = "bulb"
kind = "point"
at = [-0.8, 0.8, 0]
output = "900 lm"
)";

// A mirror ball below the bulb's place, and a glossy one.
const std::string kMirror = R"(
[[material]]
name = "chrome"
kind = "metal"
color = [0.9, 0.9, 0.9]
roughness = 0.0
[[object]]
name = "ball"
shape = { kind = "sphere", radius = 0.6 }
at = [-0.8, 0.8, -1.3]
material = "chrome"
)";
const std::string kSatinPot = R"(
[[material]]
name = "satin"
kind = "gloss"
color = [0.4, 0.3, 0.3]
roughness = 0.6
[[object]]
name = "pot"
shape = { kind = "sphere", radius = 0.5 }
at = [-0.8, -0.6, -1.2]
material = "satin"
)";

// The bulb in a globe of rough, tinted glass: all light passes two rough surfaces.
const std::string kFrostedGlobe = R"(
[[material]]
name = "frost"
kind = "glass"
roughness = 0.5
absorption = [12, 6, 3]
[[solid]]
name = "ball"
kind = "sphere"
radius = 0.2
[[solid]]
name = "globe"
kind = "shell"
of = "ball"
thickness = "2 cm"
[[object]]
name = "globe"
solid = "globe"
at = [-0.8, 0.8, 0]
material = "frost"
)";

// The bulb in a ball of rough, tinted glass, over a board that stands in the glass as well: light
// that the board scatters is absorbed on its way to the ball's surface.
const std::string kBoardInGlass = R"(
[[material]]
name = "frost"
kind = "glass"
roughness = 0.5
absorption = 3
[[object]]
name = "ball"
shape = { kind = "sphere", radius = 0.6 }
at = [-0.8, 0.8, 0]
material = "frost"
[[object]]
name = "board"
shape = { kind = "box", size = [0.6, 0.6, 0.02] }
at = [-0.8, 0.8, -0.2]
material = "lime"
)";

// The bulb in an opaque tube: nearly all light comes by bounces.
const std::string kTube = R"(
[[object]]
name = "tube"
shape = { kind = "cylinder", radius = 0.2, height = 0.5, open = true }
at = [-0.8, 0.8, 0]
material = "lime"
)";

// Learned in two rounds, for a picture of so many samples of all pixels.
std::shared_ptr<const Guide> learned_lights(const Rig& rig,
                                            const Scene& scene,
                                            double samples = 0) {
  const Camera camera(rig.cameras[0], rig.up, rig.render.width, rig.render.height);
  TrainingPlan plan;
  plan.width = rig.render.width;
  plan.height = rig.render.height;
  plan.rounds = 2;
  plan.samples = samples;
  plan.connects = true;
  PathOptions options;
  options.bounces = rig.render.bounces;
  RayCounts rays;
  return learn_guide(scene, camera, options, plan, rays);
}

// A closed box whose lights have been learned.
struct LearnedBox {
  explicit LearnedBox(const std::string& light, const std::string& more = "", double samples = 0)
      : rig(rig_of(closed_box(light, more))),
        scene(prepare_scene(rig)),
        guide(learned_lights(rig, *scene, samples)) {
    REQUIRE(guide != nullptr);
    REQUIRE(guide->virtual_lights != nullptr);
  }
  const VirtualLights& lights() const { return *guide->virtual_lights; }
  VirtualLightSet set(std::uint32_t sample, std::uint32_t seed = 1) const {
    RayCounts rays;
    return lights().trace(seed, sample, rays);
  }

  const Rig rig;
  const Result<Scene> scene;
  const std::shared_ptr<const Guide> guide;
};

// The mean luminance of pictures of several seeds.
RunningMoments means_of(Rig rig, const Scene& scene, bool guiding, int seeds) {
  rig.render.guiding = guiding;
  RunningMoments out;
  for (int seed = 1; seed <= seeds; ++seed) {
    rig.render.seed = static_cast<std::uint32_t>(seed);
    const Render r = render(rig, scene, {});
    REQUIRE((r.state.guide_rounds > 0) == guiding);
    out.add(r.stats.mean_luminance);
  }
  return out;
}

}  // namespace

TEST_CASE("photons carry a light's flux, however their cells are chosen", "[render][connections]") {
  struct Case {
    const char *light, *of;
    double flux;
  };
  const double disk = kPiD * kPiD * 0.01 * 500;  // pi A L
  for (const Case& c :
       {Case{"kind='sphere'\nradius=0.1\noutput='900 lm'", "sphere", 900},
        Case{"kind='point'\noutput='900 lm'", "point", 900},
        Case{"kind='disk'\nradius=0.1\ntoward=[0.3,0,-1]\noutput='500 cd/m2'", "disk", disk},
        Case{"kind='rect'\nsize=[0.3,0.1]\ntoward=[0,1,0]\noutput='700 lm'", "rect", 700},
        Case{"kind='tube'\nfrom=[-0.4,0.1,0]\nto=[0.3,0.3,0.2]\nradius=0.02\noutput='800 lm'",
             "tube",
             800},
        Case{"kind='spot'\nbeam='12 deg'\nfield='20 deg'\ntoward=[0,0,-1]"
             "\noutput='300 lm'",
             "spot",
             300}}) {
    const Rig rig = rig_of(closed_box(std::string("[[light]]\nname='l'\n") +
                                      (std::string(c.of) == "tube" ? "" : "at=[0.2,0.1,0]\n") +
                                      std::string(c.light) + "\n"));
    const auto scene = prepare_scene(rig);
    REQUIRE(scene);
    const Emitter& e = scene->emitters[0];
    LightEmission emission(e, 4, 16);
    Rng rng(0xe311);
    const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
    for (const bool by_importance : {false, true}) {
      INFO(c.of << (by_importance ? " by importance" : " by flux"));
      if (by_importance) {
        std::vector<double> importance(emission.cells());
        for (std::size_t k = 0; k < importance.size(); ++k) {
          importance[k] = static_cast<double>(k % 7);
        }
        emission.choose_by(importance);
      }
      RunningMoments flux;
      for (int i = 0; i < 40'000; ++i) {
        const EmittedPhoton photon =
            emission.sample(e, uniform(), {uniform(), uniform()}, {uniform(), uniform()});
        flux.add(static_cast<double>(photon.flux));
      }
      // Points send the same with each photon, but for rounding.
      const double error = std::max(flux.standard_error(), 1e-4 * c.flux);
      INFO(flux.mean() << " +- " << error << " of " << c.flux);
      CHECK(std::abs(flux.mean() - c.flux) < kZBound * error);
      CHECK(std::abs(1.5 * flux.mean() - c.flux) > kZBound * error);
    }
  }
}

TEST_CASE("photons of a narrow spot differ little in flux, however wide its lamp is",
          "[render][connections]") {
  // Standard error of 40,000 photons of 300 lm together.
  const auto scatter = [](const char* radius, std::uint32_t samples) {
    const Rig rig = rig_of(
        closed_box(std::string("[[light]]\nname='l'\nat=[0.2,0.1,0]\nkind='spot'\nbeam='12 deg'\n"
                               "field='20 deg'\ntoward=[0,0,-1]\noutput='300 lm'\nradius=") +
                   radius + "\n"));
    const auto scene = prepare_scene(rig);
    REQUIRE(scene);
    const Emitter& e = scene->emitters[0];
    const LightEmission emission(e, 4, 32, samples);
    Rng rng(0x6d6f7265);
    const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
    RunningMoments flux;
    for (int i = 0; i < 40'000; ++i) {
      flux.add(static_cast<double>(
          emission.sample(e, uniform(), {uniform(), uniform()}, {uniform(), uniform()}).flux));
    }
    CHECK(std::abs(flux.mean() - 300) < kZBound * flux.standard_error());
    return flux.standard_error();
  };
  const double wide = scatter("0.06", 64);
  // Cells are ways to go, not places on the lamp; and samples that tell their flux are worth it.
  INFO(wide << ", a small lamp " << scatter("0.001", 64) << ", by few samples "
            << scatter("0.06", 8));
  CHECK(wide < 1.2 * scatter("0.001", 64));
  CHECK(wide < 0.9 * scatter("0.06", 8));
}

TEST_CASE(
    "a sun that haze without end holds back leaves nothing to connect to, and that is no error",
    "[render][connections]") {
  Rig rig =
      rig_of(closed_box("[[light]]\nname='sun'\nkind='sun'\ntoward=[0,0.4,-1]\noutput='60 klx'\n",
                        "[[haze]]\nname='fog'\ninside='everywhere'\nextinction='0.05 /m'\n"));
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const std::shared_ptr<const Guide> guide = learned_lights(rig, *scene);
  REQUIRE(guide != nullptr);
  CHECK(guide->virtual_lights == nullptr);
  rig.render.samples = 4;
  CHECK(render(rig, *scene, {}).stats.mean_luminance == 0);
}

TEST_CASE("in a closed room all flux falls on walls, and the albedo's part of it again",
          "[render][connections]") {
  const LearnedBox box(kBulb);
  std::vector<RunningMoments> of_order(4);
  for (std::uint32_t sample = 0; sample < 48; ++sample) {
    const VirtualLightSet set = box.set(sample, 7);
    REQUIRE(set.sketches.size() == set.lights.size());
    std::vector<double> flux(of_order.size());
    for (std::size_t k = 0; k + 1 < set.begin.size(); ++k) {
      for (std::uint32_t i = set.begin[k]; i < set.begin[k + 1]; ++i) {
        const VirtualLight& light = set.lights[i];
        CHECK(light.cluster == k);
        if (light.scatterings <= of_order.size()) {
          flux[light.scatterings - 1U] += static_cast<double>(light.flux.mean());
        }
      }
    }
    for (std::size_t order = 0; order < of_order.size(); ++order) {
      of_order[order].add(flux[order]);
    }
  }
  double wanted = 900;
  for (const RunningMoments& flux : of_order) {
    INFO(flux.mean() << " +- " << flux.standard_error() << " of " << wanted);
    CHECK(std::abs(z_test(flux, wanted).z) < kZBound);
    CHECK(flux.mean() == Approx(wanted).epsilon(0.02));
    wanted *= 0.6;
  }
}

TEST_CASE("a cell's chances of clusters grow to one, and shares lie between nothing and all",
          "[render][connections]") {
  const LearnedBox box(kBulb, kTube);
  const VirtualLights& lights = box.lights();
  const VirtualLightSet set = box.set(0);
  const std::size_t clusters = set.begin.size() - 1;
  Rng rng(5);
  const auto within = [&] { return static_cast<float>(rng.uniform(-1.9, 1.9)); };
  int known = 0;
  for (int i = 0; i < 200; ++i) {
    const float* row = lights.row_at({within(), within(), within()}, Vec3(0, 0, 1), false);
    if (row == nullptr) {
      continue;
    }
    ++known;
    CHECK(row[0] == 0);
    CHECK(row[clusters] == Approx(1).epsilon(1e-4));
    for (std::uint32_t k = 0; k < clusters; ++k) {
      REQUIRE(row[k + 1] >= row[k]);
    }
    const std::uint32_t k = lights.cluster_at({within(), within(), within()}, Vec3::UnitZ(), false);
    REQUIRE(k < clusters);
    CHECK(lights.share(row, k, 0) >= 0);
    CHECK(lights.share(row, k, 1e-3f) <= 1);
    CHECK(lights.share(row, k, 1e6f) <= lights.share(row, k, 1e-3f));
  }
  CHECK(known > 100);
}

TEST_CASE("the two faces of a board do not share clusters", "[render][connections]") {
  const LearnedBox box(kBulb + R"(
[[light]]
name = "other"
kind = "sphere"
at = [0.8, -0.8, 0]
radius = 0.05
output = "900 lm"
)",
                       R"(
[[object]]
name = "board"
shape = { kind = "box", size = [0.04, 3, 3] }
material = "lime"
)");
  const VirtualLightSet set = box.set(0);
  std::size_t left = 0, right = 0;
  for (std::size_t k = 0; k + 1 < set.begin.size(); ++k) {
    std::size_t of_left = 0, of_right = 0;
    for (std::uint32_t i = set.begin[k]; i < set.begin[k + 1]; ++i) {
      const VirtualLight& y = set.lights[i];
      const bool on_board = std::abs(y.position.x()) < 0.03f && std::abs(y.normal.x()) > 0.9f;
      of_left += on_board && y.normal.x() < 0 ? 1 : 0;
      of_right += on_board && y.normal.x() > 0 ? 1 : 0;
      CHECK(box.lights().cluster_at(y.position, y.normal, false) == k);
    }
    INFO(of_left << " and " << of_right << " in cluster " << k);
    // Where training has met few of one face they are not told apart.
    CHECK(std::min(of_left, of_right) <= 2);
    left += of_left;
    right += of_right;
  }
  CHECK(left > 50);
  CHECK(right > 50);
}

TEST_CASE("virtual lights that are chosen sum up to what all of them bring, however many are",
          "[render][connections]") {
  const LearnedBox box(kBulb, kTube);
  const VirtualLights& lights = box.lights();
  const VirtualLightSet set = box.set(0);
  const Vec3 eye(1.2f, -1.5f, -2.0f);
  const float* const row = lights.row_at(eye, Vec3::UnitZ(), false);
  REQUIRE(row != nullptr);
  // Chosen by what comes near the eye, but asked for their flux: weights must make up for it.
  const auto target = [&](const VirtualLightSketch& light) {
    return light.flux / (0.3f + (light.position - eye).squaredNorm());
  };
  double all = 0, biased = 0;
  for (std::size_t k = 0; k + 1 < set.begin.size(); ++k) {
    for (std::uint32_t i = set.begin[k]; i < set.begin[k + 1]; ++i) {
      const auto flux = static_cast<double>(set.lights[i].flux.mean());
      all += row[k + 1] > row[k] ? flux : 0;
      biased += flux * static_cast<double>(target(set.sketches[i]));
    }
  }
  double one_alone = 0;
  for (const std::uint32_t count : {1U, 3U, 6U, VirtualLights::kMostChosen}) {
    Rng rng(0xc0ffee + count);
    const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
    RunningMoments flux;
    for (int i = 0; i < 160'000; ++i) {
      double sum = 0;
      lights.choose_each(set,
                         row,
                         count,
                         {uniform(), uniform()},
                         uniform(),
                         VirtualLights::one_by_one(target),
                         [&](const VirtualLight& light, float weight) {
                           sum += static_cast<double>(weight * light.flux.mean());
                         });
      flux.add(sum);
    }
    INFO(count << ": " << flux.mean() << " +- " << flux.standard_error() << " of " << all);
    CHECK(std::abs(z_test(flux, all).z) < kZBound);
    CHECK(z_test(flux, all).sees < 0.1);
    // What is chosen by chance alone would be seen.
    CHECK(std::abs(z_test(flux, biased).z) > kZBound);
    // Several in strips of their own are worth as many apart. Lights that are rarely chosen weigh
    // much: the measured ratio is 1.00 to 1.12 with a million draws.
    one_alone = count == 1 ? flux.variance() : one_alone;
    CHECK(flux.variance() < 1.25 * one_alone / count);
  }
}

namespace {

// What single connections from a place on the floor bring, where nothing stands in their way.
RunningMoments single_connections(const LearnedBox& box,
                                  const Vec3& at,
                                  std::uint32_t sample,
                                  Rng& rng) {
  constexpr int kDraws = 4000;
  const float* const row = box.lights().row_at(at, Vec3::UnitZ(), false);
  REQUIRE(row != nullptr);
  const VirtualLightSet set = box.set(sample);
  const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
  const auto brings = [&](const Vec3& position, const Vec3& normal, float flux) {
    const Vec3 to = position - at;
    const float d2 = std::max(to.squaredNorm(), 0.1f);
    return flux * std::max(0.0f, to.z()) * std::max(0.0f, -normal.dot(to)) / (d2 * d2);
  };
  RunningMoments out;
  RayCounts rays;
  for (int i = 0; i < kDraws; ++i) {
    double sum = 0;
    box.lights().choose_each(
        set,
        row,
        1,
        {uniform(), uniform()},
        uniform(),
        VirtualLights::one_by_one(
            [&](const VirtualLightSketch& y) { return brings(y.position, y.normal, y.flux); }),
        [&](const VirtualLight& y, float weight) {
          const Vec3 from = at + Vec3(0, 0, 1e-3f), way = y.position - from;
          const Ray ray{from, way.normalized(), way.norm() - 1e-3f};
          const Spectrum passed = passage(*box.scene, ShadowRule{}, ray, kNoIndex, rays);
          sum += static_cast<double>(weight * brings(y.position, y.normal, y.flux.mean()) *
                                     passed.mean());
        });
    out.add(sum);
  }
  return out;
}

}  // namespace

TEST_CASE("four virtual lights side by side send what each alone sends", "[render][connections]") {
  std::array<VirtualLightSketch, VirtualLightLanes::kCount> sketches;
  Rng rng(0x1a4e5);
  const auto uniform = [&] { return static_cast<float>(rng.uniform(-1, 1)); };
  for (int round = 0; round < 50; ++round) {
    VirtualLightLanes lanes;
    for (std::size_t i = 0; i < sketches.size(); ++i) {
      VirtualLight y;
      y.position = {uniform(), uniform(), uniform()};
      y.normal = Vec3(uniform(), uniform(), uniform()).normalized();
      y.to_light = Vec3(uniform(), uniform(), uniform()).normalized();
      y.flux = Spectrum::Constant(2 + uniform());
      y.sigma_t = 0.3f;
      y.g = 0.5f;
      y.material = i == 2 ? kNoIndex : 0;  // one in haze
      sketches[i] = VirtualLightSketch::of(y);
      lanes.lights[i] = &sketches[i];
    }
    const Vec3 p(uniform(), 3 + uniform(), uniform());
    VirtualLightLanes::Floats d2;
    const DirectionLanes wi = directions_to(lanes, p, d2);
    const SentLanes sent = sent_in_lanes(lanes, wi, d2);
    for (std::uint32_t i = 0; i < VirtualLightLanes::kCount; ++i) {
      INFO(round << ", " << i);
      const VirtualLightSketch& y = sketches[i];
      const Vec3 to = y.position - p;
      REQUIRE((wi.at(i) - to.normalized()).norm() < 1e-6f);
      REQUIRE(d2[i] == Approx(to.squaredNorm()));
      REQUIRE(sent.facing[i] == Approx(y.facing(wi.at(i))));
      REQUIRE(sent.brought[i] == Approx(y.flux * y.sent(wi.at(i), d2[i])));
    }
  }
}

TEST_CASE("what choosing sees of a virtual light: a diffuse surface's or the haze's flux",
          "[render][connections]") {
  VirtualLight y;
  y.flux = Spectrum::Constant(3);
  y.to_light = Vec3(0.6f, 0, 0.8f);
  y.scatterings = 2;
  SECTION("in haze it sends by the phase function, all of it") {
    y.sigma_t = 0.25f;
    y.in_haze = 1;
    for (const float g : {-0.5f, 0.0f, 0.7f}) {
      y.g = g;
      const VirtualLightSketch s = VirtualLightSketch::of(y);
      CHECK_FALSE(s.is_diffuse());
      CHECK(s.facing(Vec3::UnitY()) == Approx(0.25));
      double sum = 0, forward = 0;
      constexpr int kAcross = 400;
      for (int i = 0; i < kAcross * kAcross; ++i) {
        const int column = i % kAcross, row = i / kAcross;
        const Vec2 u((static_cast<float>(column) + 0.5f) / kAcross,
                     (static_cast<float>(row) + 0.5f) / kAcross);
        const Vec3 wi = direction_of(u);
        const double part = 4 * kPi * static_cast<double>(s.sent(wi, 1)) / (kAcross * kAcross);
        sum += part;
        forward += part * static_cast<double>(wi.dot(y.to_light));
      }
      CHECK(sum == Approx(1).epsilon(1e-3));
      // Light goes on, past the receiver's side of y, with the mean cosine g.
      CHECK(forward == Approx(static_cast<double>(g)).margin(5e-3));
      CHECK(s.sent(y.to_light, 4) == Approx(s.sent(y.to_light, 1) / 4));
    }
  }
  SECTION("the most forward of hazes leaves no direction without a chance") {
    y.sigma_t = 0.25f;
    for (const float g : {-0.999f, 0.999f}) {
      y.g = g;
      const VirtualLightSketch s = VirtualLightSketch::of(y);
      CHECK(s.sent(y.to_light, 1) > 0);
      CHECK(s.sent(-y.to_light, 1) > 0);
      CHECK(std::isfinite(s.sent(y.to_light, 1)));
    }
  }
  SECTION("of rough glass by a lobe, all of it") {
    y.material = 0;
    y.normal = Vec3::UnitZ();
    y.lobe = Vec3(0, 0.6f, -0.8f);
    y.g = 0.7f;
    const VirtualLightSketch s = VirtualLightSketch::of(y);
    CHECK_FALSE(s.is_diffuse());
    CHECK(s.facing(Vec3::UnitX()) == Approx(1));
    // To a place ahead of the lobe, from where y lies against it.
    CHECK(s.sent(-y.lobe, 1) == Approx(henyey_greenstein(1, 0.7f)).epsilon(0.02));
    CHECK(s.sent(y.lobe, 1) == Approx(henyey_greenstein(-1, 0.7f)).epsilon(0.02));
  }
  SECTION("on a surface by its cosine") {
    y.material = 0;
    y.normal = Vec3::UnitZ();
    const VirtualLightSketch s = VirtualLightSketch::of(y);
    CHECK(s.is_diffuse());
    CHECK(s.facing(y.to_light) == Approx(0.8));
    CHECK(s.sent(y.to_light, 2) == Approx(0.8 / kPi / 2));
  }
  const VirtualLightSketch s = VirtualLightSketch::of(y);
  CHECK(s.flux == Approx(3));
  CHECK(s.scatterings == 2);
}

TEST_CASE("places that hardly any light reaches learn more of it for larger pictures",
          "[render][connections]") {
  // A wall with a gap of 8 cm between the bulb and the places.
  const std::string wall = R"(
[[object]]
name = "left"
shape = { kind = "box", size = [0.1, 2.4, 4.2] }
at = [0.4, -0.9, 0]
material = "lime"
[[object]]
name = "right"
shape = { kind = "box", size = [0.1, 1.8, 4.2] }
at = [0.4, 1.28, 0]
material = "lime"
)";
  constexpr std::uint32_t kPlaces = 40;
  constexpr double kLargePicture = 1e6;  // samples
  const LearnedBox small(kBulb, wall), large(kBulb, wall, kLargePicture);
  double ratio = 0;  // of a connection's variances, logarithm, mean of the places
  Rng rng(11);
  for (std::uint32_t p = 0; p < kPlaces; ++p) {
    const Vec3 at(
        static_cast<float>(rng.uniform(0.7, 1.9)), static_cast<float>(rng.uniform(-1.9, 1.9)), -2);
    const RunningMoments a = single_connections(small, at, p, rng),
                         b = single_connections(large, at, p, rng);
    ratio += std::log(b.variance() / a.variance()) / kPlaces;
  }
  INFO(std::exp(ratio) << " of the variance by few looks is left by many");
  CHECK(std::exp(ratio) < 0.8);
}

TEST_CASE("connected pictures have the same bits for one thread and three",
          "[render][connections]") {
  Rig rig = rig_of(closed_box(kBulb, kTube));
  const auto scene = prepare_scene(rig);
  RenderOptions one, three;
  one.threads = 1;
  three.threads = 3;
  const Render a = render(rig, *scene, one), b = render(rig, *scene, three);
  REQUIRE(a.state.guide_rounds >= 1);
  for (std::size_t i = 0; i < a.film().pixels(); ++i) {
    REQUIRE(a.film().luminance(i) == b.film().luminance(i));
  }
}

TEST_CASE("a lamp in a tube: connections take most of the noise away", "[render][connections]") {
  Rig rig = rig_of(closed_box(kBulb, kTube));
  const auto scene = prepare_scene(rig);
  const double connected = render(rig, *scene, {}).stats.noise.median;
  rig.render.guiding = false;
  const double plain = render(rig, *scene, {}).stats.noise.median;
  INFO(connected << " connected, " << plain << " plain");
  CHECK(connected < 0.5 * plain);
}

TEST_CASE("a lamp in a paper shade: what goes through the sheet is connected to from outside",
          "[render][connections]") {
  const std::string paper = R"(
[[material]]
name = "paper"
kind = "translucent"
color = [0.8, 0.8, 0.8]
transmittance = 0.35
[[object]]
name = "shade"
shape = { kind = "cylinder", radius = 0.2, height = 0.5 }
at = [-0.8, 0.8, 0]
material = "paper"
)";
  const LearnedBox box(kBulb, paper);
  const VirtualLights& lights = box.lights();
  // Of places on the walls, the light from the outer side of the shade is left to connections.
  Rng rng(17);
  double shares = 0;
  int known = 0;
  for (int i = 0; i < 200; ++i) {
    const auto along = [&] { return static_cast<float>(rng.uniform(-1.8, 1.8)); };
    const float* row = lights.row_at({along(), along(), -2.0f}, Vec3(0, 0, 1), false);
    const std::uint32_t cluster = lights.cluster_at({-0.6f, 0.8f, 0.1f}, Vec3::UnitZ(), false);
    if (row != nullptr && cluster != kNoIndex) {
      ++known;
      // The density of directions at a distance of 2 m.
      shares += static_cast<double>(lights.share(row, cluster, 0.08f));
    }
  }
  REQUIRE(known > 100);
  INFO("mean share of connections: " << shares / known);
  CHECK(shares / known > 0.9);
}

TEST_CASE("a bulb in a frosted globe: light leaves it by lobes that point away from the bulb",
          "[render][connections]") {
  const LearnedBox box(kBulb, kFrostedGlobe);
  const Vec3 middle(-0.8f, 0.8f, 0);
  int lobes = 0;
  double along = 0;
  for (std::uint32_t sample = 0; sample < 4; ++sample) {
    for (const VirtualLight& v : box.set(sample).lights) {
      const Vec3 outward = (v.position - middle).normalized();
      // On the outer side, of light that passed the inner one at once.
      if (v.lobe.isZero() || v.scatterings != 2 || v.normal.dot(outward) > 0 ||
          (v.position - middle).norm() < 0.195f) {
        continue;
      }
      ++lobes;
      along += static_cast<double>(v.lobe.dot(outward));
      // Snell's law, or a mirrored lobe beyond the critical angle.
      const float sine = 1.5f * v.to_light.cross(v.normal).norm();
      CHECK(v.lobe.norm() == Approx(1).epsilon(1e-4));
      CHECK((v.lobe.dot(v.normal) < 0) == (sine < 1));
      CHECK(v.lobe.cross(v.normal).norm() == Approx(sine < 1 ? sine : sine / 1.5f).margin(1e-3));
    }
  }
  REQUIRE(lobes > 100);
  INFO(lobes << " lobes, mean cosine to the way outward " << along / lobes);
  CHECK(along / lobes > 0.9);
}

TEST_CASE("through mirrors virtual lights carry what camera paths find as well, and no more",
          "[render][connections]") {
  const auto by_mirrors = [](const std::string& light) {
    const LearnedBox box(light, kTube + kMirror);
    double flux = 0;
    for (std::uint32_t sample = 0; sample < 4; ++sample) {
      for (const VirtualLight& v : box.set(sample).lights) {
        flux += v.caustic ? static_cast<double>(v.flux.mean()) : 0.0;
      }
    }
    return flux;
  };
  CHECK(by_mirrors(kBulb) > 1);
  CHECK(by_mirrors(kPoint) == 0);
}

namespace {

// As many pictures as show a bias of 20 %.
void check_connected_mean(const std::string& name,
                          const std::string& light,
                          const std::string& more,
                          int seeds) {
  const std::string text = closed_box(light, more);
  const Rig rig = rig_of(text);
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const KnownMean plain = known_mean("closed box: " + name, text, [&](int factor) {
    return KnownMean::of(means_of(rig, *scene, false, factor * seeds));
  });
  const RunningMoments connected = means_of(rig, *scene, true, seeds);
  INFO(plain.mean() << " +- " << plain.standard_error() << " plain, " << connected.mean() << " +- "
                    << connected.standard_error() << " connected");
  CHECK(std::abs(difference_in_errors(connected, plain)) < kScramblingBound);
  CHECK(std::abs(difference_in_errors(connected, plain, 1.2)) > kScramblingBound);
}

const std::string kSheet = R"(
[[material]]
name = "paper"
kind = "translucent"
color = [0.4, 0.4, 0.4]
transmittance = 0.4
[[object]]
name = "screen"
shape = { kind = "box", size = [0.01, 1.5, 2] }
at = [0, 0.6, 0]
material = "paper"
)";
const std::string kMist = R"(
[[haze]]
name = "mist"
inside = "everywhere"
extinction = "0.25 /m"
albedo = 0.9
anisotropy = 0.5
)";

}  // namespace

TEST_CASE("connected pictures have the mean of plain ones: tubes and sheets [slow]",
          "[render][connections][statistical]") {
  check_connected_mean("tube", kBulb, kTube, 5);
  check_connected_mean("tube and sheet", kBulb, kTube + kSheet, 5);
}

TEST_CASE("connected pictures have the mean of plain ones: gloss and mirrors [slow]",
          "[render][connections][statistical]") {
  check_connected_mean("gloss and mirror", kBulb, kTube + kMirror + kSatinPot, 5);
  check_connected_mean("point and mirror", kPoint, kTube + kMirror, 5);
}

TEST_CASE("connected pictures have the mean of plain ones: rough glass [slow]",
          "[render][connections][statistical]") {
  check_connected_mean("frosted globe", kBulb, kFrostedGlobe, 3);
  check_connected_mean("board in tinted glass", kBulb, kBoardInGlass, 3);
}

TEST_CASE("connected pictures have the mean of plain ones: haze [slow]",
          "[render][connections][statistical]") {
  check_connected_mean("mist", kBulb, kTube + kMist, 5);
}
