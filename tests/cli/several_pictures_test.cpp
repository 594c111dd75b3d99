// Several cameras and variants in one command, and what `auto` finds, through the built program.
#include "jovilux/judge/rendered_image.h"

#include <cmath>
#include <filesystem>

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;
namespace fs = std::filesystem;

namespace {

const std::string kRoomForSeveralPictures = R"(jovilux = 1
[[camera]]
name = "wide"
at = [0, -4, 1.5]
look_at = [0, 0, 0.4]
[[camera]]
name = "close"
at = [0.5, -1.2, 0.9]
look_at = [0, 0, 0.4]
[[object]]
name = "floor"
shape = { kind = "plane" }
[[object]]
name = "box"
shape = { kind = "box", size = [0.5, 0.5, 0.5] }
at = [0, 0, 0.25]
[[light]]
name = "lamp"
kind = "sphere"
at = [0.8, -0.6, 1.5]
radius = "6 cm"
output = "700 lm"
fade_with_camera = ["2 m", "6 m"]
[render]
size = [48, 32]
samples = 8
[[variant]]
name = "dusk"
set = { "light.lamp.dimmer" = "-2 stops" }
[[variant]]
name = "detail"
camera = "close"
)";

double mean_of_for_several_pictures(const TemporaryFolder& dir, const std::string& folder) {
  return nlohmann::json::parse(dir.read(folder + "/stats.json"))["mean_luminance_cd_m2"];
}

}  // namespace

TEST_CASE("several cameras and variants have a folder each, with the pictures of single runs",
          "[cli][render]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRoomForSeveralPictures);
  const ProgramRun run = run_program({"render",
                                      rig,
                                      "-o",
                                      dir.path("all"),
                                      "--camera",
                                      "wide",
                                      "--camera",
                                      "close",
                                      "--each-variant",
                                      "dusk",
                                      "--quiet",
                                      "--json"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  REQUIRE(run.json()["pictures"].size() == 2);
  CHECK(run.json()["pictures"][1]["folder"] == dir.path("all/close-dusk"));
  for (const char* camera : {"wide", "close"}) {
    INFO(camera);
    const std::string alone = std::string("alone-") + camera;
    REQUIRE(run_program({"render",
                         rig,
                         "-o",
                         dir.path(alone),
                         "--camera",
                         camera,
                         "--variant",
                         "dusk",
                         "--quiet"})
                .status == 0);
    // To the bit: the scene that the first camera left is no other, and the lamp that fades with
    // the camera follows the second.
    CHECK(dir.read(std::string("all/") + camera + "-dusk/image.exr") ==
          dir.read(alone + "/image.exr"));
  }
  CHECK_FALSE(fs::exists(dir.path("all/image.exr")));

  // One variant alone has a folder of its own, too.
  REQUIRE(run_program({"render", rig, "-o", dir.path("one"), "--each-variant", "dusk", "--quiet"})
              .status == 0);
  CHECK(mean_of_for_several_pictures(dir, "one/dusk") ==
        mean_of_for_several_pictures(dir, "all/wide-dusk"));

  const ProgramRun cameras = run_program(
      {"render", rig, "-o", dir.path("two"), "--camera", "wide", "--camera", "close", "--quiet"});
  REQUIRE(cameras.status == 0);
  CHECK(cameras.out.find(dir.path("two/wide")) != std::string::npos);
  CHECK(mean_of_for_several_pictures(dir, "two/wide") ==
        Approx(4 * mean_of_for_several_pictures(dir, "all/wide-dusk")).epsilon(1e-3));
}

TEST_CASE("an automatic exposure is offset by stops", "[cli][render]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRoomForSeveralPictures);
  const auto white = [&](const std::string& exposure) {
    const ProgramRun run = run_program({"render",
                                        rig,
                                        "-o",
                                        dir.path("e"),
                                        "--set",
                                        "look.exposure=" + exposure,
                                        "--force",
                                        "--quiet",
                                        "--json"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    return run.json()["white_luminance_cd_m2"].get<double>();
  };
  const double metered = white("auto");
  CHECK(white("auto+1") == Approx(metered / 2).epsilon(1e-6));
  CHECK(white("auto -0.5 stops") == Approx(metered * std::sqrt(2.0)).epsilon(1e-6));
  for (const char* wrong : {"auto1", "auto+", "auto+x", "auto+21", "autos"}) {
    INFO(wrong);
    CHECK(run_program({"check", rig, "--set", std::string("look.exposure=") + wrong}).status == 1);
  }
}

TEST_CASE("a sample is traced again alone, as the picture has it", "[cli][render]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRoomForSeveralPictures),
                    size = "render.size=[49, 33]";
  REQUIRE(run_program({"render", rig, "-o", dir.path("o"), "--set", size, "--quiet"}).status == 0);
  // The last pixel: the only one of its tile, which shares its samples with no other.
  const double pixel = run_program({"read", dir.path("o"), "--at", "48,32", "--json"})
                           .json()["readings"][0]["luminance_cd_m2"];
  double sum = 0;
  for (int s = 0; s < 8; ++s) {
    const auto one = run_program({"render",
                                  rig,
                                  "--set",
                                  size,
                                  "--pixel",
                                  "48,32",
                                  "--sample",
                                  std::to_string(s),
                                  "--json"})
                         .json();
    CHECK(one["not_finite"] == 0);
    CHECK(one["lights"][0]["luminance_cd_m2"] == one["luminance_cd_m2"]);
    sum += one["luminance_cd_m2"].get<double>();
  }
  CHECK(sum / 8 == Approx(pixel).epsilon(1e-5));
  for (const std::vector<std::string>& wrong : {std::vector<std::string>{"--sample", "1"},
                                                {"--pixel", "48,0"},
                                                {"--pixel", "1"},
                                                {"--pixel", "1,1", "--sample", "8"}}) {
    std::vector<std::string> words = {"render", rig, "-o", dir.path("x")};
    words.insert(words.end(), wrong.begin(), wrong.end());
    CHECK(run_program(words).status == 2);
    CHECK_FALSE(fs::exists(dir.path("x")));
  }
}

TEST_CASE("a variant may name its camera, and a wrong name ends before anything is rendered",
          "[cli][render]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRoomForSeveralPictures);
  REQUIRE(
      run_program({"render", rig, "-o", dir.path("v"), "--variant", "detail", "--quiet"}).status ==
      0);
  REQUIRE(
      run_program({"render", rig, "-o", dir.path("c"), "--camera", "close", "--quiet"}).status ==
      0);
  CHECK(mean_of_for_several_pictures(dir, "v") == mean_of_for_several_pictures(dir, "c"));
  const ProgramRun wrong = run_program(
      {"render", rig, "-o", dir.path("w"), "--camera", "wide", "--camera", "nose", "--quiet"});
  CHECK(wrong.status == 2);
  CHECK(wrong.err.find("nose") != std::string::npos);
  CHECK_FALSE(fs::exists(dir.path("w")));
  const ProgramRun twice = run_program(
      {"render", rig, "-o", dir.path("w"), "--camera", "wide", "--camera", "wide", "--quiet"});
  CHECK(twice.status == 2);
  CHECK(twice.err.find("written twice") != std::string::npos);
  std::string text = kRoomForSeveralPictures;
  text.replace(text.find("camera = \"close\""), 16, "camera = \"nose\"");
  const ProgramRun bad = run_program({"render",
                                      dir.write("bad.toml", text),
                                      "-o",
                                      dir.path("w"),
                                      "--variant",
                                      "detail",
                                      "--quiet"});
  CHECK(bad.status == 2);
  CHECK(bad.err.find("there is no camera \"nose\"") != std::string::npos);
}

TEST_CASE("an automatic white balance is the white of the light, whatever it falls on",
          "[cli][render][view]") {
  const TemporaryFolder dir;
  // A floor that the light falls on straight, and all that the camera sees.
  const auto rig = [&](const std::string& color) {
    return dir.write("w.toml",
                     "jovilux = 1\nlook = { white_balance = 'auto' }\nrender = { size = [48, 32], "
                     "samples = 8, bounces = 1 }\ncamera = [{ name = 'c', at = [0, -1, 1], look_at "
                     "= [0, 0, 0] }]\n[[material]]\nname = 'm'\nkind = 'diffuse'\ncolor = " +
                         color +
                         "\n[[object]]\nname = 'floor'\nshape = { kind = 'plane' }\nmaterial = "
                         "'m'\n[[light]]\nname = 'panel'\nkind = 'rect'\nat = [0, -1, 3]\ntoward = "
                         "[0, 0, -1]\nsize = [1, 1]\noutput = '2000 lm'\nwhite = '2700 K'\n");
  };
  const auto found = [&](const std::string& color) {
    const ProgramRun run =
        run_program({"render", rig(color), "-o", dir.path("w"), "--force", "--quiet"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    const auto image = load_rendered(dir.path("w"), false);
    REQUIRE(image);
    REQUIRE(image->view);
    REQUIRE(image->view->found_white());
    return std::pair(image->view->found_white()->temperature.value,
                     image->view->srgb8(image->color(image->pixels() / 2)));
  };
  const auto [of_gray, gray] = found("[0.5, 0.5, 0.5]");
  CHECK(of_gray == Approx(2700).epsilon(0.005));
  CHECK(std::abs(gray[0] - gray[1]) <= 1);
  CHECK(std::abs(gray[1] - gray[2]) <= 1);
  // A gray world would take a green floor for a green light: here its color is divided out, up to
  // what three channels tell of a spectrum.
  const auto [of_green, green] = found("[0.2, 0.5, 0.15]");
  CHECK(std::abs(1e6 / of_green - 1e6 / 2700) < 60);  // [mired]
  CHECK(green[1] > green[0] + 20);

  // What is made of the picture keeps the white that was found: the PNG's view is undone by it.
  const ProgramRun dimmed =
      run_program({"balance", dir.path("w"), "--dim", "panel=0.5", "-o", dir.path("b")});
  INFO(dimmed.err);
  REQUIRE(dimmed.status == 0);
  const auto balanced = load_rendered(dir.path("b"), false);
  REQUIRE(balanced);
  REQUIRE(balanced->view->found_white());
  CHECK(balanced->view->found_white()->temperature.value == of_green);
  const auto png = load_rendered(dir.path("w/view.png"), false);
  REQUIRE(png);
  REQUIRE(png->shown_by);
  CHECK(png->shown_by->balance().isApprox(balanced->view->balance(), 1e-9));
}
