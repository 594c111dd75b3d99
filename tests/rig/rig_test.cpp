#include "jovilux/rig/rig.h"

#include "jovilux/rig/words.h"

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using jovilux::test::TemporaryFolder;

namespace {

Result<Rig> rig_of(const std::string& text) {
  auto document = parse_toml("jovilux = 1\n" + text, "rig.toml");
  REQUIRE(document);
  return read_rig(std::move(*document), "rig.toml");
}

std::string all_problems(const std::string& text) {
  std::string out;
  const auto rig = rig_of(text);
  for (const Problem& p : rig.problems()) {
    out += to_string(p) + "\n";
  }
  return out;
}

const std::string kPointForRig = "[[light]]\nname = 'p'\nkind = 'point'\nat = [0, 0, 1]\n";

}  // namespace

TEST_CASE("a rig's values arrive in SI units", "[rig]") {
  const auto rig = rig_of(R"(
[scene]
length = "cm"
[[camera]]
name = "c"
at = [100, "2 m", 0]
look_at = [0, 0, 0]
lens = "36 mm"
[[light]]
name = "d"
kind = "disk"
at = [0, 0, 200]
aim = [0, 0, 0]
radius = "11 cm"
output = "1350 lm"
white = 2700
dimmer = "25 %"
falloff = { law = "linear", zero_at = "6 m", matches_at = 200 }
range = [500, "7 m"]
[[object]]
name = "o"
shape = { kind = "box", size = [200, 60, 5] }
rotate = [0, 0, 90]
scale = [1, 2, 1]
[render]
size = [320, 200]
noise = "2 %"
)");
  REQUIRE(rig);
  CHECK(rig->cameras[0].at == Vec3d(1, 2, 0));
  CHECK(rig->cameras[0].field_of_view == Approx(2 * std::atan(0.5)));
  const LightSpec& l = rig->lights[0];
  CHECK(l.axis == -Vec3d::UnitZ());
  CHECK(l.levels.flux->value == Approx(1350));
  CHECK(l.white.temperature.value == 2700);
  CHECK(l.dimmed() == 0.25);
  CHECK(l.falloff.matches_at == 2);
  CHECK(l.falloff.range_start == 5);
  CHECK(l.falloff.range_end == 7);
  CHECK(rig->objects[0].shape->a == 1);
  CHECK((rig->objects[0].transform.vector({1, 0, 0}) - Vec3d(0, 1, 0)).norm() < 1e-12);
  CHECK((rig->objects[0].transform.vector({0, 1, 0}) - Vec3d(-2, 0, 0)).norm() < 1e-12);
  CHECK(rig->render.noise == 0.02);
}

TEST_CASE("turns are about x, y and z in that order", "[rig]") {
  const Transform t = placement(Vec3d::Zero(), Vec3d(90, 0, 90) * kPiD / 180, Vec3d::Ones());
  CHECK((t.vector({0, 0, 1}) - Vec3d(1, 0, 0)).norm() < 1e-12);  // z to -y by x, then -y to x by z
}

TEST_CASE("a rig with ten mistakes shows ten errors, each with place, address and advice",
          "[rig]") {
  const auto rig = rig_of(R"([scene]
lenght = "m"
[[camera]]
name = "c"
at = [1, 2]
look_at = [0, 0, 0]
[[material]]
name = "wood"
kind = "mat"
[[object]]
name = "o"
shape = { kind = "spere", radius = 1 }
material = "wod"
[[light]]
name = "a"
kind = "point"
at = [0, 0, 1]
output = 900
dimmer = 3
[[light]]
name = "a"
kind = "spot"
at = [0, 0, 1]
aim = [0, 0, 1]
beam = "10 deg"
field = "5 deg"
output = "9 lmm"
)");
  REQUIRE_FALSE(rig);
  const Problems& p = rig.problems();
  CHECK(p.size() == 11);
  for (const Problem& problem : p) {
    INFO(to_string(problem));
    CHECK(problem.place.file == "rig.toml");
    CHECK(problem.place.line > 0);
    CHECK(problem.place.column > 0);
    CHECK_FALSE(problem.address.empty());
    CHECK_FALSE(problem.code.empty());
  }
  const std::string all = all_problems("[scene]\nlenght = 'm'\n");
  CHECK(all ==
        "rig.toml:3:1: error: scene.lenght: unknown key \"lenght\"; did you mean \"length\"?\n");
}

TEST_CASE("each kind of mistake says what was expected", "[rig]") {
  struct Case {
    const char* text;
    const char* says;
  };
  const std::string at = "at = [0, 0, 1]\n";
  for (const Case& c :
       {Case{"output = 900\n",
             "light.p.output: found 900 without a unit; an output is a text with its unit"},
        {"output = '900 lx'\n",
         "needs the distance at which it is measured; expected lm, cd, lx @ distance or W @ lm/W; "
         "write \"900 lx @ 1 m\""},
        {"output = '900 cd/m2'\n", "a point takes lm, cd, lx @ distance or W @ lm/W"},
        {"output = '1 lm'\ndimmer = nan\n", "found unknown; expected a finite number"},
        {"output = '1 lm'\ndimmer = -0.5\n", "expected 0 to 1"},
        {"output = '1 lm'\nwhite = '27 K'\n", "500 to 100000"},
        {"output = '1 lm'\nnear_softening = '-3 cm'\n", "expected at least 0"},
        {"output = '1 lm'\nrange = ['5 m', '2 m']\n", "the second length ends the fade"},
        {"output = '1 lm'\nfalloff = 'linear'\n", "the linear law has parameters"},
        {"output = '1 lm'\nfalloff = { law = 'linear', zero_at = '50 cm' }\n",
         "is not beyond match"},
        {"output = '1 lm'\nfalloff = { law = 'polynomial', constant = 1, linear = -1, quadratic = "
         "0.1 }\n",
         "divides by zero there"},
        {"output = '1 lm'\nfalloff = { law = 'polynomial', constant = 0, linear = 0, quadratic = 0 "
         "}\n",
         "divides by zero everywhere"},
        {"output = '1 lm'\nfallof = 'none'\n", "unknown key \"fallof\"; did you mean \"falloff\"?"},
        {"output = '1 lm'\ngobo = { image = 'x.png' }\n",
         "\"gobo\" does not go with kind \"point\""},
        {"output = '1 lm'\nfalloff = { law = 'points', points = [['0 m', 1], ['0 m', 0]] }\n",
         "distances must increase"},
        {"output = '1 lm'\nfalloff = { law = 'points', points = [['0 m', 1], ['50 cm', 0]] }\n",
         "the law is 0 at matches_at = 1 m"},
        {"output = '1 lm'\nfalloff = { law = 'formula', formula = '1/(1+q)' }\n",
         "character 6: \"q\" is not known; the variables are d"},
        {"output = '1 lm'\nfalloff = { law = 'formula', formula = '1-d' }\n",
         "a law is finite and not below 0; wrap it in max(0, ...)"},
        {"output = '1 lm'\nfalloff = { law = 'formula', formula = 'd=2' }\n",
         "a formula assigns nothing; == compares"},
        {"output = '1 lm'\nonly = ['oak']\n", "there is no object \"oak\""},
        {"output = '1 lm'\nshadow_skip = ['tag:leaf']\n", "no object has the tag \"leaf\""},
        {"output = '1 lm'\ninside = 'attic'\n", "there is no solid or closed object \"attic\""},
        {"output = '1 lm'\nfade_with_camera = ['9 m', '8 m']\n", "it must be above the first"},
        {"output = '1 lm'\ncheat = { shadow = 2 }\n", "expected 0 to 1"},
        {"output = '1 lm'\ncheat = { shadows = 0.5 }\n", "did you mean \"shadow\"?"},
        {"output = '1 lm'\ngroup = 'a b'\n", "a group's name is made of letters"},
        {"output = '1 lm'\nprofile = 'lamp.png'\n", "expected a file ending in .ies or .ldt"},
        {"output = '1 lm'\nprofile = 'lamp.ies'\n", "file not found: lamp.ies"},
        {"output = '1 lm'\ntint_by = { formula = 'x', ramp = [[0, '#000000']] }\n",
         "black has no color to give"},
        {"output = '1 lm'\ntint = [0, 0, 0]\n", "a black tint has no color"},
        {"output = '1 lm'\non = 'yes'\n", "found \"yes\"; expected true or false"}}) {
    const std::string all = all_problems(kPointForRig + c.text);
    INFO(all);
    CHECK(all.find(c.says) != std::string::npos);
  }
}

TEST_CASE("zero-length directions and coinciding points are errors", "[rig]") {
  CHECK(all_problems("[[light]]\nname='s'\nkind='sun'\ntoward=[0,0,0]\noutput='1 klx'\n")
            .find("length 0") != std::string::npos);
  CHECK(all_problems(
            "[[light]]\nname='d'\nkind='disk'\nradius=1\nat=[1,1,1]\naim=[1,1,1]\noutput='1 lm'\n")
            .find("at the point that it aims at") != std::string::npos);
  CHECK(all_problems("[[camera]]\nname='c'\nat=[1,1,1]\nlook_at=[1,1,1]\n")
            .find("at the point that it looks at") != std::string::npos);
}

TEST_CASE("an error about a duplicate shows both places", "[rig]") {
  const std::string all =
      all_problems(kPointForRig + "output='1 lm'\n" + kPointForRig + "output='1 lm'\n");
  CHECK(all.find("rig.toml:8:8") != std::string::npos);
  CHECK(all.find("there is another light \"p\" at rig.toml:3:8") != std::string::npos);
}

TEST_CASE("sizes beyond all pictures are refused before memory is taken", "[rig]") {
  CHECK(all_problems("[render]\nsize = [1000000000, 1000000000]\n").find("from 1 to 32768") !=
        std::string::npos);
  CHECK(all_problems("[render]\nsamples = 0\n").find("whole number from 1") != std::string::npos);
}

TEST_CASE("an a = 0 polynomial warns, a physical square law does not", "[rig]") {
  const auto rig = rig_of(kPointForRig +
                          "output='1 lm'\nfalloff = { law = 'polynomial', constant = 0, linear = "
                          "0.3, quadratic = 0.6 }\n");
  REQUIRE(rig);
  REQUIRE(rig.problems().size() == 1);
  CHECK(rig.problems()[0].severity == Severity::kWarning);
  CHECK(rig.problems()[0].code == "divides-by-zero");
  CHECK(rig_of(kPointForRig + "output='1 lm'\nfalloff = 'inverse-square'\n").problems().empty());
}

TEST_CASE("the resolved rig stands alone and means the same", "[rig]") {
  const TemporaryFolder dir;
  dir.write("set/ball.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n");
  dir.write("set/set.toml", "[[object]]\nname='ball'\nmesh='ball.obj'\n");
  const std::string main =
      dir.write("main.toml",
                "jovilux = 1\ninclude = "
                "['set/set.toml']\n[[light]]\nname='p'\nkind='point'\nat=[0,0,1]\noutput='1 lm'\n");
  const auto rig = load_rig(main, {{}, {"light.p.output=7 lm"}});
  REQUIRE(rig);
  const std::string text = resolved_toml(*rig, dir.path("out"));
  dir.write("out/rig.resolved.toml", text);
  const auto again = load_rig(dir.path("out/rig.resolved.toml"));
  REQUIRE(again);
  CHECK(again->lights[0].levels.flux->value == Approx(7));
  CHECK(again->objects[0].name == "ball");
  CHECK(text.find("../set/ball.obj") != std::string::npos);
}

TEST_CASE("words of the trade and of earlier versions lead to the key", "[rig][words]") {
  const std::pair<std::string, std::string> kKeys[] = {
      {"intensity = 800", "write output = \"800 lm\""},
      {"color = '#ffffff'", "write white = \"2700 K\""},
      {"temperature = 2700", "write white = \"2700 K\""},
      {"position = [0, 0, 1]", "write at = [x, y, z]"},
      {"rotation = [0, 0, 1]", "write aim = [x, y, z]"},
      {"type = 'spot'", "write kind = \"point\""},
      {"coneAngle = 30", "write beam = \"30 deg\""},
      {"form = 'point'", "form is now kind"},
      {"cushion = '3 cm'", "cushion is now near_softening"},
      {"reach = ['1 m', '2 m']", "reach is now range"},
      {"zone = 'attic'", "zone is now inside"},
      {"cheat = { seen = false }", "seen is now visible"},
      {"cheat = { bounce_saturation = 0.5 }", "bounce_saturation is now bounce_chroma"},
      {"falloff = { law = 'none', match = '2 m' }", "match is now matches_at"}};
  for (const auto& [line, hint] : kKeys) {
    INFO(line);
    CHECK(all_problems(kPointForRig + "output = '1 lm'\n" + line + "\n").find(hint) !=
          std::string::npos);
  }
  CHECK(all_problems("[[material]]\nname = 'm'\nkind = 'matte'\n").find("matte is now diffuse") !=
        std::string::npos);
  CHECK(all_problems("[[camera]]\nname = 'b'\nat = [0,0,1]\nlook_at = [0,1,1]\nview = 40\n")
            .find("view is now field_of_view") != std::string::npos);
  CHECK(all_problems("[[light]]\nname = 'b'\nkind = 'area'\noutput = '1 lm'\n")
            .find("write kind = \"rect\" with size") != std::string::npos);
}

TEST_CASE("no hint of a word is for a key that the rig has", "[rig][words]") {
  // Each word is unknown to the reader, or it would never be looked up.
  for (const WordHint& w : key_words()) {
    if (w.table == "light") {
      INFO(w.word);
      const std::string found =
          all_problems(kPointForRig + "output = '1 lm'\n" + std::string(w.word) + " = 1\n");
      CHECK(found.find(w.hint) != std::string::npos);
    }
  }
}
