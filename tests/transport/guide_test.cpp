// Guiding: densities of directions, the choice of lights by what arrives, what is learned the same
// for any number of threads, and pictures whose mean is that of plain rendering.
#include "jovilux/base/parallel.h"
#include "jovilux/render/renderer.h"
#include "jovilux/transport/camera.h"
#include "jovilux/transport/guide_training.h"
#include "jovilux/transport/haze_lights.h"

#include <array>
#include <cmath>

#include "tests/support/known_means.h"
#include "tests/support/rigs.h"
#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// A closed room whose lamp stands in an opaque shade: all of its light comes by bounces.
const std::string kShadeRoom = R"(
[[camera]]
name = "c"
at = [1.6, -1.6, 1.2]
look_at = [-0.8, 0.8, 1.0]
field_of_view = 60
[[material]]
name = "lime"
kind = "diffuse"
color = [0.6, 0.6, 0.6]
[[object]]
name = "floor"
shape = { kind = "box", size = [4.2, 4.2, 0.1] }
at = [0, 0, -0.05]
material = "lime"
[[object]]
name = "ceiling"
shape = { kind = "box", size = [4.2, 4.2, 0.1] }
at = [0, 0, 2.45]
material = "lime"
[[object]]
name = "north"
shape = { kind = "box", size = [4.2, 0.1, 2.4] }
at = [0, 2.05, 1.2]
material = "lime"
[[object]]
name = "south"
shape = { kind = "box", size = [4.2, 0.1, 2.4] }
at = [0, -2.05, 1.2]
material = "lime"
[[object]]
name = "west"
shape = { kind = "box", size = [0.1, 4.2, 2.4] }
at = [-2.05, 0, 1.2]
material = "lime"
[[object]]
name = "east"
shape = { kind = "box", size = [0.1, 4.2, 2.4] }
at = [2.05, 0, 1.2]
material = "lime"
[[object]]
name = "shade"
shape = { kind = "cylinder", radius = 0.2, height = 0.4, open = true }
at = [-0.8, 0.8, 1.4]
material = "lime"
[[light]]
name = "lamp"
kind = "sphere"
at = [-0.8, 0.8, 1.4]
radius = 0.05
output = "900 lm"
[render]
size = [32, 24]
samples = 32
bounces = 4
)";

// The same with haze and a second light, half of it glossy.
const std::string kHazyRoom = kShadeRoom + R"(
[[haze]]
name = "mist"
inside = "everywhere"
extinction = "0.2 /m"
albedo = 0.9
anisotropy = 0.4
[[material]]
name = "glaze"
kind = "gloss"
color = [0.3, 0.4, 0.5]
roughness = 0.3
[[object]]
name = "pot"
shape = { kind = "sphere", radius = 0.3 }
at = [0.4, 0.9, 0.3]
material = "glaze"
[[light]]
name = "panel"
kind = "rect"
at = [1.2, 1.4, 2.3]
toward = [0, 0, -1]
size = [0.3, 0.3]
output = "40 lm"
)";

PathOptions options_of(const Rig& rig) {
  PathOptions out;
  out.bounces = rig.render.bounces;
  return out;
}

std::shared_ptr<const Guide> learned(const Rig& rig, const Scene& scene, int rounds = 2) {
  const Camera camera(rig.cameras[0], rig.up, rig.render.width, rig.render.height);
  TrainingPlan plan;
  plan.width = rig.render.width;
  plan.height = rig.render.height;
  plan.rounds = rounds;
  RayCounts rays;
  return learn_guide(scene, camera, options_of(rig), plan, rays);
}

// The mean luminance of the whole picture over independent seeds.
RunningMoments picture_mean(const Rig& rig,
                            const Scene& scene,
                            const Guide* guide,
                            int pictures = kScramblingsTested) {
  const Camera camera(rig.cameras[0], rig.up, rig.render.width, rig.render.height);
  PathOptions options = options_of(rig);
  options.guide = guide;
  std::vector<double> means(static_cast<std::size_t>(pictures));
  parallel_for(means.size(), [&](std::size_t seed) {
    constexpr std::uint32_t kPaths = 1 << 14;
    std::vector<float> sums(scene.layers.size() * 3), luminance(scene.layers.size());
    RayCounts counts;
    for (std::uint32_t i = 0; i < kPaths; ++i) {
      const Sampler sampler(900 + static_cast<std::uint32_t>(seed), 5, i);
      const Vec2 place = sampler.pair(0);
      LightSink sink(sums.data(), luminance.data(), 1);
      trace_path(scene,
                 camera.ray(place.x() * static_cast<float>(rig.render.width),
                            place.y() * static_cast<float>(rig.render.height),
                            sampler.pair(1)),
                 sampler,
                 options,
                 sink,
                 nullptr,
                 counts);
      means[seed] += static_cast<double>(sink.total()) / kPaths;
    }
  });
  RunningMoments m;
  for (const double mean : means) {
    m.add(mean);
  }
  return m;
}

}  // namespace

TEST_CASE("a tree of directions integrates to one, and is the histogram of its samples",
          "[render][guide]") {
  Rng rng(0x7ee5);
  const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
  const Frame frame = Frame::around(Vec3(0.3f, 0.5f, -0.8f).normalized());
  std::vector<DirectionSample> samples;
  for (int i = 0; i < 900; ++i) {
    const Vec3 narrow =
        frame.to_world(Vec3(0.2f * (uniform() - 0.5f), 0.2f * (uniform() - 0.5f), 1).normalized());
    const Vec3 d = i % 3 == 0 ? direction_of({uniform(), uniform()}) : narrow;
    samples.push_back({square_of(d), 1});
  }
  std::vector<DirectionNode> nodes(1);
  const std::uint32_t root = add_direction_tree(samples, 0.05f, nodes);
  REQUIRE(nodes.size() > 20);
  // Cells of the finest quarter, 2^-9 of a side, are even: their middles tell the whole integral.
  constexpr int kSide = 512;
  double integral = 0;
  std::array<double, 64> bins{};
  for (int y = 0; y < kSide; ++y) {
    for (int x = 0; x < kSide; ++x) {
      const Vec2 place((static_cast<float>(x) + 0.5f) / kSide,
                       (static_cast<float>(y) + 0.5f) / kSide);
      const double share = static_cast<double>(directions_pdf(nodes, root, direction_of(place))) *
                           4 * kPiD / (static_cast<double>(kSide) * kSide);
      integral += share;
      bins[static_cast<std::size_t>(y / 64 * 8 + x / 64)] += share;
    }
  }
  CHECK(integral == Approx(1).epsilon(2e-3));  // rounding moves middles over the rims of cells
  constexpr int kSamples = 200'000;
  std::array<int, 64> counts{};
  for (int i = 0; i < kSamples; ++i) {
    float pdf = 0;
    const Vec3 d = sample_directions(nodes, root, {uniform(), uniform()}, pdf);
    CHECK(d.norm() == Approx(1).epsilon(1e-5));
    const Vec2 place = square_of(d);
    ++counts[static_cast<std::size_t>(static_cast<int>(place.y() * 8) * 8 +
                                      static_cast<int>(place.x() * 8))];
  }
  for (std::size_t b = 0; b < bins.size(); ++b) {
    const double expected = bins[b] * kSamples;
    INFO("bin " << b << ": " << counts[b] << " of " << expected);
    CHECK(std::abs(counts[b] - expected) < 6 * std::sqrt(expected) + 0.02 * expected);
  }
}

TEST_CASE("a guide's densities integrate to one from any place of its cells", "[render][guide]") {
  const Rig rig = rig_of(kShadeRoom);
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const auto guide = learned(rig, *scene);
  REQUIRE(guide != nullptr);
  REQUIRE(guide->surfaces.cells() > 4);
  Rng rng(0x1d);
  const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
  int aimed = 0;
  for (int k = 0; k < 12; ++k) {
    const Vec3 p(4 * uniform() - 2, 4 * uniform() - 2, 2.4f * uniform());
    const GuideCell& cell = guide->surfaces.cell(guide->surfaces.cell_at(p, Vec3(0, 0, 1)));
    aimed += cell.target_count > 0 ? 1 : 0;
    // Over directions spread evenly, and as one over the density of its own samples.
    RunningMoments even, own;
    for (std::uint32_t i = 0; i < 40'000; ++i) {
      even.add(
          4 * kPiD *
          static_cast<double>(guide->surfaces.pdf(cell, p, direction_of({uniform(), uniform()}))));
      float pdf = 0;
      const Vec3 d = guide->surfaces.sample(cell, p, {uniform(), uniform()}, pdf);
      CHECK(pdf == Approx(guide->surfaces.pdf(cell, p, d)).epsilon(1e-5));
      own.add(1 / (4 * kPiD * static_cast<double>(pdf)));
    }
    INFO("cell of " << cell.target_count << " targets: " << even.mean() << " +- "
                    << even.standard_error() << ", " << own.mean() << " +- "
                    << own.standard_error());
    CHECK(std::abs(z_test(even, 1).z) < kZBound);
    CHECK(std::abs(z_test(own, 1).z) < kZBound);
    CHECK(std::abs((1.5 * own.mean() - 1) / own.standard_error()) > kZBound);  // a bias is seen
  }
  CHECK(aimed > 0);
}

TEST_CASE(
    "lights chosen by what arrives: chances are those of the choice, and no light is left out",
    "[render][guide]") {
  std::string text = "[[object]]\nname='floor'\nshape={kind='plane'}\n";
  for (int i = 0; i < 40; ++i) {
    text += "[[light]]\nname='l" + std::to_string(i) + "'\nkind='sphere'\nradius=0.03\nat=[" +
            std::to_string(i % 8) + "," + std::to_string(i / 8) + ",1]\noutput='" +
            std::to_string(50 + 10 * i) + " lm'\n";
  }
  text += "[[camera]]\nname='c'\nat=[0,-3,1]\nlook_at=[0,0,0]\n";
  const Rig rig = rig_of(text);
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const LightClusters& clusters = scene->light_clusters;
  std::vector<float> arrives(clusters.slots());
  Rng rng(0xa11);
  for (float& a : arrives) {
    a = rng.uniform() < 0.5 ? 1e-6f : static_cast<float>(rng.uniform());
  }
  const LightQuery query =
      LightQuery::surface(Vec3(2.3f, 1.7f, 0), Vec3::UnitZ(), ~std::uint64_t{0});
  for (const std::size_t certain : {std::size_t{0}, std::size_t{3}}) {
    constexpr int kDraws = 200'000;
    std::vector<double> counts(scene->emitters.size());
    LightSet set;
    for (int i = 0; i < kDraws; ++i) {
      set = clusters.choose_set(
          scene->emitters, query, (static_cast<float>(i) + 0.5f) / kDraws, arrives, certain);
      for (std::size_t k = 0; k < set.certain_count; ++k) {
        counts[set.certain[k]] += 1.0 / kDraws;
      }
      if (set.other.index != kNoIndex) {
        counts[set.other.index] += 1.0 / kDraws;
        CHECK(set.other.chance ==
              Approx(clusters.chance(scene->emitters, query, set.other.index, set, arrives))
                  .epsilon(1e-3));
      }
    }
    CHECK(set.certain_count <= certain);
    for (std::uint32_t l = 0; l < scene->emitters.size(); ++l) {
      const double chance = clusters.chance(scene->emitters, query, l, set, arrives);
      INFO("light " << l << " with " << certain << " certain");
      CHECK(chance > 0);
      CHECK(counts[l] == Approx(chance).epsilon(0.02).margin(3e-4));
    }
  }
}

TEST_CASE("lights of a cell in haze are chosen as often as is said, and none is left out",
          "[render][guide][haze]") {
  const Rig rig = rig_of(kHazyRoom + R"(
[[light]]
name = "beam"
kind = "spot"
at = [1.9, -1.9, 0.1]
aim = [1.9, -1.9, 2.3]
beam = "3 deg"
field = "4 deg"
output = "5 lm"
)");
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const auto guide = learned(rig, *scene);
  REQUIRE(guide != nullptr);
  REQUIRE(guide->haze_lights != nullptr);
  REQUIRE(guide->haze.cells() > 4);
  constexpr std::uint32_t kLights = 3, kChoices = 4096;
  for (std::uint32_t cell = 0; cell < guide->haze.cells(); ++cell) {
    std::array<int, kLights> chosen{};
    for (std::uint32_t i = 0; i < kChoices; ++i) {
      const LightChoice choice =
          guide->haze_lights->choose(cell, (static_cast<float>(i) + 0.5f) / kChoices);
      REQUIRE(choice.index < kLights);
      CHECK(choice.chance == guide->haze_lights->chance(cell, choice.index));
      ++chosen[choice.index];
    }
    double sum = 0;
    for (std::uint32_t light = 0; light < kLights; ++light) {
      const auto chance = static_cast<double>(guide->haze_lights->chance(cell, light));
      CHECK(chance >= 0.99 * 0.05 / kLights);  // the beam crosses few cells
      CHECK(std::abs(chosen[light] - chance * kChoices) <= 1);
      sum += chance;
    }
    CHECK(sum == Approx(1).epsilon(1e-6));
  }
}

TEST_CASE("a guide of photons aims at the images that they come from", "[render][guide]") {
  // A floor of 2 x 2 m on which light falls from two small images. Of the first the photons know
  // how far away it is; of the second, as behind a curved mirror, they take it for much farther.
  const Vec3 images[2] = {{0.5f, -0.3f, 1.5f}, {-1.2f, 0.8f, 0.4f}};
  constexpr float kRadius = 0.02f;
  Rng rng(0x1a6e);
  const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
  std::vector<PhotonRecord> photons;
  for (int i = 0; i < 20'000; ++i) {
    const int which = i % 2;
    PhotonRecord r;
    r.p = {2 * uniform() - 1, 2 * uniform() - 1, 0};
    r.normal = Vec3::UnitZ();
    const Vec3 to = images[which] + kRadius * even_direction({uniform(), uniform()}) - r.p,
               direction = to.normalized();
    r.place = square_of(direction);
    r.source = which == 0 ? Vec3(r.p + to) : Vec3(r.p + 7 * direction);
    r.power = 1;
    photons.push_back(r);
  }
  const GuideTree guide = GuideTree::of_photons(photons);
  REQUIRE(guide.cells() > 16);
  const auto meets = [&](const Vec3& p, const Vec3& d, const Vec3& image) {
    const Vec3 to = image - p;
    return to.dot(d) > 0 && (to - to.dot(d) * d).norm() < 2 * kRadius;
  };
  constexpr int kPlaces = 20, kDirections = 20'000;
  int met[2] = {0, 0};
  for (int i = 0; i < kPlaces; ++i) {
    const Vec3 p(1.8f * uniform() - 0.9f, 1.8f * uniform() - 0.9f, 0);
    const GuideCell& cell = guide.cell(guide.cell_at(p, Vec3::UnitZ()));
    CHECK(cell.share == 0.5f);
    RunningMoments integral;  // 1 / pdf is the solid angle that directions are chosen from
    for (int k = 0; k < kDirections; ++k) {
      float pdf = 0;
      const Vec3 d = guide.sample(cell, p, {uniform(), uniform()}, pdf);
      REQUIRE(pdf > 0);
      CHECK(pdf == Approx(guide.pdf(cell, p, d)).epsilon(1e-4));
      integral.add(1 / static_cast<double>(pdf));
      met[0] += meets(p, d, images[0]) ? 1 : 0;
      met[1] += meets(p, d, images[1]) ? 1 : 0;
    }
    INFO(integral.mean() << " +- " << integral.standard_error());
    CHECK(std::abs(integral.mean() - 4 * kPiD) < 5 * integral.standard_error());
  }
  // 1e-4 of even directions would.
  INFO(met[0] << ", " << met[1]);
  CHECK(met[0] > 0.25 * kPlaces * kDirections);
  CHECK(met[1] > 0.25 * kPlaces * kDirections);
}

TEST_CASE("learning without time for a second round guides no directions", "[render][guide]") {
  const Rig rig = rig_of(kShadeRoom);
  const auto scene = prepare_scene(rig);
  const Camera camera(rig.cameras[0], rig.up, rig.render.width, rig.render.height);
  TrainingPlan plan;
  plan.width = rig.render.width;
  plan.height = rig.render.height;
  plan.samples = 1e7;
  const auto rounds_in = [&](double seconds) {
    plan.most_seconds = seconds;
    PathOptions options;
    options.bounces = rig.render.bounces;
    RayCounts rays;
    return learn_guide(*scene, camera, options, plan, rays);
  };
  const auto hasty = rounds_in(0), whole = rounds_in(1e9);
  CHECK(hasty->rounds == 1);
  CHECK(whole->rounds > 1);
  const auto shares = [](const Guide& g) {
    float sum = 0;
    for (std::uint32_t c = 0; c < g.surfaces.cells(); ++c) {
      sum += g.surfaces.cell(c).share;
    }
    return sum;
  };
  CHECK(shares(*hasty) == 0);
  CHECK(shares(*whole) > 0);
}

TEST_CASE("the two sides of a wall know nothing of each other", "[render][guide]") {
  // A lamp on each side of a thin wall; the camera sees one of them, and the floor.
  std::string text = R"(
[[camera]]
name = "above"
at = [-3, -0.5, 5]
look_at = [0, 0, 0]
field_of_view = 60
[[material]]
name = "lime"
kind = "diffuse"
color = [0.6, 0.6, 0.6]
[[object]]
name = "floor"
shape = { kind = "plane" }
material = "lime"
[[object]]
name = "wall"
shape = { kind = "box", size = [0.02, 4, 1.5] }
at = [0, 0, 0.75]
material = "lime"
[render]
size = [64, 48]
samples = 64
bounces = 1
)";
  for (int i = 0; i < 8; ++i) {
    const std::string n = std::to_string(i), x = i < 4 ? "-1" : "1";
    text += "[[light]]\nname='l" + n + "'\nkind='sphere'\nradius='3 cm'\noutput='100 lm'\nat=[" +
            x + "," + std::to_string(i % 4 - 1.5) + ",0.7]\n";
  }
  const Rig rig = rig_of(text);
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const auto guide = learned(rig, *scene);
  REQUIRE(guide != nullptr);
  const GuideTree& tree = guide->surfaces;
  const auto slot = [&](std::uint32_t light) { return scene->light_clusters.slot_of(light); };
  const auto wall = tree.arrives(tree.cell_at(Vec3(-0.01f, 0.1f, 0.6f), Vec3(-1, 0, 0)));
  const auto near = tree.arrives(tree.cell_at(Vec3(-0.3f, 0, 0), Vec3(0, 0, 1)));
  const auto far = tree.arrives(tree.cell_at(Vec3(1.6f, 0, 0), Vec3(0, 0, 1)));
  for (std::uint32_t k = 0; k < scene->emitters.size(); ++k) {
    const bool before = scene->emitters[k].center.x() < 0;
    INFO("light " << k << ": " << wall[slot(k)] << " on the wall, " << near[slot(k)]
                  << " on the floor before it, " << far[slot(k)] << " beyond");
    // What lies behind a surface is never asked, so only the lamps before the wall tell of it.
    CHECK((!before || wall[slot(k)] > 0.8f));
    CHECK((near[slot(k)] > 0.5f) == before);
    CHECK((far[slot(k)] > 0.5f) == !before);
  }
}

TEST_CASE("a light that brings nothing does not make the others noisy", "[render][guide]") {
  const std::string lit = kShadeRoom +
                          "[[light]]\nname='panel'\nkind='disk'\nradius=0.2\nat=[0,0,2.3]"
                          "\ntoward=[0,0,-1]\noutput='600 lm'\n";
  const auto noise = [&](const std::string& more) {
    Rig rig = rig_of(lit + more);
    rig.render.bounces = 1;
    rig.render.samples = 16;
    const auto scene = prepare_scene(rig);
    return render(rig, *scene, {}).stats.noise.p95;
  };
  const double alone = noise("");
  CHECK(noise("[[light]]\nname='sun'\nkind='sun'\ntoward=[0.3,0.2,-1]\noutput='90 klx'\n") <
        1.3 * alone + 1e-4);
}

TEST_CASE("what is learned has the same bits for any number of threads", "[render][guide]") {
  const Rig rig = rig_of(kHazyRoom);
  const auto scene = prepare_scene(rig);
  const auto of_threads = [&](int threads) {
    std::shared_ptr<const Guide> guide;
    with_threads(threads, [&] { guide = learned(rig, *scene); });
    return guide;
  };
  const auto one = of_threads(1), three = of_threads(3);
  REQUIRE(one->surfaces.cells() == three->surfaces.cells());
  Rng rng(3);
  const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
  for (int i = 0; i < 2000; ++i) {
    const Vec3 p(4 * uniform() - 2, 4 * uniform() - 2, 2.4f * uniform());
    const Vec3 d = direction_of({uniform(), uniform()});
    for (const auto tree : {&Guide::surfaces, &Guide::haze}) {
      const std::uint32_t n = ((*one).*tree).cell_at(p, Vec3(0, 0, 1));
      REQUIRE(n == ((*three).*tree).cell_at(p, Vec3(0, 0, 1)));
      CHECK(((*one).*tree).pdf(((*one).*tree).cell(n), p, d) ==
            ((*three).*tree).pdf(((*three).*tree).cell(n), p, d));
      CHECK(((*one).*tree).cell(n).share == ((*three).*tree).cell(n).share);
    }
  }
}

TEST_CASE("guided pictures have the mean of plain ones, and a bias would be seen [slow]",
          "[render][guide][statistical]") {
  for (const auto& [name, text] :
       {std::pair("shade room", kShadeRoom), std::pair("hazy room", kHazyRoom)}) {
    const Rig rig = rig_of(text);
    const auto scene = prepare_scene(rig);
    const auto guide = learned(rig, *scene);
    REQUIRE(guide != nullptr);
    const KnownMean plain = known_mean(name, text, [&](int factor) {
      return KnownMean::of(picture_mean(rig, *scene, nullptr, factor * kScramblingsTested));
    });
    const RunningMoments guided = picture_mean(rig, *scene, guide.get());
    INFO(plain.mean() << " +- " << plain.standard_error() << " plain, " << guided.mean() << " +- "
                      << guided.standard_error() << " guided");
    CHECK(std::abs(difference_in_errors(guided, plain)) < kScramblingBound);
    CHECK(std::abs(difference_in_errors(guided, plain, 1.2)) > kScramblingBound);
  }
}

TEST_CASE("guiding lowers the noise of light that comes by bounces", "[render][guide]") {
  Rig rig = rig_of(kShadeRoom);
  rig.render.width = 64;
  rig.render.height = 48;
  rig.render.samples = 128;
  const auto scene = prepare_scene(rig);
  const Render guided = render(rig, *scene, {});
  CHECK(guided.state.guide_rounds >= 1);
  CHECK(guided.state.guide_paths > 0);
  rig.render.guiding = false;
  const Render plain = render(rig, *scene, {});
  CHECK(plain.state.guide_rounds == 0);
  CHECK(guided.stats.noise.p95 < 0.8 * plain.stats.noise.p95);
  CHECK(guided.stats.noise.fireflies <= plain.stats.noise.fireflies);
}

TEST_CASE("what lies behind even haze is seen without chance", "[render][haze]") {
  Rig rig = rig_of(R"(
[[camera]]
name = "c"
at = [0, -3, 1]
look_at = [0, 0, 1]
field_of_view = 20
[[light]]
name = "panel"
kind = "rect"
at = [0, 0, 1]
toward = [0, -1, 0]
size = [2, 2]
output = "100 cd/m2"
[[haze]]
name = "smoke"
inside = "everywhere"
extinction = "0.5 /m"
albedo = 0
[render]
size = [16, 12]
samples = 16
)");
  const auto scene = prepare_scene(rig);
  const Render r = render(rig, *scene, {});
  // Rays of the picture's middle are 3 m long to a thousandth.
  const std::size_t middle = r.film().pixel(8, 6);
  CHECK(r.film().luminance(middle) == Approx(100 * std::exp(-1.5)).epsilon(1e-3));
  CHECK(r.stats.noise.p95 < 1e-3);
}

TEST_CASE("haze_bounces limits scatterings in haze apart", "[render][haze]") {
  Rig rig = rig_of(kHazyRoom);
  const auto scene = prepare_scene(rig);
  const double all = render(rig, *scene, {}).stats.mean_luminance;
  rig.render.haze_bounces = 1;
  const double once = render(rig, *scene, {}).stats.mean_luminance;
  rig.render.haze_bounces = 0;
  const double never = render(rig, *scene, {}).stats.mean_luminance;
  CHECK(never < 0.98 * once);
  CHECK(once < 0.998 * all);
}
