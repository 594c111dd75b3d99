// denoise and --denoised, through the built program.
#include "jovilux/files/exr.h"

#include <cmath>

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

const std::string kRoomForDenoiseVerb =
    "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-3,1.5]\nlook_at=[0,0,0.3]\nfield_of_view=50\n"
    "[render]\nsize=[72,48]\nsamples=16\nbounces=3\n[[material]]\nname='clay'\nkind='diffuse'\n"
    "color=[0.6,0.3,0.2]\n[[object]]\nname='floor'\nshape={kind='plane'}\n"
    "[[object]]\nname='box'\nshape={kind='box', size=[0.5,0.5,0.5]}\nat=[0,0.3,0.25]\n"
    "material='clay'\n"
    "[[light]]\nname='warm'\nkind='sphere'\nradius=0.1\nat=[-1,0,1.5]\noutput='800 lm'\n"
    "white='2700 K'\n[[light]]\nname='cool'\nkind='disk'\nradius=0.2\nat=[1,0,1.5]\n"
    "aim=[0,0,0]\noutput='600 lm'\n";

struct Planes {
  std::map<std::string, std::vector<float>> of;
  std::size_t pixels = 0;
  explicit Planes(const std::string& path) {
    const auto file = ExrReader::open(path);
    REQUIRE(file);
    const auto planes =
        file->read(file->channels(), 0, 0, file->header().width, file->header().height);
    REQUIRE(planes);
    for (std::size_t i = 0; i < planes->size(); ++i) {
      of[file->channels()[i]] = (*planes)[i];
    }
    pixels = (*planes)[0].size();
  }
};

}  // namespace

TEST_CASE("denoise keeps what was traced, and its layers add up to the bit", "[cli][denoise]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRoomForDenoiseVerb), out = dir.path("out");
  REQUIRE(run_program({"render", rig, "-o", out, "--quiet"}).status == 0);
  const std::string image = dir.read("out/image.exr"), view = dir.read("out/view.png");
  const ProgramRun run = run_program({"denoise", out, "--json", "--threads", "2"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  const auto told = run.json();
  CHECK(told["layers"] == 2);
  CHECK(told["denoised"]["p95"].get<double>() < 0.9 * told["traced"]["p95"].get<double>());
  CHECK(told["denoised"]["median"].get<double>() < 0.85 * told["traced"]["median"].get<double>());
  CHECK(dir.read("out/image.exr") == image);
  CHECK(dir.read("out/view.png") == view);
  CHECK(dir.read("out/view-denoised.png") != view);
  const Planes p(dir.path("out/denoised.exr"));
  CHECK(p.of.count("error.V") == 1);
  CHECK(p.of.count("variance.V") == 0);
  bool adds_up = true;
  for (const char* letter : {"R", "G", "B"}) {
    const std::string l(letter);
    for (std::size_t i = 0; i < p.pixels; ++i) {
      const float sum = 0.0f + p.of.at("light.cool." + l)[i] + p.of.at("light.warm." + l)[i];
      adds_up = adds_up && p.of.at(l)[i] == sum;
    }
  }
  CHECK(adds_up);
}

TEST_CASE("denoised parts add up to their layers, and render --denoise is denoise",
          "[cli][denoise]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRoomForDenoiseVerb);
  const std::vector<std::string> words = {
      "render", rig, "-o", dir.path("a"), "--quiet", "--set", "render.layers='lights+parts'"};
  REQUIRE(run_program(words).status == 0);
  REQUIRE(run_program({"denoise", dir.path("a")}).status == 0);
  std::vector<std::string> at_once = words;
  at_once[3] = dir.path("b");
  at_once.push_back("--denoise");
  const ProgramRun b = run_program(at_once);
  CHECK(b.status == 0);
  CHECK(b.out.find("view-denoised.png") != std::string::npos);
  CHECK(dir.read("a/denoised.exr") == dir.read("b/denoised.exr"));
  const Planes p(dir.path("a/denoised.exr"));
  bool adds_up = true;
  for (std::size_t i = 0; i < p.pixels; ++i) {
    const float sum = 0.0f + p.of.at("light.warm.bounce.G")[i] +
                      p.of.at("light.warm.caustic.G")[i] + p.of.at("light.warm.direct.G")[i];
    adds_up = adds_up && p.of.at("light.warm.G")[i] == sum;
  }
  CHECK(adds_up);
  // Without layers there is the picture alone.
  const std::string bare = dir.path("c");
  REQUIRE(
      run_program({"render", rig, "-o", bare, "--quiet", "--set", "render.layers='none'"}).status ==
      0);
  const ProgramRun alone = run_program({"denoise", bare, "--json"});
  REQUIRE(alone.status == 0);
  CHECK(alone.json()["layers"] == 0);
  CHECK(Planes(dir.path("c/denoised.exr")).of.size() == 4);  // R, G, B, error.V
  // Neither a preview nor a slice is denoised by the option: it says so and renders nothing.
  for (const std::vector<std::string>& more :
       std::vector<std::vector<std::string>>{{"--preview"}, {"--slice", "1/2"}}) {
    std::vector<std::string> partial = {"render", rig, "-o", dir.path("d"), "--denoise"};
    partial.insert(partial.end(), more.begin(), more.end());
    CHECK(run_program(partial).status == 2);
    CHECK_FALSE(std::filesystem::exists(dir.path("d")));
  }
  // A balanced picture in its place takes it away.
  REQUIRE(run_program({"balance", dir.path("a"), "--mute", "cool", "-o", bare, "--force"}).status ==
          0);
  CHECK_FALSE(std::filesystem::exists(dir.path("c/denoised.exr")));
  // Rendered again without it, nothing of the other picture is left.
  std::vector<std::string> again = words;
  again[3] = dir.path("b");
  again.push_back("--force");
  REQUIRE(run_program(again).status == 0);
  CHECK_FALSE(std::filesystem::exists(dir.path("b/denoised.exr")));
  CHECK_FALSE(std::filesystem::exists(dir.path("b/view-denoised.png")));
}

TEST_CASE("verbs take the denoised picture where asked, with its error", "[cli][denoise]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRoomForDenoiseVerb), out = dir.path("out");
  REQUIRE(run_program({"render", rig, "-o", out, "--quiet"}).status == 0);
  const ProgramRun early = run_program({"read", out, "--denoised", "--at", "9,9"});
  CHECK(early.status == 2);
  CHECK(early.err.find("jovilux denoise") != std::string::npos);
  CHECK(run_program({"noise", out, "--json"}).json()["denoised"].is_null());
  REQUIRE(run_program({"denoise", out}).status == 0);
  const auto readings = [&](const std::vector<std::string>& more) {
    std::vector<std::string> words = {"read", out, "--box", "20,20,20,20", "--json"};
    words.insert(words.end(), more.begin(), more.end());
    return run_program(words).json();
  };
  const auto traced = readings({}), denoised = readings({"--denoised"});
  CHECK(traced["denoised"] == false);
  CHECK(denoised["denoised"] == true);
  const double a = traced["readings"][0]["luminance_cd_m2"],
               b = denoised["readings"][0]["luminance_cd_m2"],
               error = denoised["readings"][0]["standard_error_cd_m2"];
  CHECK(b == Approx(a).epsilon(0.03));
  CHECK(error > 0);
  CHECK(error < 0.1 * b);
  const auto noise = run_program({"noise", out, "--json"}).json();
  CHECK(noise["denoised"]["p95"].get<double>() < noise["p95"].get<double>());
  // Balancing denoised layers gives what denoising after balancing does.
  REQUIRE(run_program({"balance", out, "--denoised", "--dim", "warm=0.25", "-o", dir.path("bal")})
              .status == 0);
  REQUIRE(run_program({"render",
                       rig,
                       "-o",
                       dir.path("dim"),
                       "--quiet",
                       "--denoise",
                       "--set",
                       "light.warm.dimmer=0.25"})
              .status == 0);
  const auto compared =
      run_program({"compare", dir.path("bal"), dir.path("dim/denoised.exr"), "--json"}).json();
  CHECK(std::abs(compared["z"].get<double>()) < 4);
  CHECK(compared["share_beyond_noise"].get<double>() < 0.05);
  for (const std::vector<std::string>& words : std::vector<std::vector<std::string>>{
           {"false-color", out, "--denoised", "-o", dir.path("fc")},
           {"show", out, "--denoised"},
           {"compare", out, out, "--denoised"},
           {"report", out, "--denoised", "-o", dir.path("r.html"), "--error", "20 %"}}) {
    const ProgramRun run = run_program(words);
    INFO(words[0] << ": " << run.err);
    CHECK(run.status == 0);
  }
  const ProgramRun twice = run_program({"denoise", dir.path("out/denoised.exr")});
  CHECK(twice.status == 2);
  CHECK(twice.err.find("denoised already") != std::string::npos);
}

TEST_CASE("frames of a still scene are denoised alike", "[cli][denoise]") {
  const TemporaryFolder dir;
  const std::string still =
      dir.write("s.toml", kRoomForDenoiseVerb + "[time]\nframes=[1,2]\nrate=24\n");
  const ProgramRun run =
      run_program({"animate", still, "-o", dir.path("an"), "--denoised", "--exact", "--quiet"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  const Planes one(dir.path("an/frames/frame.0001.exr")), two(dir.path("an/frames/frame.0002.exr"));
  CHECK(one.of.at("G") == two.of.at("G"));
  CHECK(one.of.count("error.V") == 1);
}

TEST_CASE("an automatic exposure leaves highlights: a pool of light on a dark floor",
          "[cli][view]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write(
      "r.toml",
      "jovilux = 1\ncamera = [{ name = 'front', at = [0, -3, 1.2], look_at = [0, 0, 0.5] }]\n"
      "[render]\nsize = [96, 54]\nsamples = 32\n"
      "[[object]]\nname = 'floor'\nshape = { kind = 'plane' }\n"
      "[[light]]\nname = 'lamp'\nkind = 'disk'\nat = [0, 0, 2]\naim = [0, 0, 0]\n"
      "radius = '11 cm'\noutput = '1350 lm'\nwhite = '2700 K'\n");
  for (const char* curve : {"film", "linear"}) {
    const std::string out = dir.path(curve);
    REQUIRE(run_program({"render",
                         rig,
                         "-o",
                         out,
                         "--quiet",
                         "--set",
                         std::string("look.curve='") + curve + "'"})
                .status == 0);
    const double clipped =
        run_program({"read", out, "--json"}).json()["readings"][0]["clipped_share"];
    // Two pixels of a hundred, and no less: else it would be darker than it need be.
    CHECK(clipped <= 0.021);
    CHECK(clipped >= 0.015);
  }
}
