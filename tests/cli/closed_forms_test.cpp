// Light meters against formulas, through the built program: a rig, a render, a reading.
#include "jovilux/color/rgb.h"
#include "jovilux/photometry/sources.h"

#include <cmath>

#include "tests/support/meter_rig.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

TEST_CASE("1000 lm 2 m over a plane of albedo 0.5 give 3.1663 cd/m2", "[cli][truth]") {
  check_luminance(
      looking_at({0, 0, 1}, {0, 0, 0}, light("kind='point'\nat=[0,0,2]\noutput='1000 lm'\n")),
      3.1663,
      0.002);
}

TEST_CASE("a disk lights the plane by its formulas, on its axis and off", "[cli][truth]") {
  const double L = 5000;
  const std::string disk =
      light("kind='disk'\nradius=0.3\nat=[0,0,1]\ntoward=[0,0,-1]\noutput='5000 cd/m2'\n");
  // Truths: disk_on_axis.
  check_luminance(looking_at({0, 0, 0.5}, {0, 0, 0}, disk), 1296.9877927664281 * kPlaneFactor);
  // Disk_parallel_offset.
  check_luminance(looking_at({0.8, 0, 0.5}, {0.8, 0, 0}, disk), 529.6089176992724 * kPlaneFactor);
  const double tilted =
      disk_illuminance(L, {0, 0, 1}, Vec3d(0.6, 0, -0.8), 0.3, {1, 0.2, 0}, Vec3d::UnitZ());
  check_luminance(
      looking_at(
          {1, 0.2, 0.5},
          {1, 0.2, 0},
          light("kind='disk'\nradius=0.3\nat=[0,0,1]\ntoward=[0.6,0,-0.8]\noutput='5000 cd/m2'\n")),
      tilted * kPlaneFactor);
}

TEST_CASE("a sphere lights the plane by its formula, near it and far", "[cli][truth]") {
  const std::string ball = light("kind='sphere'\nradius=0.3\nat=[0,0,0.5]\noutput='3000 cd/m2'\n");
  check_luminance(
      looking_at({1, 0, 0.3}, {1, 0, 0}, ball),
      sphere_illuminance(3000, {0, 0, 0.5}, 0.3, {1, 0, 0}, Vec3d::UnitZ()) * kPlaneFactor);
  // Pi L (R / d)^2.
  check_luminance(looking_at({0, 0, 0.1}, {0, 0, 0}, ball), kPiD * 3000 * 0.36 * kPlaneFactor);
  // Half sunk into the plane: cut by the horizon.
  const std::string sunk = light("kind='sphere'\nradius=0.3\nat=[0,0,0.1]\noutput='3000 cd/m2'\n");
  check_luminance(
      looking_at({0.5, 0, 0.3}, {0.5, 0, 0}, sunk),
      sphere_illuminance(3000, {0, 0, 0.1}, 0.3, {0.5, 0, 0}, Vec3d::UnitZ()) * kPlaneFactor);
}

TEST_CASE("a rectangle lights the plane by Lambert's formula, on its axis and off",
          "[cli][truth]") {
  // Straight down, a rectangle's width lies along x.
  const std::string panel = light(
      "kind='rect'\nsize=[0.3, 1.2]\nat=[0,0,2.6]\ntoward=[0,0,-1]\noutput='3536.776513 cd/m2'\n");
  check_luminance(looking_at({0, 0, 0.5}, {0, 0, 0}, panel),
                  rect_illuminance_on_axis(3536.776513, 0.3, 1.2, 2.6) * kPlaneFactor);
  const double off = rect_illuminance(
      3536.776513, {0, 0, 2.6}, Vec3d(0, 0.6, 0), Vec3d(0.15, 0, 0), {0.4, 0.2, 0}, Vec3d::UnitZ());
  check_luminance(looking_at({0.4, 0.2, 0.5}, {0.4, 0.2, 0}, panel), off * kPlaneFactor, 0.005);
  // A window beside the floor: half of it below the horizon of nothing, all above.
  const std::string window =
      light("kind='rect'\nsize=[2, 1.5]\nat=[2,0.5,1.5]\ntoward=[-1,0,0]\noutput='4000 cd/m2'\n");
  // Truths: window_floor.
  check_luminance(looking_at({0, 0, 0.5}, {0, 0, 0}, window), 744.1875169986588 * kPlaneFactor);
}

TEST_CASE("outputs in every unit reach the plane alike", "[cli][truth]") {
  const std::string disk = "kind='disk'\nradius=0.3\nat=[0,0,1]\ntoward=[0,0,-1]\n";
  check_luminance(looking_at({0, 0, 0.5}, {0, 0, 0}, light(disk + "output='500 lx @ 1 m'\n")),
                  500 * kPlaneFactor);
  check_luminance(looking_at({0, 0, 0.5}, {0, 0, 0}, light(disk + "output='10 W @ 90 lm/W'\n")),
                  900 / (kPiD * 0.09 * kPiD) * kPiD * 0.09 / 1.09 * kPlaneFactor);
  check_luminance(
      looking_at({0, 0, 0.5}, {0, 0, 0}, light(disk + "spread='50 deg'\noutput='500 lx @ 1 m'\n")),
      500 * kPlaneFactor);
  check_luminance(
      looking_at(
          {0, 0, 1},
          {0, 0, 0},
          light(
              "kind='spot'\nat=[0,0,2]\naim=[0,0,0]\nbeam=24\nfield=50\noutput='120 lx @ 2 m'\n")),
      120 * kPlaneFactor,
      0.002);
  check_luminance(
      looking_at(
          {1, 0, 1},
          {1, 0, 0},
          light("kind='spot'\nat=[0,0,3]\naim=[0,0,0]\nbeam=24\nfield=50\noutput='1500 lm'\n")),
      148.30507584318158 * kPlaneFactor,
      0.002);
}

TEST_CASE("falloff laws act as their factor on the physical answer, for points and surfaces",
          "[cli][truth]") {
  const double physical = 1000 / (4 * kPiD) / 4 * kPlaneFactor;
  const std::string point = "kind='point'\nat=[0,0,2]\noutput='1000 lm'\n";
  const auto at = [&](const std::string& more) {
    return looking_at({0, 0, 1}, {0, 0, 0}, light(point + more));
  };
  check_luminance(at("falloff='none'\n"), 4 * physical, 0.002);
  check_luminance(at("falloff={law='linear', zero_at='8 m', matches_at='1 m'}\n"),
                  4 * physical * (1 - 2.0 / 8) / (1 - 1.0 / 8),
                  0.002);
  check_luminance(at("falloff={law='polynomial', constant=0.4, linear=0.25, quadratic=0.6, "
                     "matches_at='2 m'}\n"),
                  physical,
                  0.002);
  check_luminance(at("near_softening='1 m'\n"), physical * 4 / 5, 0.002);
  check_luminance(at("range=['1 m', '3 m']\n"), physical / 2, 0.002);
  const std::string disk = light(
      "kind='disk'\nradius=0.3\nat=[0,0,1]\ntoward=[0,0,-1]\noutput='5000 "
      "cd/m2'\nnear_softening='1 m'\n");
  check_luminance(looking_at({0, 0, 0.5}, {0, 0, 0}, disk), 1296.9877927664281 / 2 * kPlaneFactor);
}

TEST_CASE("the sun gives its lux and its penumbra has the width of its disc [slow]",
          "[cli][truth]") {
  const std::string sun = light("kind='sun'\ntoward=[0,0,-1]\noutput='10 klx'\n");
  check_luminance(looking_at({0, 0, 1}, {0, 0, 0}, sun), 10000 * kPlaneFactor, 0.002);
  check_luminance(
      looking_at({0, 0, 1}, {0, 0, 0}, light("kind='sun'\ntoward=[0.6,0,-0.8]\noutput='10 klx'\n")),
      8000 * kPlaneFactor,
      0.005);
  // A sheet whose edge runs along y at a height, over x < 0. The cameras stand below it and see but
  // a speck.
  const auto behind_edge = [&](double x, double height) {
    const std::string edge = fmt::format(
        "[[object]]\nname='sheet'\nshape={{kind='rect', size=[4, 8]}}\nat=[-2, 0, {}]\n", height);
    std::string text = looking_at({x, 0, 0.02}, {x, 0, 0}, sun + edge);
    return text.replace(text.find("samples = 96"), 12, "samples = 512");
  };
  const double full = 10000 * kPlaneFactor;
  // Truths: sun_fraction_2m.
  check_luminance(behind_edge(-0.002, 2), 0.36419365614479016 * full, 0.03);
  check_luminance(behind_edge(0.004, 2), 0.7650503667964226 * full, 0.03);
  const double width = 0.0063913898772700595;  // truths: sun_10_90_1m
  check_luminance(behind_edge(-width / 2, 1), 0.1 * full, 0.05);
  check_luminance(behind_edge(width / 2, 1), 0.9 * full, 0.03);
}

TEST_CASE("skies light level and tilted planes by their formulas", "[cli][truth]") {
  const auto sky = [](const std::string& model, const std::string& output) {
    return light("kind='sky'\nmodel='" + model + "'\noutput='" + output + "'\n");
  };
  check_luminance(looking_at({0, 0, 1}, {0, 0, 0}, sky("uniform", "10 klx")), 10000 * kPlaneFactor);
  // Truths: overcast_horizontal.
  check_luminance(looking_at({0, 0, 1}, {0, 0, 0}, sky("overcast", "2000 cd/m2")),
                  4886.921905584122 * kPlaneFactor);
  // A tilted sheet high above the black void: it sees part of the sky, and below it nothing.
  const auto tilted = [&](double degrees_of_tilt, const std::string& light_text) {
    std::string text = looking_at({0, 0, 1}, {0, 0, 0}, light_text);
    const std::string plane = "shape = { kind = \"plane\" }";
    return text.replace(
        text.find(plane),
        plane.size(),
        fmt::format("shape = {{ kind = 'rect', size = [1, 1] }}\nrotate = [{}, 0, 0]",
                    degrees_of_tilt));
  };
  // Truths: overcast_tilted_45.
  check_luminance(tilted(45, sky("overcast", "2000 cd/m2")), 3897.178381331485 * kPlaneFactor);
  // Truths: uniform_sky_tilted_30.
  check_luminance(tilted(30, sky("uniform", "1500 cd/m2")), 4396.718774956192 * kPlaneFactor);
}

TEST_CASE("the sun stands where elevation and azimuth, or site and time, put it", "[cli][truth]") {
  // From the south at 30 degrees: a plane on the ground gets half of it.
  check_luminance(
      looking_at(
          {0, 0, 1}, {0, 0, 0}, light("kind='sun'\nelevation=30\nazimuth=180\noutput='10 klx'\n")),
      5000 * kPlaneFactor,
      0.005);
  const TemporaryFolder dir;
  const std::string site =
      "jovilux = 1\n[scene]\nsite = { latitude = 39.742476, longitude = -105.1786, time = "
      "'2003-10-17T12:30:30-07:00' "
      "}\n[[camera]]\nname='c'\nat=[0,0,1]\nlook_at=[0,0,0]\nfield_of_view='0.05 "
      "deg'\n[[object]]\nname='p'\nshape={kind='plane'}\n[render]\nsize=[8,8]\nsamples=32\nbounces="
      "1\n";
  check_luminance(site + light("kind='sun'\noutput='10 klx'\n"),
                  10000 * std::cos(50.11162 * kPiD / 180) * kPlaneFactor,
                  0.005);
  const double clear = 127500 * std::exp(-0.21 / std::sin(0.5)) * std::sin(0.5);
  check_luminance(
      looking_at({0, 0, 1},
                 {0, 0, 0},
                 light("kind='sun'\nelevation='0.5 rad'\nazimuth=90\noutput='clear'\n")),
      clear * kPlaneFactor,
      0.005);
}

TEST_CASE("a 2700 K lamp shows its own white on a gray card", "[cli][truth]") {
  const TemporaryFolder dir;
  const std::string rig =
      dir.write("rig.toml",
                looking_at({0, 0, 1},
                           {0, 0, 0},
                           light("kind='disk'\nradius=0.1\nat=[0.5,0,2]\naim=[0,0,0]\noutput='1000 "
                                 "lm'\nwhite='2700 K'\n")));
  const auto rgb = reading(dir, rig, 1)["rgb"];
  const Xy xy = chromaticity(xyz_from_rec709() * Rgb(rgb[0], rgb[1], rgb[2]));
  CHECK(xy.x == Approx(0.45986).margin(0.0005));
  CHECK(xy.y == Approx(0.41060).margin(0.0005));
}

TEST_CASE("the furnace of albedo 0.8 reaches the sum of its series with 64 bounces [slow]",
          "[cli][truth]") {
  const std::string text = R"(jovilux = 1
[[camera]]
name = "inside"
at = [0.4, 0.1, -0.2]
look_at = [1, 0.5, 0.3]
[[material]]
name = "white"
kind = "diffuse"
color = [0.8, 0.8, 0.8]
[[object]]
name = "shell"
shape = { kind = "sphere", radius = 1.7 }
material = "white"
[[light]]
name = "p"
kind = "point"
at = [0, 0, 0]
output = "2000 lm"
[render]
size = [24, 24]
samples = 16
bounces = 64
)";
  check_luminance(text, 70.11846618846909);  // truths: sphere_2000lm_luminance
}

TEST_CASE("lights with size are seen by camera and mirrors at their own luminance",
          "[cli][truth]") {
  const std::string lamp = light("kind='sphere'\nradius=0.3\nat=[0,0,2]\noutput='3000 cd/m2'\n");
  const auto seen = [&](const Vec3d& from, const Vec3d& at, const std::string& more) {
    return luminance(looking_at(from, at, lamp + more), 2).mean();
  };
  CHECK(seen({3, 0, 2}, {0, 0, 2}, "") == Approx(3000).epsilon(1e-4));
  const std::string mirror =
      "[[material]]\nname='m'\nkind='metal'\ncolor=[1,1,1]\nroughness=0\n[[object]]\nname='mirror'"
      "\nshape={kind='rect', size=[2,2]}\nat=[0,0,0.1]\nmaterial='m'\n";
  CHECK(seen({1.9, 0, 2}, {0.95, 0, 0.1}, mirror) == Approx(3000).epsilon(1e-3));
}
