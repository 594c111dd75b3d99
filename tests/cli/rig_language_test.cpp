// The rig as a language, by the built program: files, includes, units, overrides, up, and errors
// that say what to write.
#include "jovilux/files/exr.h"
#include "jovilux/files/png.h"

#include "tests/support/program.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using jovilux::test::ProgramRun;
using jovilux::test::run_program;
using jovilux::test::TemporaryFolder;

namespace {

const std::string kBase =
    "jovilux = 1\n[render]\nsize = [8, 6]\nsamples = 4\n"
    "[[camera]]\nname = 'wide'\nat = [0, -4, 1]\nlook_at = [0, 0, 1]\n"
    "[[camera]]\nname = 'top'\nat = [0, -1, 3]\nlook_at = [0, 0, 0]\n"
    "[[object]]\nname = 'floor'\nshape = { kind = 'plane' }\n";
const std::string kPointForRigLanguage =
    "[[light]]\nname = 'l'\nkind = 'point'\nat = [0, 0, 2]\noutput = '800 lm'\n";
const std::string kIes =
    "IESNA:LM-63-2002\n[TEST] none\n[MANUFAC] none\nTILT=NONE\n1 -1 1 3 1 1 2 0 0 0\n1 1 0\n"
    "0 45 90\n0\n1000 500 0\n";

std::string told(const TemporaryFolder& dir,
                 const std::string& text,
                 const std::vector<std::string>& more = {}) {
  std::vector<std::string> words = {"check", dir.write("told.toml", text)};
  words.insert(words.end(), more.begin(), more.end());
  const ProgramRun run = run_program(words);
  return run.out + run.err;
}

bool says(const std::string& text, const std::string& part) {
  INFO(text);
  CHECK(text.find(part) != std::string::npos);
  return text.find(part) != std::string::npos;
}

}  // namespace

TEST_CASE("the resolved rig finds its files, whatever they are called and wherever they are named",
          "[cli][rig]") {
  const TemporaryFolder dir;
  dir.write("set/led-par.ies", kIes);
  write_png(dir.path("set/cie-chart.png"), 2, 2, std::vector<unsigned char>(12, 200));
  write_png(dir.path("set/day.png"), 2, 2, std::vector<unsigned char>(12, 90));
  dir.write("set/rig.toml",
            kBase +
                "[[material]]\nname = 'chart'\nkind = 'diffuse'\ncolor = { keys = [[0, "
                "'cie-chart.png'], [2, 'day.png']], ease = 'hold' }\n"
                "[[object]]\nname = 'card'\nshape = { kind = 'box', size = [1, 1, 1] }\nmaterial = "
                "'chart'\n"
                "[[light]]\nname = 'l'\nkind = 'point'\nat = [0, 0, 2]\nprofile = 'led-par.ies'\n"
                "[[array]]\nname = 'row'\nof = 'l'\noutput = 'each'\ncount = 2\nalong = { path = "
                "'line', from = [-1, 0, 0], to = [1, 0, 0] }\n"
                "copy = { 1 = { profile = 'led-par.ies' } }\n"
                "[[variant]]\nname = 'v'\nset = { 'light.l.profile' = 'led-par.ies' }\n");
  REQUIRE(run_program({"render", dir.path("set/rig.toml"), "-o", dir.path("a/b/out"), "--quiet"})
              .status == 0);
  const std::string resolved = dir.read("a/b/out/rig.resolved.toml");
  for (const char* name : {"cie-chart.png", "day.png", "led-par.ies"}) {
    CHECK(says(resolved, std::string("\"../../../set/") + name + "\""));
  }
  CHECK(resolved.find("\"led-par.ies\"") == std::string::npos);
  // Each verb that reads the folder's rig takes it.
  const std::string again = dir.path("a/b/out/rig.resolved.toml");
  CHECK(run_program({"check", again, "--variant", "v"}).status == 0);
  CHECK(run_program({"balance", dir.path("a/b/out"), "--dim", "row=0.5"}).status == 0);
  // A folder that is reached through a link of another depth.
  std::filesystem::create_directories(dir.path("x/y/z/w"));
  std::filesystem::create_directory_symlink(dir.path("x/y/z/w"), dir.path("link"));
  REQUIRE(run_program({"render", dir.path("set/rig.toml"), "-o", dir.path("link/out"), "--quiet"})
              .status == 0);
  CHECK(run_program({"check", dir.path("link/out/rig.resolved.toml")}).status == 0);
  CHECK(run_program({"check", dir.path("x/y/z/w/out/rig.resolved.toml")}).status == 0);
}

TEST_CASE("the resolved rig keeps the camera that was rendered", "[cli][rig]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kBase + kPointForRigLanguage);
  REQUIRE(
      run_program({"render", rig, "-o", dir.path("top"), "--camera", "top", "--quiet"}).status ==
      0);
  CHECK(says(dir.read("top/rig.resolved.toml"), "camera = \"top\""));
  REQUIRE(
      run_program({"render", dir.path("top/rig.resolved.toml"), "-o", dir.path("again"), "--quiet"})
          .status == 0);
  CHECK(dir.read("again/view.png").size() > 0);
  const auto a = ExrReader::open(dir.path("top/image.exr")),
             b = ExrReader::open(dir.path("again/image.exr"));
  REQUIRE((a && b));
  CHECK(*a->read({"R", "G", "B"}, 0, 0, 8, 6) == *b->read({"R", "G", "B"}, 0, 0, 8, 6));
  const std::string wrong =
      told(dir, kBase + kPointForRigLanguage, {"--set", "render.camera=tops"});
  CHECK(says(wrong, "there is no camera \"tops\""));
  CHECK(says(wrong, "did you mean \"top\"?"));
}

TEST_CASE("an including file replaces lists that are values", "[cli][rig]") {
  const TemporaryFolder dir;
  dir.write("base.toml", kBase + "[render.march]\nmax_steps = 100\n");
  const std::string rig = dir.write(
      "r.toml",
      "jovilux = 1\ninclude = ['base.toml']\n[render]\nsize = [4, 3]\n" + kPointForRigLanguage);
  REQUIRE(run_program({"render", rig, "-o", dir.path("out"), "--quiet"}).status == 0);
  CHECK(ExrReader::open(dir.path("out/image.exr"))->header().width == 4);
  CHECK(says(dir.read("out/rig.resolved.toml"), "max_steps = 100"));
}

TEST_CASE("values are asked for as they are written", "[cli][rig]") {
  const TemporaryFolder dir;
  CHECK(told(dir, kBase + kPointForRigLanguage + "flicker = { wave = 'sine', rate = '1.2 kHz' }\n")
            .find("error:") == std::string::npos);
  const std::string lens = told(dir,
                                kBase + kPointForRigLanguage +
                                    "[[camera]]\nname = 'c'\nat = [0, -4, 1]\nlook_at = [0, 0, "
                                    "1]\nlens = 28\n");
  CHECK(says(lens, "found 28 without a unit"));
  CHECK(says(lens, "write \"28 mm\""));
  const std::string at = told(dir,
                              kBase +
                                  "[[light]]\nname = 'l'\nkind = 'sphere'\nat = 'here'\n"
                                  "radius = 0.1\noutput = '800 lm'\n");
  CHECK(says(at, "\n1 error, 0 warnings"));
  const std::string color = told(
      dir,
      kBase + kPointForRigLanguage + "[[material]]\nname = 'm'\nkind = 'diffuse'\ncolor = 0.18\n");
  CHECK(says(color, "three linear values [r, g, b]"));
  CHECK(says(told(dir, kBase + kPointForRigLanguage + "[look]\nexposure = 9\n"), "write \"EV 9\""));
  CHECK(says(told(dir, kBase + "[[light]]\nname = 'l'\noutput = 800lm\n"),
             "write output = \"800 lm\""));
  CHECK(says(told(dir, kBase + "[[light]]\nname = 'l'\nradius = 12 cm # of the globe\n"),
             "write radius = \"12 cm\""));
  CHECK(says(
      told(dir, kBase + kPointForRigLanguage + "flicker = { wave = 'formula', formula = '1/t' }\n"),
      "gives no number at t = 0 s"));
  CHECK(says(
      told(dir,
           kBase + kPointForRigLanguage + "flicker = { wave = 'formula', formula = '-1 + 0*t' }\n"),
      "gives -1 at t = 0 s"));
  CHECK(says(told(dir, kBase + kPointForRigLanguage + "kind2 = 1\n"), "unknown key \"kind2\""));
  CHECK(says(told(dir, kBase + kPointForRigLanguage + "name2 = { keys = [[0, 1]] }\n"),
             "unknown key"));
  CHECK(says(told(dir,
                  kBase + kPointForRigLanguage +
                      "group = { keys = [[0, 'a'], [1, 'b']], ease = 'hold' }\n"),
             "cannot change over time"));
}

TEST_CASE("a key is removed by --set, and files are named from the rig's folder", "[cli][rig]") {
  const TemporaryFolder dir;
  dir.write("set/lamp.ies", kIes);
  const std::string rig =
      dir.write("set/r.toml", kBase + kPointForRigLanguage + "dimmer = 0.5\ntint = '#ff0000'\n");
  const auto dimmer = [&](const std::vector<std::string>& more) {
    std::vector<std::string> words = {"check", rig, "--json"};
    words.insert(words.end(), more.begin(), more.end());
    const ProgramRun run = run_program(words);
    INFO(run.out << run.err);
    return run.json()["lights"][0]["dimmer"].get<double>();
  };
  CHECK(dimmer({}) == 0.5);
  CHECK(dimmer({"--set", "light.l.dimmer="}) == 1);
  CHECK(says(run_program({"check", rig, "--set", "light.l.gel="}).out, "no such key to remove"));
  const auto by_profile =
      run_program(
          {"check", rig, "--json", "--set", "light.l.profile=lamp.ies", "--set", "light.l.output="})
          .json();
  CHECK(by_profile["errors"].empty());
  CHECK(by_profile["lights"][0]["peak_cd"] == Approx(1000));
  // What is missing says an address of this very rig.
  const std::string wrong = run_program({"check", rig, "--set", "dimmer"}).out;
  CHECK(says(wrong, "light.l.output=800 lm"));
  CHECK(says(run_program({"check", rig, "--set", "light.k.dimmer=1"}).out, "there is l"));
  CHECK(says(run_program({"check", dir.path("none.toml")}).err, "jovilux new DIR"));
}

TEST_CASE("with y up planes lie level, cylinders stand, circles go round up", "[cli][rig]") {
  const TemporaryFolder dir;
  const auto lux = [&](const std::string& text) {
    const ProgramRun run = run_program({"check", dir.write("r.toml", text), "--json"});
    INFO(run.out);
    return run.json()["lights"];
  };
  const auto z =
      lux("jovilux = 1\n[[object]]\nname = 'floor'\nshape = { kind = 'plane' }\n"
          "[[light]]\nname = 'l'\nkind = 'point'\nat = [0, 0, 2]\noutput = '80 cd'\n");
  const auto y =
      lux("jovilux = 1\n[scene]\nup = 'y'\n[[object]]\nname = 'floor'\nshape = { kind = "
          "'plane' }\n[[light]]\nname = 'l'\nkind = 'point'\nat = [0, 2, 0]\noutput = "
          "'80 cd'\n");
  CHECK(z[0]["subject"]["object"] == "floor");
  CHECK(y[0]["subject"] == z[0]["subject"]);
  // The top of a cylinder is met from above, at its height.
  const auto top =
      lux("jovilux = 1\n[scene]\nup = 'y'\n[[object]]\nname = 'post'\nshape = { kind = "
          "'cylinder', radius = 0.1, height = 1 }\n[[solid]]\nname = 's'\nkind = "
          "'cone'\nradius = 0.1\nheight = 1\n[[light]]\nname = 'l'\nkind = 'point'\n"
          "at = [0, 2, 0]\noutput = '80 cd'\n");
  CHECK(top[0]["subject"]["object"] == "post");
  CHECK(top[0]["subject"]["distance_m"] == Approx(1.5));
  const auto ring =
      lux("jovilux = 1\n[scene]\nup = 'y'\n[[object]]\nname = 'floor'\nshape = { kind = 'plane' }\n"
          "[[light]]\nname = 'l'\nkind = 'point'\nat = [0, 2, 0]\noutput = '80 cd'\n"
          "[[array]]\nname = 'ring'\nof = 'l'\noutput = 'each'\ncount = 4\nalong = { path = "
          "'circle', radius = 1 }\n");
  for (const auto& light : ring) {
    CHECK(light["subject"]["distance_m"] == Approx(2));
  }
}

TEST_CASE("a gobo's tile repeats the mask within its size, and its top lies north below a lamp",
          "[cli][rig][gobo]") {
  const TemporaryFolder dir;
  // White above, black below.
  write_png(dir.path("half.png"), 2, 2, {255, 255, 255, 255, 255, 255, 0, 0, 0, 0, 0, 0});
  const auto floor_at =
      [&](const std::string& gobo, const std::string& aim, const char* x, const char* y) {
        const std::string rig = dir.write(
            "r.toml",
            fmt::format(
                "jovilux = 1\n[render]\nsize = [1, 1]\nsamples = 1\n[[object]]\nname = 'floor'\n"
                "shape = {{ kind = 'plane' }}\n[[light]]\nname = 'l'\nkind = 'spot'\nat = [0, 0, "
                "2]\n{}\nbeam = 60\noutput = '800 cd'\ngobo = {}\n[[meter]]\nname = 'm'\nkind = "
                "'illuminance'\nat = [{}, {}, 0.001]\n",
                aim,
                gobo,
                x,
                y));
        const ProgramRun run = run_program({"meter", rig, "--json"});
        INFO(run.err);
        return run.json()["meters"][0]["value"].get<double>();
      };
  const std::string whole = "{ image = 'half.png', size = [1, 1], at = 1 }";
  for (const std::string aim : {"toward = [0, 0, -1]", "toward = [0, 0.0001, -1]"}) {
    INFO(aim);
    CHECK(floor_at(whole, aim, "0", "0.5") > 100);  // the plane magnifies the mask twice
    CHECK(floor_at(whole, aim, "0", "-0.5") < 1);
  }
  // Two copies in the same size: light, dark, light, dark from north to south.
  const std::string twice = "{ image = 'half.png', size = [1, 1], at = 1, tile = [1, 2] }";
  const std::string down = "toward = [0, 0, -1]";
  CHECK(floor_at(twice, down, "0", "0.75") > 100);
  CHECK(floor_at(twice, down, "0", "0.25") < 1);
  CHECK(floor_at(twice, down, "0", "-0.25") > 100);
  CHECK(floor_at(twice, down, "0", "-0.75") < 1);
  CHECK(floor_at(twice, down, "0", "1.2") < 1);  // its frame is dark
}

TEST_CASE("sweep replaces nothing of another rig or sweep without --force", "[cli][sweep]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kBase + kPointForRigLanguage),
                    other = dir.write(
                        "other/r.toml",
                        kBase + kPointForRigLanguage +
                            "[[object]]\nname='more'\nshape={kind='sphere', radius=0.1}\n");
  const auto sweep = [&](const std::string& file, const std::string& range, bool force) {
    std::vector<std::string> words = {
        "sweep", file, "--vary", range, "-o", dir.path("s"), "--quiet", "--exact"};
    if (force) {
      words.push_back("--force");
    }
    return run_program(words);
  };
  REQUIRE(sweep(rig, "light.l.dimmer = 0.2 .. 1 / 3", false).status == 0);
  CHECK(sweep(rig, "light.l.dimmer = 0.2 .. 1 / 3", false).status == 0);
  const ProgramRun refused = sweep(other, "light.l.dimmer = 0.2 .. 1 / 3", false);
  CHECK(refused.status == 2);
  CHECK(says(refused.err, "results of another rig"));
  // A shorter sweep would leave 03 standing beside its own.
  const ProgramRun stale = sweep(rig, "light.l.dimmer = 0.2 .. 1 / 2", false);
  CHECK(stale.status == 2);
  CHECK(says(stale.err, "results of another sweep (03)"));
  CHECK(std::filesystem::exists(dir.path("s/03/image.exr")));
  CHECK(sweep(rig, "light.l.dimmer = 0.2 .. 1 / 2", true).status == 0);
  CHECK_FALSE(std::filesystem::exists(dir.path("s/03")));
}

TEST_CASE("verbs that take long have --quiet", "[cli]") {
  for (const char* verb :
       {"render", "sweep", "animate", "meter", "noise", "report", "watch", "merge"}) {
    INFO(verb);
    CHECK(run_program({verb, "--help"}).out.find("--quiet") != std::string::npos);
  }
}
