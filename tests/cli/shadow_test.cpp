// Shadows on surfaces that stand for real ones, through the built program.
#include "jovilux/files/exr.h"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "tests/support/meter_rig.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// A lamp straight above a lid over a floor, seen from above; the sky adds light from everywhere.
std::string floor_and_lid(const std::string& floor_keys, const std::string& more = "") {
  return fmt::format(R"(jovilux = 1
[[camera]]
name = "c"
at = [0, -1.5, 3.5]
look_at = [0, 0.2, 0]
field_of_view = "45 deg"
[render]
size = [48, 36]
samples = 64
bounces = 3
seed = 5
[[object]]
name = "floor"
shape = {{ kind = "plane" }}
{}
[[object]]
name = "lid"
at = [0, 0, 1]
shape = {{ kind = "box", size = [0.5, 0.5, 0.02] }}
[[light]]
name = "lamp"
kind = "sphere"
at = [0, 0, 2]
radius = "2 cm"
output = "1000 lm"
{}
)",
                     floor_keys,
                     more);
}

std::vector<std::vector<float>> channels_of(const std::string& path,
                                            const std::vector<std::string>& names) {
  auto exr = ExrReader::open(path);
  REQUIRE(exr);
  auto read = exr->read(names, 0, 0, exr->header().width, exr->header().height);
  REQUIRE(read);
  return *read;
}

}  // namespace

TEST_CASE("shadow tells what an object leaves of the light on a surface that catches",
          "[cli][shadow]") {
  const TemporaryFolder dir;
  const std::string sky = "[[light]]\nname='sky'\nkind='sky'\nmodel='uniform'\noutput='20 lx'\n";
  const std::string rig = dir.write("r.toml", floor_and_lid("catches_shadow = true", sky));
  const ProgramRun run = run_program({"shadow", rig, "-o", dir.path("s"), "--json"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  const auto j = nlohmann::json::parse(run.out);
  CHECK(j["caught"] == Approx(1).margin(0.01));
  // In the lid's shadow the sky's light is left, less the 7 % of it that the lid covers there: 18.6
  // of 20 lx and the lamp's 1000 / (4 pi) / 2^2 = 19.9 lx. The least of many pixels is below that.
  CHECK(j["darkest"]["left"].get<double>() == Approx(18.6 / 39.9).margin(0.05));
  const auto light = [&](std::size_t i) { return j["lights"][i]; };
  CHECK(light(0)["name"] == "lamp");
  CHECK(light(0)["left"].get<double>() < light(1)["left"].get<double>());
  CHECK(j["all"]["left"].get<double>() < 1);

  // Factor times what is there without, and the objects' own light: the picture that render makes.
  REQUIRE(run_program({"render", rig, "-o", dir.path("r"), "--quiet"}).status == 0);
  const auto s = channels_of(dir.path("s/shadow.exr"), {"R", "without.R", "objects.R", "error.Y"});
  const auto whole = channels_of(dir.path("r/image.exr"), {"R"});
  const double bright = *std::max_element(whole[0].begin(), whole[0].end());
  std::size_t unshadowed = 0, dark = 0;
  for (std::size_t i = 0; i < whole[0].size(); ++i) {
    CHECK(std::abs(s[0][i] * s[1][i] + s[2][i] - whole[0][i]) < 1e-4 * bright);
    unshadowed += std::abs(s[0][i] - 1) < 0.1F ? 1 : 0;
    dark += s[0][i] < 0.2F ? 1 : 0;
  }
  // Most of the floor is lit; the shadow and the lid itself are a part of the picture.
  CHECK(unshadowed > whole[0].size() / 3);
  CHECK(dark > whole[0].size() / 50);
  CHECK(dark < whole[0].size() / 2);
  CHECK(dir.read("s/shadow.png").substr(1, 3) == "PNG");
}

TEST_CASE("shadow says what it needs", "[cli][shadow]") {
  const TemporaryFolder dir;
  const auto told = [&](const std::string& text) {
    const ProgramRun run =
        run_program({"shadow", dir.write("r.toml", text), "-o", dir.path("s"), "--quiet"});
    CHECK(run.status == 2);
    return run.err;
  };
  CHECK(told(floor_and_lid("")).find("catches_shadow = true") != std::string::npos);
  const std::string both = floor_and_lid("catches_shadow = true");
  const std::string lid = "name = \"lid\"\n";
  std::string all = both;
  all.insert(all.find(lid) + lid.size(), "catches_shadow = true\n");
  CHECK(told(all).find("none is left to throw them") != std::string::npos);
}

TEST_CASE("an object that receives no shadow has the lamps' direct light everywhere",
          "[cli][links]") {
  // The floor under the lid: 1000 / (4 pi) / 2^2 lx, as without the lid; by hits and by samples.
  const std::string lamps[] = {"kind='sphere'\nat=[0,0,2]\nradius='2 cm'\noutput='1000 lm'\n",
                               "kind='sphere'\nat=[0,0,2]\nradius='40 cm'\noutput='1000 lm'\n"};
  for (const std::string& lamp : lamps) {
    const std::string lid =
        "[[object]]\nname='lid'\nat=[0,0,1]\nshape={kind='box',size=[0.9,0.9,0.02]}\n";
    std::string rig = looking_at({0, -2, 0.8}, {0, 0, 0}, light(lamp) + lid);
    const std::size_t plane = rig.find("[[object]]");
    REQUIRE(plane != std::string::npos);
    rig.insert(plane + 11, "receives_shadow = false\n");
    check_luminance(rig, 1000 / (4 * kPiD) / 4 * kPlaneFactor);
  }
}

TEST_CASE("no shadow is received through haze either, and a meter on the object reads so",
          "[cli][links]") {
  // Haze that only absorbs takes exp(-0.3 m) on the way down and on the way to the camera.
  const std::string lid =
      "[[object]]\nname='lid'\nat=[0,0,1]\nshape={kind='box',size=[0.9,0.9,0.02]}\n";
  const std::string lamp = light("kind='sphere'\nat=[0,0,2]\nradius='1 mm'\noutput='1000 lm'\n");
  const std::string haze =
      "[[haze]]\nname='smoke'\ninside='everywhere'\nextinction='0.3 /m'\nalbedo=0\n";
  std::string rig = looking_at({0, -2, 0.8}, {0, 0, 0}, lamp + lid + haze);
  rig.insert(rig.find("[[object]]") + 11, "receives_shadow = false\n");
  const double lit = 1000 / (4 * kPiD) / 4, way = 2 + std::hypot(2, 0.8);
  CHECK(luminance(rig, 2).mean() ==
        Approx(lit * kPlaneFactor * std::exp(-0.3 * way)).epsilon(0.001));

  const TemporaryFolder dir;
  const auto reads = [&](const std::string& on) {
    const std::string meter = "[[meter]]\nname='m'\nkind='illuminance'\nat=[0,0,0]\n" + on;
    const ProgramRun run =
        run_program({"meter",
                     dir.write("m.toml", looking_at({0, -2, 0.8}, {0, 0, 0}, lamp + lid + meter)),
                     "--set",
                     "object.plane.receives_shadow=false",
                     "--json"});
    REQUIRE(run.status <= 1);
    return run.json()["meters"][0]["value"].get<double>();
  };
  CHECK(reads("on='plane'\n") == Approx(lit).epsilon(0.002));
  CHECK(reads("") == 0);  // on nothing: the lid's shadow
}

TEST_CASE("with a surface that receives no shadow, what is learned changes nothing in the mean",
          "[cli][links]") {
  // A lamp in a closed box lights the floor below a shelf that receives none of its shadow: all
  // that the walls get from there is a bounce.
  const std::string room = R"(jovilux = 1
[[camera]]
name = "c"
at = [0, -0.9, 0.5]
look_at = [0, 1, 0.5]
[render]
size = [16, 12]
samples = 256
bounces = 3
[[object]]
name = "floor"
shape = { kind = "rect", size = [2, 2] }
receives_shadow = false
[[object]]
name = "shelf"
shape = { kind = "rect", size = [1.9, 1.9] }
at = [0, 0, 0.8]
[[object]]
name = "back"
shape = { kind = "rect", size = [2, 2] }
at = [0, 1, 1]
rotate = [90, 0, 0]
[[light]]
name = "lamp"
kind = "sphere"
radius = "10 cm"
at = [0, 0, 1.4]
output = "1000 lm"
)";
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", room);
  const auto means = [&](const char* guiding) {
    RunningMoments out;
    for (int seed = 1; seed <= 6; ++seed) {
      const ProgramRun run = run_program({"render",
                                          rig,
                                          "-o",
                                          dir.path("o"),
                                          "--force",
                                          "--quiet",
                                          "--set",
                                          fmt::format("render.seed={}", seed),
                                          "--set",
                                          std::string("render.guiding=") + guiding,
                                          "--json"});
      REQUIRE(run.status == 0);
      out.add(run.json()["mean_luminance_cd_m2"].get<double>());
    }
    return out;
  };
  const RunningMoments learned = means("true"), plain = means("false");
  const double error = std::hypot(learned.standard_error(), plain.standard_error());
  INFO(learned.mean() << " and " << plain.mean() << " +- " << error);
  CHECK(plain.mean() > 1);
  CHECK(std::abs(learned.mean() - plain.mean()) < 4.5 * error);
  CHECK(error < 0.01 * plain.mean());
}

TEST_CASE("shadow holds out what paths from the lights bring to an object too", "[cli][shadow]") {
  // A glass ball over a floor: its caustic belongs to the floor, what is seen of the ball does not.
  const std::string ball = R"([[material]]
name = "glass"
kind = "glass"
[[object]]
name = "ball"
shape = { kind = "sphere", radius = 0.25 }
at = [0.8, -0.3, 0.8]
material = "glass"
)";
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", floor_and_lid("catches_shadow = true", ball));
  const ProgramRun run = run_program({"shadow", rig, "-o", dir.path("s"), "--quiet"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  const auto s = channels_of(dir.path("s/shadow.exr"), {"R"});
  // Black where the ball and the lid are, brighter than without the ball somewhere on the floor.
  const std::size_t black = static_cast<std::size_t>(std::count(s[0].begin(), s[0].end(), 0.0F));
  CHECK(black > 20);
  CHECK(*std::max_element(s[0].begin(), s[0].end()) > 1.5F);
  // Ctrl-C before the end: nothing is written.
  const ProgramRun stopped =
      run_program({"shadow", rig, "-o", dir.path("t"), "--quiet", "--samples", "1000000"}, 0, 1500);
  CHECK(stopped.status == 3);
  CHECK_FALSE(std::filesystem::exists(dir.path("t/shadow.exr")));
}

TEST_CASE("a beam behind a diffusion sheet keeps its lumens and loses its candela", "[cli][gels]") {
  // A beam so narrow that the sheet's lobe is all: I = flux * kappa / (2 pi) on the axis.
  const auto spot = [](const std::string& gel) {
    return looking_at({0, -2, 0.8},
                      {0, 0, 0},
                      light("kind='spot'\nat=[0,0,2]\naim=[0,0,0]\nbeam='1 deg'\n"
                            "output='1000 lm'\n" +
                            gel));
  };
  const double kappa = std::log(2.0) / (1 - std::cos(20 * kPiD / 180));
  CHECK(luminance(spot("gel='diffusion 40 deg 70 %'\n"), 2).mean() ==
        Approx(700 * kappa / (2 * kPiD) / 4 * kPlaneFactor).epsilon(0.002));
  const TemporaryFolder dir;
  const auto checked = [&](const std::string& text) {
    return run_program({"check", dir.write("r.toml", text), "--json"}).json()["lights"][0];
  };
  const auto bare = checked(spot("")), behind = checked(spot("gel='diffusion 40 deg 70 %'\n"));
  CHECK(bare["diffused_beam_deg"].is_null());
  CHECK(behind["flux_lm"] == bare["flux_lm"]);
  CHECK(behind["gel_transmittance"].get<double>() == Approx(0.7));
  CHECK(behind["peak_cd"].get<double>() == Approx(1000 * kappa / (2 * kPiD)).epsilon(0.01));
  CHECK(behind["diffused_beam_deg"][0].get<double>() == Approx(40).epsilon(0.01));
  // Two sheets, by the root of the sum of squares.
  const auto both = checked(spot("gel=['diffusion 30 deg', 'diffusion 40 deg']\n"));
  CHECK(both["diffused_beam_deg"][0].get<double>() == Approx(50).epsilon(0.01));
  // A rect with a spread; one without is even already, and so is a bulb.
  const auto panel = [](const std::string& keys) {
    return looking_at({0, -2, 0.8},
                      {0, 0, 0},
                      light("kind='rect'\nat=[0,0,2]\naim=[0,0,0]\nsize=[0.2,0.2]\n"
                            "output='1000 lm'\ngel='diffusion 20 deg'\n" +
                            keys));
  };
  const auto rect = checked(panel("spread='30 deg'\n"));
  CHECK(rect["diffused_beam_deg"][0].get<double>() > 20);
  CHECK(rect["diffused_beam_deg"][0].get<double>() < 40);
  const ProgramRun even = run_program({"check", dir.write("e.toml", panel(""))});
  CHECK(even.status == 1);
  CHECK((even.out + even.err).find("this light has none") != std::string::npos);
}

TEST_CASE("another sheet is another beam: layers cannot tell it, gels of color they can",
          "[cli][gels]") {
  const TemporaryFolder dir;
  const std::string rig =
      dir.write("r.toml",
                "jovilux = 1\n[render]\nsize = [16, 12]\nsamples = 8\nbounces = 1\n[[camera]]\n"
                "name='c'\nat=[0,-3,1]\nlook_at=[0,0,0]\n[[object]]\nname='floor'\n"
                "shape={kind='plane'}\n" +
                    light("kind='spot'\nat=[0,0,2]\naim=[0,0,0]\nbeam='20 deg'\n"
                          "output='1000 lm'\n"));
  const auto from_layers = [&](const std::string& values) {
    const ProgramRun run = run_program({"sweep",
                                        rig,
                                        "--vary",
                                        "light.l.gel = " + values,
                                        "-o",
                                        dir.path("s"),
                                        "--force",
                                        "--quiet",
                                        "--json"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    return run.json()["from_layers"].get<int>();
  };
  CHECK(from_layers("'diffusion 10 deg', 'diffusion 30 deg', 'diffusion 60 deg'") == 0);
  CHECK(from_layers("'half warm', 'half cool', '+60 mired'") == 2);
}
