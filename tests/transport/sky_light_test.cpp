// Light of skies, domes and suns that comes through openings: rays chosen where it enters, and
// directions where each cell sees it. Densities, flux, and pictures with the mean of plain
// rendering.
#include "jovilux/render/renderer.h"
#include "jovilux/transport/cell_places.h"
#include "jovilux/transport/distant_emission.h"
#include "jovilux/transport/guide_training.h"
#include "jovilux/transport/sky_guide.h"
#include "jovilux/transport/virtual_lights.h"

#include <cmath>

#include "tests/support/known_means.h"
#include "tests/support/rigs.h"
#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

constexpr double kSkyLuminance = 1000;

const std::string kEvenSky = R"(
[[light]]
name = "sky"
kind = "sky"
model = "uniform"
output = "1000 cd/m2"
)";
const std::string kSun = R"(
[[light]]
name = "sun"
kind = "sun"
toward = [-0.8, 0.15, -0.5]
output = "20 klx"
)";
const std::string kGround = R"(
[[object]]
name = "ground"
shape = { kind = "plane" }
at = [0, 0, -0.2]
material = "lime"
)";
// Reaches far out of the room, so that light is scattered on its way to the window.
const std::string kMistAround = R"(
[[solid]]
name = "air"
kind = "box"
size = [14, 6, 5]
at = [3, 0, 2]
[[haze]]
name = "mist"
inside = "air"
extinction = "0.08 /m"
albedo = 0.9
anisotropy = 0.5
)";

// A room of 4 x 4 x 3 m with thin walls of albedo 0.6; its eastern wall has an opening, 4 m wide,
// from 1.5 to 2.2 m above the floor.
std::string room_with_window(const std::string& lights) {
  const auto box = [](const char* name, const char* at, const char* size) {
    return std::string("[[object]]\nname='") + name + "'\nmaterial='lime'\nat=" + at +
           "\nshape={kind='box',size=" + size + "}\n";
  };
  return R"(
[[camera]]
name = "c"
at = [1.7, -1.7, 1.4]
look_at = [-1, 1, 1.2]
field_of_view = 70
[[material]]
name = "lime"
kind = "diffuse"
color = [0.6, 0.6, 0.6]
)" + box("floor", "[0,0,-0.01]", "[4,4,0.02]") +
         box("ceiling", "[0,0,3.01]", "[4,4,0.02]") +
         box("north", "[0,2.01,1.5]", "[4.04,0.02,3.04]") +
         box("south", "[0,-2.01,1.5]", "[4.04,0.02,3.04]") +
         box("west", "[-2.01,0,1.5]", "[0.02,4,3.04]") +
         box("east-low", "[2.01,0,0.75]", "[0.02,4,1.5]") +
         box("east-top", "[2.01,0,2.61]", "[0.02,4,0.82]") + lights + R"(
[render]
size = [48, 32]
samples = 64
bounces = 5
)";
}

struct LearnedRoom {
  explicit LearnedRoom(const std::string& lights)
      : rig(rig_of(room_with_window(lights))), scene(prepare_scene(rig)) {
    REQUIRE(scene);
    const Camera camera(rig.cameras[0], rig.up, rig.render.width, rig.render.height);
    TrainingPlan plan;
    plan.width = rig.render.width;
    plan.height = rig.render.height;
    plan.rounds = 2;
    plan.samples = 1e6;
    plan.connects = true;
    PathOptions options;
    options.bounces = rig.render.bounces;
    RayCounts rays;
    guide = learn_guide(*scene, camera, options, plan, rays);
    REQUIRE(guide != nullptr);
  }

  const Rig rig;
  const Result<Scene> scene;
  std::shared_ptr<const Guide> guide;
};

// Rays of a light through a rectangle that stands upright, 1 m wide and 0.4 m high, 3 m from the
// middle.
std::vector<DistantArrival> through_rectangle(const Emitter& e, int count) {
  Rng rng(0x77);
  const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
  std::vector<DistantArrival> out;
  while (static_cast<int>(out.size()) < count) {
    const LightSample light = DistantEmission::direction(e, {uniform(), uniform()});
    const Vec3 p(3, uniform() - 0.5f, 1 + 0.4f * uniform());
    const float facing = light.wi.x();
    if (light.weight > 0 && facing > 0.05f) {
      out.push_back({DistantEmission::ray_of(e, Vec3::Zero(), p, light.wi), facing});
    }
  }
  return out;
}

}  // namespace

TEST_CASE("a distant light's photons carry the light of the rays that it covers", "[render][sky]") {
  for (const std::string& light : {kEvenSky, kSun}) {
    const Rig rig = rig_of(room_with_window(light));
    const auto scene = prepare_scene(rig);
    REQUIRE(scene);
    const Emitter& e = scene->emitters[0];
    DistantEmission emission(e, Vec3::Zero(), through_rectangle(e, 4000));
    INFO(light << emission.cells() << " cells");
    REQUIRE(emission.cells() > (e.kind == LightKind::kSun ? 1 : 20));
    Rng rng(0x51);
    const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
    // By rays spread evenly over all directions and a square of 8 m.
    RunningMoments by_rays;
    for (int i = 0; i < 400'000; ++i) {
      const LightSample towards = DistantEmission::direction(e, {uniform(), uniform()});
      const Frame frame = Frame::around(towards.wi);
      const Vec3 p = (8 * uniform() - 4) * frame.x + (8 * uniform() - 4) * frame.y;
      const bool covered =
          towards.weight > 0 && emission.covers(e, p, towards.wi) != Covers::kNothing;
      by_rays.add(covered ? 64 * static_cast<double>(towards.weight) : 0.0);
    }
    for (const bool by_importance : {false, true}) {
      if (by_importance) {
        std::vector<double> importance(emission.cells());
        for (std::size_t k = 0; k < importance.size(); ++k) {
          importance[k] = static_cast<double>(k % 5);
        }
        emission.choose_by(importance);
      }
      RunningMoments by_photons;
      int outside = 0;
      for (int i = 0; i < 100'000; ++i) {
        const EmittedPhoton photon =
            emission.sample(e, uniform(), {uniform(), uniform()}, {uniform(), uniform()});
        by_photons.add(static_cast<double>(photon.flux));
        outside +=
            photon.flux > 0 &&
            emission.covers(e, photon.ray.origin, Vec3(-photon.ray.direction)) == Covers::kNothing;
      }
      INFO(by_photons.mean() << " lm by photons, " << by_rays.mean() << " by rays");
      CHECK(std::abs(difference_in_errors(by_photons, by_rays)) < kZBound);
      CHECK(std::abs(difference_in_errors(by_photons, by_rays, 1.1)) > kZBound);
      CHECK(emission.flux() == Approx(by_photons.mean()).epsilon(by_importance ? 1 : 0.1));
      CHECK(outside < 100);  // by rounding, at the edges of cells
    }
  }
}

TEST_CASE("a distant light covers nearly all rays that arrived, and photons come near them",
          "[render][sky]") {
  const Rig rig = rig_of(room_with_window(kEvenSky));
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const Emitter& e = scene->emitters[0];
  const DistantEmission emission(e, Vec3::Zero(), through_rectangle(e, 4000));
  Rng rng(0x52);
  const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
  int arriving = 0, covered = 0;
  for (int i = 0; i < 20'000; ++i) {
    const Vec3 wi = even_direction({uniform(), uniform()});
    if (wi.z() > 0.02f && wi.x() > 0.1f) {
      const Vec3 p(3, uniform() - 0.5f, 1 + 0.4f * uniform());
      ++arriving;
      covered += emission.covers(e, p, wi) != Covers::kNothing ? 1 : 0;
    }
  }
  // Rays that pass the rectangle or within half a meter of it: of photons, and of rays spread
  // evenly over the sky and a square of 8 m.
  const auto near = [](const Ray& ray) {
    const Vec3 p = ray.at((3 - ray.origin.x()) / ray.direction.x());
    return std::abs(p.y()) < 1 && std::abs(p.z() - 1.2f) < 0.7f ? 1 : 0;
  };
  int near_photons = 0, near_rays = 0;
  constexpr int kRays = 20'000;
  for (int i = 0; i < kRays; ++i) {
    near_photons +=
        near(emission.sample(e, uniform(), {uniform(), uniform()}, {uniform(), uniform()}).ray);
    const Vec3 wi = DistantEmission::direction(e, {uniform(), uniform()}).wi;
    const Frame frame = Frame::around(wi);
    near_rays += near({(8 * uniform() - 4) * frame.x + (8 * uniform() - 4) * frame.y, Vec3(-wi)});
  }
  INFO(covered << " of " << arriving << " rays covered; near are " << near_photons
               << " photons and " << near_rays << " even rays of " << kRays);
  CHECK(covered > 0.9 * arriving);
  CHECK(near_photons > 10 * near_rays);
  CHECK(DistantEmission(e, Vec3::Zero(), {}).flux() == 0);
  CHECK(DistantEmission(e, Vec3::Zero(), {}).covers(e, Vec3::Zero(), Vec3::UnitZ()) ==
        Covers::kNothing);
}

TEST_CASE("a sky's photons bring a room what its window lets in", "[render][sky]") {
  const LearnedRoom room(kEvenSky);
  REQUIRE(room.guide->virtual_lights != nullptr);
  RunningMoments entered;
  for (std::uint32_t sample = 0; sample < 64; ++sample) {
    RayCounts rays;
    const VirtualLightSet set = room.guide->virtual_lights->trace(3, sample, rays);
    double flux = 0;
    for (const VirtualLight& v : set.lights) {
      const bool inside = v.position.cwiseAbs().head<2>().maxCoeff() < 2.005f &&
                          v.position.z() > -0.005f && v.position.z() < 3.005f &&
                          v.normal.dot(Vec3(0, 0, 1.5f) - v.position) > 0;
      flux += inside && v.scatterings == 1 ? static_cast<double>(v.flux.mean()) : 0.0;
    }
    entered.add(flux);
  }
  // Half of the even sky shines on an upright opening: E = pi L / 2.
  const double exact = 4 * 0.7 * kPiD * kSkyLuminance / 2;
  INFO(entered.mean() << " +- " << entered.standard_error() << " lm of " << exact);
  CHECK(entered.standard_error() < 0.02 * exact);
  // Some of it is left to camera paths.
  CHECK(entered.mean() < exact + kZBound * entered.standard_error());
  CHECK(entered.mean() > 0.85 * exact);
}

TEST_CASE("heavy photons of wide sunlit ground end where they fall", "[render][sky]") {
  const LearnedRoom room(kSun + kGround);
  REQUIRE(room.guide->virtual_lights != nullptr);
  const VirtualLights& lights = *room.guide->virtual_lights;
  const Emitter& sun = room.scene->emitters[0];
  std::size_t first_only = 0, whole = 0, unlike = 0;
  for (std::uint32_t sample = 0; sample < 32; ++sample) {
    RayCounts rays;
    for (const VirtualLight& v : lights.trace(3, sample, rays).lights) {
      (v.first_only ? first_only : whole) += 1;
      CHECK((!v.first_only || v.scatterings == 1));
      if (v.scatterings == 1) {
        const Covers covers = lights.covers(sun, v.position, v.to_light);
        unlike += covers != (v.first_only ? Covers::kFirst : Covers::kAll) ? 1 : 0;
      }
    }
  }
  INFO(first_only << " end at their first scattering, " << whole << " do not, " << unlike
                  << " unlike their rays");
  CHECK(first_only > 100);
  CHECK(whole > first_only);
  CHECK(unlike < (first_only + whole) / 500);  // by rounding, at the edges of cells
}

TEST_CASE("distant lights are connected through openings, not in the open", "[render][sky]") {
  const LearnedRoom room(kEvenSky);
  REQUIRE(room.guide->virtual_lights != nullptr);
  CHECK(room.guide->virtual_lights->carries(room.scene->emitters[0]));
  CHECK(room.guide->skies != nullptr);
  std::string text = room_with_window(kEvenSky + kGround);
  text.replace(text.find("at=[0,0,3.01]"), 13, "at=[0,0,9.01]");  // the ceiling far above
  const Rig rig = rig_of(text);
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const Camera camera(rig.cameras[0], rig.up, rig.render.width, rig.render.height);
  TrainingPlan plan;
  plan.width = rig.render.width;
  plan.height = rig.render.height;
  plan.samples = 1e6;
  plan.connects = true;
  PathOptions options;
  options.bounces = 5;
  RayCounts rays;
  const auto open = learn_guide(*scene, camera, options, plan, rays);
  REQUIRE(open != nullptr);
  CHECK(open->virtual_lights == nullptr);
}

TEST_CASE("directions toward a sky in a room: their density is one, and that of what is chosen",
          "[render][sky]") {
  const LearnedRoom room(kEvenSky);
  REQUIRE(room.guide->skies != nullptr);
  const SkyGuide& skies = *room.guide->skies;
  const Emitter& e = room.scene->emitters[0];
  Rng rng(0x53);
  const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
  const Vec3 p(-1.9f, 0.3f, 0.8f), side = Vec3::UnitX();
  const std::uint32_t cell = room.guide->surfaces.cell_at(p, side);
  constexpr int kAcross = 4, kSamples = 400'000;
  const auto bin = [&](const Vec3& d) {
    const Vec2 s = square_of(d) * static_cast<float>(kAcross);
    return static_cast<std::size_t>(s.y()) * kAcross + static_cast<std::size_t>(s.x());
  };
  std::vector<double> wanted(kAcross * kAcross), chosen(kAcross * kAcross);
  double through = 0, plainly = 0;
  int unlike = 0;
  const auto passes_window = [&](const Vec3& d) {
    const float t = d.x() > 0 ? (2 - p.x()) / d.x() : 0, y = p.y() + t * d.y(),
                z = p.z() + t * d.z();
    return t > 0 && std::abs(y) < 2 && z > 1.5f && z < 2.2f;
  };
  for (int i = 0; i < kSamples; ++i) {
    const Vec3 d = even_direction({uniform(), uniform()});
    if (d.z() > 0 && d.x() > 0) {  // above the horizon and the wall; nothing comes from elsewhere
      wanted[bin(d)] +=
          4 * kPiD * static_cast<double>(skies.pdf(e, 0, cell, p, d, &side)) / kSamples;
    }
    const LightSample light = skies.sample(e, 0, cell, p, {uniform(), uniform()}, &side);
    if (light.pdf > 0) {
      chosen[bin(light.wi)] += 1.0 / kSamples;
      through += passes_window(light.wi) ? 1.0 / kSamples : 0.0;
      CHECK(light.weight * light.pdf == Approx(kSkyLuminance).epsilon(1e-3));
      const float pdf = skies.pdf(e, 0, cell, p, light.wi, &side);
      unlike += std::abs(light.pdf / pdf - 1) > 1e-3f ? 1 : 0;
    }
    const LightSample plain = sample_toward(e, p, {uniform(), uniform()}, &side);
    plainly += passes_window(plain.wi) ? 1.0 / kSamples : 0.0;
  }
  double all = 0;
  for (std::size_t k = 0; k < wanted.size(); ++k) {
    all += wanted[k];
    INFO("bin " << k << ": " << chosen[k] << " chosen, " << wanted[k] << " by density");
    CHECK(chosen[k] == Approx(wanted[k]).epsilon(0.05).margin(0.01));
  }
  CHECK(all < 1.02);
  CHECK(all > 0.7);
  CHECK(unlike < kSamples / 10'000);  // by rounding, at the edges of the tree's squares
  INFO(through << " of directions pass the window, " << plainly << " of the sky's own");
  CHECK(through > 3 * plainly);
  CHECK(through > 0.3);
}

TEST_CASE("toward a plain sky each direction brings a diffuse surface the same", "[render][sky]") {
  const std::string model = GENERATE("uniform", "overcast");
  const Rig rig =
      rig_of("[[light]]\nname='sky'\nkind='sky'\noutput='1000 cd/m2'\nmodel='" + model + "'\n");
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const Emitter& sky = scene->emitters[0];
  const double zenith = static_cast<double>(sky.luminance);
  const bool overcast = model == "overcast";
  Rng rng(0x5c);
  const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
  for (const double tilt : {0.0, 0.4, kPiD / 2, 2.2, 2.7}) {
    const Vec3 normal(static_cast<float>(std::sin(tilt) * 0.6),
                      static_cast<float>(std::sin(tilt) * 0.8),
                      static_cast<float>(std::cos(tilt)));
    // Illuminance of a tilted plane: pi L (1 + cos theta) / 2 of an even sky. Of an overcast one a
    // third of that, and (4/9) L ((pi - theta) cos theta + sin theta) of 2 sin(elevation) / 3.
    const double even = kPiD / 2 * (1 + std::cos(tilt)),
                 wanted =
                     zenith *
                     (overcast
                          ? even / 3 + 4.0 / 9 * ((kPiD - tilt) * std::cos(tilt) + std::sin(tilt))
                          : even);
    constexpr int kSamples = 20'000, kBins = 4;
    std::array<double, kBins> chosen{}, by_density{};
    double least = 1e30, most = 0;
    const auto bin = [&](const Vec3& d) {
      return std::min<std::size_t>(kBins - 1, static_cast<std::size_t>(kBins * d.dot(normal)));
    };
    for (int i = 0; i < kSamples; ++i) {
      const LightSample light = sample_toward(sky, Vec3::Zero(), {uniform(), uniform()}, &normal);
      const float cosine = light.wi.dot(normal);
      if (cosine > 0.01f) {  // below, rounding of the direction counts
        const double brought = static_cast<double>(light.weight * cosine);
        least = std::min(least, brought);
        most = std::max(most, brought);
        CHECK(light.pdf == Approx(light_pdf(sky, Vec3::Zero(), light.wi, {}, &normal)));
        chosen[bin(light.wi)] += 1.0 / kSamples;
      }
      const Vec3 d = even_direction({uniform(), uniform()});
      if (d.z() > 0 && d.dot(normal) > 0) {
        by_density[bin(d)] +=
            4 * kPiD / kSamples * static_cast<double>(light_pdf(sky, Vec3::Zero(), d, {}, &normal));
      }
    }
    INFO(model << ", tilt " << tilt);
    CHECK(least == Approx(wanted).epsilon(2e-4));
    CHECK(most == Approx(wanted).epsilon(2e-4));
    for (std::size_t k = 0; k < kBins; ++k) {
      INFO("bin " << k);
      CHECK(chosen[k] == Approx(by_density[k]).margin(0.04));
    }
  }
}

TEST_CASE("cells know their places and their neighbors", "[render][sky]") {
  const LearnedRoom room(kEvenSky);
  const GuideTree& tree = room.guide->surfaces;
  std::vector<ShadingPlace> places;
  Rng rng(0x54);
  for (int i = 0; i < 2000; ++i) {
    const auto along = [&] { return static_cast<float>(rng.uniform(-1.9, 1.9)); };
    places.push_back({{along(), along(), 0}, Vec3::UnitZ()});
  }
  const auto cells = places_by_cell(tree, places, 8);
  REQUIRE(cells.size() == tree.cells());
  const auto neighbors = neighbors_of(cells, places, 4);
  std::size_t with_places = 0;
  for (std::uint32_t c = 0; c < cells.size(); ++c) {
    CHECK(cells[c].size() <= 8);
    for (const std::uint32_t i : cells[c]) {
      CHECK(tree.cell_at(places[i].position, places[i].normal) == c);
    }
    if (!cells[c].empty()) {
      ++with_places;
      REQUIRE(!neighbors[c].empty());
      CHECK(neighbors[c].size() <= 4);
      CHECK(neighbors[c][0] == c);  // nearest to itself
    }
  }
  CHECK(with_places > 3);
}

namespace {

RunningMoments means_of(Rig rig, const Scene& scene, bool guiding, int seeds, double* noise) {
  rig.render.guiding = guiding;
  RunningMoments out;
  for (int seed = 1; seed <= seeds; ++seed) {
    rig.render.seed = static_cast<std::uint32_t>(seed);
    const Render r = render(rig, scene, {});
    out.add(r.stats.mean_luminance);
    if (noise != nullptr) {
      *noise += r.stats.noise.median / seeds;
    }
  }
  return out;
}

// As many pictures as show a bias of a tenth.
void check_guided_mean(
    const std::string& name, const std::string& lights, int bounces, int seeds, double less_noise) {
  const std::string text = room_with_window(lights);
  Rig rig = rig_of(text);
  rig.render.bounces = bounces;
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const KnownMean plain =
      known_mean("window: " + name, text + "bounces = " + std::to_string(bounces), [&](int factor) {
        double noise = 0;
        const RunningMoments m = means_of(rig, *scene, false, factor * seeds, &noise);
        return KnownMean::of(m, noise);
      });
  double guided_noise = 0;
  const double plain_noise = plain.noise;
  const RunningMoments guided = means_of(rig, *scene, true, seeds, &guided_noise);
  INFO(plain.mean() << " +- " << plain.standard_error() << " plain, " << guided.mean() << " +- "
                    << guided.standard_error() << " guided; noise " << plain_noise << ", "
                    << guided_noise);
  CHECK(std::abs(difference_in_errors(guided, plain)) < kScramblingBound);
  CHECK(std::abs(difference_in_errors(guided, plain, 1.1)) > kScramblingBound);
  CHECK(guided_noise < plain_noise / less_noise);
}

}  // namespace

TEST_CASE("a room lit through a window has the mean of plain rendering, with less noise [slow]",
          "[render][sky][statistical]") {
  check_guided_mean("sky, direct light", kEvenSky, 1, 6, 1.8);
  check_guided_mean("sky", kEvenSky, 5, 5, 2);
}

TEST_CASE("so has one that the sun shines into, on open ground [slow]",
          "[render][sky][statistical]") {
  check_guided_mean("sun on open ground", kEvenSky + kSun + kGround, 5, 7, 1);
}

TEST_CASE("so has one that is lit from sunlit ground [slow]", "[render][sky][statistical]") {
  // A strip of the floor is in the sun, which shines from high up; most light comes by the ground.
  std::string high = kSun;
  high.replace(high.find("-0.8, 0.15, -0.5"), 16, "-0.2, 0.15, -0.9");
  check_guided_mean("sunlit ground", high + kGround, 4, 6, 1);
}

TEST_CASE("so has one in mist that ends outside it [slow]", "[render][sky][haze][statistical]") {
  check_guided_mean("mist that ends", kEvenSky + kSun + kMistAround, 5, 5, 1.5);
}

TEST_CASE("distant lights are connected through haze that ends, not through endless haze",
          "[render][sky][haze]") {
  const LearnedRoom ends(kSun + kMistAround);
  REQUIRE(ends.guide->virtual_lights != nullptr);
  CHECK(ends.guide->virtual_lights->carries(ends.scene->emitters[0]));
  // A lamp beside the sun, whose light does not come through.
  const std::string lamp = R"(
[[light]]
name = "lamp"
kind = "sphere"
at = [-1, 0, 2]
radius = 0.05
output = "800 lm"
)";
  std::string mist = kMistAround;
  mist.replace(mist.find("\"air\"\nextinction"), 5, "\"everywhere\"");
  const LearnedRoom endless(lamp + kSun + mist);
  const auto& lights = endless.guide->virtual_lights;
  CHECK((lights == nullptr || !lights->carries(endless.scene->emitters[1])));
  CHECK((lights == nullptr || lights->least_survival() == 0));
}
