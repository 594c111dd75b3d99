// Caustics: closed forms of lights without size, and paths from lights against paths from the
// camera alone.
#include "jovilux/transport/light_paths.h"

#include "jovilux/render/renderer.h"

#include <cmath>

#include "tests/support/known_means.h"
#include "tests/support/rigs.h"
#include "tests/support/statistics.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// The mean luminance of one part of the light "lamp" over the picture, over `most` independent
// scramblings; over 16 where the standard error is below `fine` of the mean by then.
RunningMoments part_mean(Rig rig, Part part, int most = kScramblingsTested, double fine = 0) {
  const auto scene = prepare_scene(rig);
  for (const Problem& p : scene.problems()) {
    INFO(to_string(p));
    REQUIRE(p.severity == Severity::kWarning);
  }
  const auto layer = static_cast<int>(
      std::find(scene->layers.begin(), scene->layers.end(), "lamp") - scene->layers.begin());
  RunningMoments m;
  for (int s = 0; s < most; ++s) {
    if (s >= 16 && m.standard_error() < fine * m.mean()) {
      break;
    }
    rig.render.seed = static_cast<std::uint32_t>(300 + s);
    // Learning takes longer than such small pictures, and changes no mean: some have it.
    rig.render.guiding = s % 8 == 0;
    const Render r = render(rig, *scene, {});
    double sum = 0;
    for (std::size_t i = 0; i < r.film().pixels(); ++i) {
      sum += r.film().slot_mean(i, layer * r.film().parts() + static_cast<int>(part)).y();
    }
    m.add(sum / static_cast<double>(r.film().pixels()));
  }
  return m;
}

void check_exact(const RunningMoments& m, double exact, double fine) {
  INFO(m.mean() << " +- " << m.standard_error() << " against " << exact);
  CHECK(std::abs(m.mean() - exact) < kScramblingBound * m.standard_error() + 1e-3 * exact);
  CHECK(m.standard_error() < fine * exact);
}

const std::string kFloor = R"(
[[object]]
name = "floor"
shape = { kind = "plane" }
[render]
size = [48, 48]
samples = 6
bounces = 2
layers = "lights+parts"
)";

// A patch of the floor around a place, seen from above.
std::string patch(double x, double y, double view) {
  return "[[camera]]\nname = 'c'\nat = [" + std::to_string(x) + ", " + std::to_string(y) +
         ", 0.5]\nlook_at = [" + std::to_string(x) + ", " + std::to_string(y) +
         ", 0]\nfield_of_view = " + std::to_string(view) + "\n";
}

}  // namespace

TEST_CASE("a lamp without size lights the floor by a mirror as its image would", "[caustics]") {
  // The mirror is the plane x = 1; the image stands at (1.5, 0, 1), the patch at (0, 0, 0).
  const std::string mirror = R"(
[[material]]
name = "m"
kind = "metal"
color = [1, 1, 1]
roughness = 0
[[object]]
name = "wall"
material = "m"
shape = { kind = "rect", size = [0.1, 0.1] }
at = [1, 0, 0.6666667]
rotate = [0, 90, 0]
)";
  constexpr double kFine = 6e-3;
  const double d2 = 1.5 * 1.5 + 1, exact = 0.5 / kPiD * 1000 / (4 * kPiD) / d2 / std::sqrt(d2);
  SECTION("point") {
    check_exact(
        part_mean(
            rig_of(
                patch(0, 0, 5) + mirror + kFloor +
                "[[light]]\nname = 'lamp'\nkind = 'point'\nat = [0.5, 0, 1]\noutput = '1000 lm'\n"),
            Part::kCaustic,
            kScramblingsTested,
            kFine),
        exact,
        8e-3);
  }
  SECTION("a small sphere, found both ways") {
    check_exact(part_mean(rig_of(patch(0, 0, 5) + mirror + kFloor +
                                 "[[light]]\nname = 'lamp'\nkind = 'sphere'\nradius = '5 mm'\nat = "
                                 "[0.5, 0, 1]\noutput = '1000 lm'\n"),
                          Part::kCaustic,
                          kScramblingsTested,
                          kFine),
                exact,
                8e-3);
  }
  SECTION("hidden from camera and mirrors") {
    check_exact(part_mean(rig_of(patch(0, 0, 5) + mirror + kFloor +
                                 "[[light]]\nname = 'lamp'\nkind = 'sphere'\nradius = '5 mm'\nat = "
                                 "[0.5, 0, 1]\noutput = '1000 lm'\ncheat = { visible = false }\n"),
                          Part::kCaustic,
                          kScramblingsTested,
                          kFine),
                exact,
                8e-3);
  }
  SECTION("a pane") {
    // It reflects 2 r / (1 + r), by the angle of incidence.
    std::string pane = mirror;
    const std::string metal = "kind = \"metal\"\ncolor = [1, 1, 1]\nroughness = 0";
    pane.replace(pane.find(metal), metal.size(), "kind = \"glass\"\nthin = true");
    const double sin_i = 1 / std::sqrt(d2), cos_i = 1.5 / std::sqrt(d2),
                 cos_t = std::sqrt(1 - sin_i * sin_i / 2.25);
    const double s = std::pow((cos_i - 1.5 * cos_t) / (cos_i + 1.5 * cos_t), 2),
                 p = std::pow((1.5 * cos_i - cos_t) / (1.5 * cos_i + cos_t), 2), r = (s + p) / 2;
    check_exact(
        part_mean(
            rig_of(
                patch(0, 0, 5) + pane + kFloor +
                "[[light]]\nname = 'lamp'\nkind = 'point'\nat = [0.5, 0, 1]\noutput = '1000 lm'\n"),
            Part::kCaustic,
            kScramblingsTested,
            kFine),
        exact * 2 * r / (1 + r),
        8e-3);
  }
}

TEST_CASE("what a mirror throws of a small lamp is found where a mirror shows it", "[caustics]") {
  // The camera looks level into a mirror at 45 degrees, which shows it the floor around (0, 0, 0).
  // There the wall's mirror throws the light of the lamp, as of an image at (1.5, 0, 1).
  Rig rig = rig_of(R"(
[[camera]]
name = "c"
at = [-0.5, 0, 0.25]
look_at = [0, 0, 0.25]
field_of_view = 0.5
[[material]]
name = "m"
kind = "metal"
color = [1, 1, 1]
roughness = 0
[[object]]
name = "periscope"
material = "m"
shape = { kind = "rect", size = [0.1, 0.1] }
at = [0, 0, 0.25]
rotate = [0, 45, 0]
[[object]]
name = "wall"
material = "m"
shape = { kind = "rect", size = [0.1, 0.1] }
at = [1, 0, 0.6666667]
rotate = [0, 90, 0]
[[object]]
name = "floor"
shape = { kind = "plane" }
[[light]]
name = "lamp"
kind = "sphere"
radius = "5 mm"
at = [0.5, 0, 1]
output = "1000 lm"
[render]
size = [48, 48]
samples = 48
bounces = 4
layers = "lights+parts"
)");
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  RunningMoments found;
  constexpr int kSeeds = 8;
  for (int s = 0; s < kSeeds; ++s) {
    rig.render.seed = static_cast<std::uint32_t>(40 + s);
    const Render r = render(rig, *scene, {});
    double sum = 0;
    for (std::size_t i = 0; i < r.film().pixels(); ++i) {
      sum += r.film().slot_mean(i, static_cast<int>(Part::kCaustic)).y();
    }
    found.add(sum / static_cast<double>(r.film().pixels()));
  }
  // 8e-6 of directions chosen by the floor's cosine meet the lamp's image.
  const double d2 = 1.5 * 1.5 + 1, exact = 0.5 / kPiD * 1000 / (4 * kPiD) / d2 / std::sqrt(d2);
  check_exact(found, exact, 0.01);
}

TEST_CASE("a lamp in the middle of a glass ball lights the floor as if the ball were not there",
          "[caustics]") {
  // Its rays meet the glass upright: what is reflected goes through the middle and out on the other
  // side, or comes again.
  std::string ball =
      "[[material]]\nname = 'g'\nkind = 'glass'\n[[object]]\nname = 'ball'\nmaterial = 'g'\n";
  SECTION("analytic") { ball += "shape = { kind = 'sphere', radius = 0.3 }\nat = [0, 0, 1]\n"; }
  SECTION("marched") {
    ball += "solid = 's'\n[[solid]]\nname = 's'\nkind = 'sphere'\nradius = 0.3\nat = [0, 0, 1]\n";
  }
  std::string floor = kFloor;
  floor.replace(floor.find("bounces = 2"), 11, "bounces = 12");
  floor.replace(floor.find("shape = { kind = \"plane\" }"),
                26,
                "shape = { kind = \"plane\" }\nmaterial = \"black\"\n[[material]]\nname = "
                "\"black\"\nkind = \"diffuse\"\ncolor = [0.1, 0.1, 0.1]\n");
  // A patch of 0.4 m beside it, from above: the mean illuminance is the intensity times the patch's
  // solid angle over its area.
  const auto corner = [](double x, double y) {
    return std::atan(x * y / std::sqrt(x * x + y * y + 1));
  };
  const double side = 0.4, from = 0.6 - side / 2, to = 0.6 + side / 2,
               solid_angle = 2 * (corner(to, side / 2) - corner(from, side / 2));
  const double exact = 0.1 / kPiD * 1000 / (4 * kPiD) * solid_angle / (side * side);
  floor.replace(floor.find("samples = 6"), 11, "samples = 10");
  const RunningMoments m = part_mean(
      rig_of(patch(0.6, 0, 2 * std::atan(side / 2 / 0.5) * 180 / kPiD) + ball + floor +
             "[[light]]\nname = 'lamp'\nkind = 'point'\nat = [0, 0, 1]\noutput = '1000 lm'\n"),
      Part::kCaustic,
      kScramblingsTested,
      7e-3);
  INFO(m.mean() << " +- " << m.standard_error() << " against " << exact);
  // The filter takes in a pixel around the patch; and a little comes from the floor by way of the
  // ball.
  CHECK(std::abs(m.mean() - exact) < kScramblingBound * m.standard_error() + 4e-3 * exact);
  CHECK(m.standard_error() < 7.5e-3 * exact);
}

namespace {

// Every second of the scenes, from the first or the second on: two tests, so that two processors
// share them.
void check_both_ways(std::size_t from) {
  const std::string scene = R"(
[[material]]
name = "glass"
kind = "glass"
[[material]]
name = "chrome"
kind = "metal"
color = [0.9, 0.8, 0.7]
roughness = 0
[[material]]
name = "varnish"
kind = "gloss"
color = [0.3, 0.5, 0.2]
roughness = 0
[[material]]
name = "window"
kind = "glass"
thin = true
[[material]]
name = "brushed"
kind = "metal"
color = [0.9, 0.9, 0.9]
roughness = 0.5
[[material]]
name = "softened"
kind = "metal"
color = [0.9, 0.9, 0.9]
roughness = 0.3
bounce_roughness = 0.6
[[material]]
name = "polished"
kind = "metal"
color = [0.9, 0.7, 0.4]
roughness = 0.3
[[material]]
name = "satin"
kind = "gloss"
color = [0.3, 0.5, 0.2]
roughness = 0.35
[[material]]
name = "hardened"
kind = "metal"
color = [0.9, 0.9, 0.9]
roughness = 0.6
bounce_roughness = 0.35
[[object]]
name = "floor"
shape = { kind = "plane" }
[render]
size = [32, 32]
samples = 8
bounces = 6
layers = "lights+parts"
)";
  const std::string ball =
      "[[object]]\nname = 'ball'\nmaterial = 'glass'\nshape = { kind = 'sphere', radius = 0.3 "
      "}\nat = [0, 0, 0.5]\n";
  const std::string block =
      "[[object]]\nname = 'block'\nmaterial = 'chrome'\nshape = { kind = 'box', size = [0.8, 0.05, "
      "0.8] }\nat = [0.4, 0.5, 0.45]\nrotate = [0, 0, 20]\n";
  const std::string at = "at = [0.5, -0.2, 1.6]\n";
  const std::string sphere = "kind = 'sphere'\nradius = 0.3\noutput = '500 lm'\n" + at,
                    rect =
                        "kind = 'rect'\nsize = [0.6, 0.5]\noutput = '500 lm'\naim = [0, 0, 0]\n" +
                        at;
  struct Case {
    std::string name, objects, light;
    bool before_block = false;  // where the camera looks; else beside the ball
  };
  const auto with = [](std::string text, const std::string& old, const std::string& now) {
    return text.replace(text.find(old), old.size(), now);
  };
  const std::vector<Case> cases = {
      {"sphere", ball + block, sphere},
      {"rectangle", ball + block, rect},
      {"disk", ball, "kind = 'disk'\nradius = 0.3\noutput = '500 lm'\naim = [0, 0, 0]\n" + at},
      {"tube",
       ball,
       "kind = 'tube'\nfrom = [0.2, -0.2, 1.6]\nto = [0.8, -0.1, 1.5]\nradius = 0.1\noutput = '500 "
       "lm'\n"},
      {"sun",
       ball + block,
       "kind = 'sun'\ntoward = [-0.2, 0.2, -1]\nangular_diameter = '20 deg'\noutput = '1000 lx'\n"},
      {"sky", ball, "kind = 'sky'\nmodel = 'overcast'\noutput = '1000 lx'\n"},
      {"an object that emits",
       ball + "[[object]]\nname = 'lantern'\nshape = { kind = 'box', size = [0.5, 0.5, 0.5] }\n" +
           at,
       "kind = 'object'\nobject = 'lantern'\noutput = '500 lm'\n"},
      {"varnish", with(block, "chrome", "varnish"), sphere, true},
      {"a window", with(block, "chrome", "window"), sphere, true},
      {"brushed metal between", ball + with(block, "chrome", "brushed"), sphere},
      {"metal between that is rougher after a bounce",
       ball + with(block, "chrome", "softened"),
       sphere},
      {"a marched ball",
       "[[solid]]\nname = 's'\nkind = 'sphere'\nradius = 0.3\nat = [0, 0, 0.5]\n[[object]]\nname = "
       "'ball'\nmaterial = 'glass'\nsolid = 's'\n",
       sphere},
      {"the lamp within the glass",
       with(ball, "radius = 0.3", "radius = 0.45"),
       with(with(sphere, "radius = 0.3", "radius = 0.15"), at, "at = [0, 0, 0.5]\n")},
      {"a law, a reach and a level of cheats",
       ball + block,
       sphere + "falloff = { law = 'linear', zero_at = '3 m' }\nrange = ['1 m', '1.8 m']\ncheat = "
                "{ gloss = 0.5, bounce = 2, bounce_chroma = 0.3 }\n"},
      {"a tint by place",
       ball,
       sphere + "tint_by = { formula = 'x', ramp = [[-0.5, '#ff2000'], [0.5, '#0020ff']] }\n"},
      {"caustics only", ball + block, sphere + "cheat = { direct = 0, diffuse = 0, bounce = 0 }\n"},
      {"linked to one of them", ball + block, sphere + "only = ['floor', 'block']\n", true},
      {"haze on the way",
       ball,
       sphere + "[[haze]]\nname = 'h'\ninside = 'everywhere'\nvisibility = '6 m'\n"},
      {"absorbing glass",
       "[[material]]\nname = 'amber'\nkind = 'glass'\nabsorption = '3 /m'\n" +
           with(ball, "glass", "amber"),
       sphere},
      {"a lens", ball, sphere},
      {"polished metal", with(block, "chrome", "polished"), sphere, true},
      {"satin under a rectangle", with(block, "chrome", "satin"), rect, true},
      {"polished metal in the sun",
       with(block, "chrome", "polished"),
       "kind = 'sun'\ntoward = [-0.2, 0.8, -1]\nangular_diameter = '4 deg'\noutput = '1000 lx'\n",
       true},
      {"metal that is smoother after a bounce", with(block, "chrome", "hardened"), sphere, true},
      {"polished metal with a law and levels of cheats",
       with(block, "chrome", "polished"),
       sphere + "falloff = { law = 'linear', zero_at = '3 m' }\ncheat = { gloss = 0.5, caustics = "
                "0.7 }\n",
       true},
      {"polished metal in haze",
       with(block, "chrome", "polished"),
       sphere + "[[haze]]\nname = 'h'\ninside = 'everywhere'\nvisibility = '6 m'\n",
       true},
      {"polished metal under a point",
       with(block, "chrome", "polished"),
       "kind = 'point'\noutput = '500 lm'\n" + at,
       true},
      {"satin in a spot",
       with(block, "chrome", "satin"),
       "kind = 'spot'\nbeam = '50 deg'\noutput = '500 lm'\naim = [0.4, 0.5, 0.3]\n" + at,
       true},
  };
  for (std::size_t number = from; number < cases.size(); number += 2) {
    const Case& c = cases[number];
    const std::string camera =
        c.name == "a lens" ? "[[camera]]\nname = 'c'\nat = [-0.3, -0.5, 0.7]\nlook_at = [-0.25, "
                             "0.15, 0]\nlens = '60 mm'\nfocus = '1 m'\nstop = 0.7\n"
        : c.before_block   ? "[[camera]]\nname = 'c'\nat = [0.4, -0.3, 0.5]\nlook_at = [0.4, 0.3, "
                             "0]\nfield_of_view = 40\n"
                           : "[[camera]]\nname = 'c'\nat = [-0.3, -0.5, 0.7]\nlook_at = [-0.25, "
                             "0.15, 0]\nfield_of_view = "
                             "30\n";
    const std::string text = camera + scene + c.objects + "[[light]]\nname = 'lamp'\n" + c.light;
    Rig rig = rig_of(text);
    rig.render.width = rig.render.height = 24;  // a few scenes need most of the renders
    constexpr double kFineMean = 0.035;         // enough to see a bias of a quarter
    const RunningMoments joined = part_mean(rig, Part::kCaustic, 96, kFineMean);
    const KnownMean alone =
        known_mean("both ways: " + c.name, text + "size = [24, 24]", [&](int factor) {
          Rig by_camera = rig;
          by_camera.render.light_tracing = false;
          by_camera.render.samples = 48 * factor;
          return KnownMean::of(part_mean(by_camera, Part::kCaustic, 96, kFineMean / factor));
        });
    const double error = std::hypot(joined.standard_error(), alone.standard_error());
    INFO(c.name << ": " << joined.mean() << " +- " << joined.standard_error() << " against "
                << alone.mean() << " +- " << alone.standard_error());
    CHECK(std::abs(joined.mean() - alone.mean()) < kScramblingBound * error);
    CHECK(error < 0.045 * alone.mean());
    CHECK(std::abs(1.25 * joined.mean() - alone.mean()) > kScramblingBound * error);
  }
}

}  // namespace

TEST_CASE("paths from lights and from the camera alone bring the same: first half of the scenes",
          "[caustics]") {
  check_both_ways(0);
}
TEST_CASE("paths from lights and from the camera alone bring the same: second half of the scenes",
          "[caustics]") {
  check_both_ways(1);
}

TEST_CASE("what polished metal throws of a point lamp on a wall is found without fireflies",
          "[caustics]") {
  Rig rig = rig_of(R"(
[[camera]]
name = "c"
at = [0, -1, 0.6]
look_at = [0, 1, 0.6]
field_of_view = 50
[[material]]
name = "polished"
kind = "metal"
color = [0.9, 0.9, 0.9]
roughness = 0.4
[[object]]
name = "wall"
shape = { kind = "rect", size = [4, 4] }
rotate = [90, 0, 0]
at = [0, 1, 0]
[[object]]
name = "ball"
material = "polished"
shape = { kind = "sphere", radius = 0.16 }
at = [0.9, 0.4, 0.3]
[[light]]
name = "lamp"
kind = "point"
at = [0.6, 0.1, 1]
output = "500 lm"
cheat = { direct = 0, diffuse = 0, bounce = 0 }
[render]
size = [48, 32]
samples = 32
bounces = 2
guiding = false
)");
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const auto mean_and_variance = [&](bool light_tracing) {
    rig.render.light_tracing = light_tracing;
    std::pair<double, double> sums = {0, 0};
    for (std::uint32_t seed = 1; seed <= 4; ++seed) {
      rig.render.seed = seed;
      const Render r = render(rig, *scene, {});
      for (std::size_t i = 0; i < r.film().pixels(); ++i) {
        sums.first += r.film().luminance(i);
        sums.second += r.film().batch_variance(i);
      }
    }
    return sums;
  };
  const auto [joined, joined_variance] = mean_and_variance(true);
  const double alone_variance = mean_and_variance(false).second;
  // Six renders of 8,192 samples by the camera alone: 0.0400 +- 0.0001 cd/m2.
  CHECK(joined / (4 * 48 * 32) == Approx(0.0400).epsilon(0.02));
  INFO(alone_variance / joined_variance);
  CHECK(joined_variance < 0.1 * alone_variance);
}

TEST_CASE("little memory for what paths from lights bring changes no bit of the picture",
          "[caustics]") {
  const Rig rig = rig_of(R"(
[[camera]]
name = "c"
at = [-0.3, -0.5, 0.7]
look_at = [-0.25, 0.15, 0]
field_of_view = 40
[[material]]
name = "glass"
kind = "glass"
[[object]]
name = "floor"
shape = { kind = "plane" }
[[object]]
name = "ball"
material = "glass"
shape = { kind = "sphere", radius = 0.3 }
at = [0, 0, 0.5]
[[light]]
name = "lamp"
kind = "point"
at = [0.5, -0.2, 1.6]
output = "500 lm"
[render]
size = [72, 40]
samples = 12
bounces = 4
)");
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  RenderOptions little;
  little.light_path_memory = 1;  // a tile at a time
  const Render all = render(rig, *scene, {}), parts = render(rig, *scene, little);
  double caustic = 0;
  for (std::size_t i = 0; i < all.film().pixels(); ++i) {
    CHECK(all.film().luminance(i) == parts.film().luminance(i));
    CHECK(all.film().batch_variance(i) == parts.film().batch_variance(i));
    caustic += all.film().luminance(i);
  }
  CHECK(caustic > 0);
  CHECK(parts.stats.rays.path > all.stats.rays.path);  // traced again for each
}

TEST_CASE("light is absorbed between a lamp and a board that stand in the same glass", "[render]") {
  // A point 0.9 m below the glass's level top, straight below the camera, and 0.5 m from the lamp.
  const auto luminance = [](double absorption) {
    Rig rig = rig_of(fmt::format(R"(
[[camera]]
name = "c"
at = [0, 0, 3]
look_at = [0, 0, 0]
field_of_view = 0.2
[[material]]
name = "lime"
kind = "diffuse"
color = [0.8, 0.8, 0.8]
[[material]]
name = "glass"
kind = "glass"
absorption = {}
[[object]]
name = "block"
shape = {{ kind = "box", size = [1.2, 1.2, 1.2] }}
material = "glass"
[[object]]
name = "board"
shape = {{ kind = "rect", size = [0.8, 0.8] }}
at = [0, 0, -0.3]
material = "lime"
[[light]]
name = "l"
kind = "point"
at = [0.3, 0, 0.1]
output = "100 cd"
[render]
size = [8, 8]
samples = 64
bounces = 2
guiding = false
light_tracing = false
)",
                                 absorption));
    const auto scene = prepare_scene(rig);
    REQUIRE(scene);
    return render(rig, *scene, {}).stats.mean_luminance;
  };
  const double clear = luminance(0);
  REQUIRE(clear > 1);
  CHECK(luminance(1) / clear == Approx(std::exp(-1.4)).epsilon(0.01));
  CHECK(luminance(3) / clear == Approx(std::exp(-3 * 1.4)).epsilon(0.01));
}
