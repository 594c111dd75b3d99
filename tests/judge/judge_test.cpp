#include "jovilux/judge/conversion.h"
#include "jovilux/judge/light_report.h"
#include "jovilux/judge/readings.h"
#include "jovilux/judge/rig_checks.h"

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

struct Checked {
  std::vector<LightReport> reports;
  Problems problems;

  bool has(const std::string& code) const {
    return std::any_of(
        problems.begin(), problems.end(), [&](const Problem& p) { return p.code == code; });
  }
  std::string text() const {
    std::string out;
    for (const Problem& p : problems) {
      out += to_string(p) + "\n";
    }
    return out;
  }
};

const std::string kRoomForJudge = R"(
[[camera]]
name = "c"
at = [0, -3, 1]
look_at = [0, 0, 1]
[[object]]
name = "floor"
shape = { kind = "box", size = [4, 4, 0.1] }
at = [0, 0, -0.05]
)";

Checked checked(const std::string& text, const std::string& room = kRoomForJudge) {
  auto document = parse_toml("jovilux = 1\n" + room + text, "rig.toml");
  REQUIRE(document);
  auto rig = read_rig(std::move(*document), "rig.toml");
  REQUIRE(rig);
  const auto scene = prepare_scene(*rig);
  REQUIRE(scene);
  Checked out;
  out.reports = light_reports(*rig, *scene);
  out.problems = check_rig(*rig, *scene, out.reports);
  return out;
}

std::string point(const std::string& more) {
  return "[[light]]\nname = 'p'\nkind = 'point'\noutput = '1000 lm'\nat = [0, 0, 2]\n" + more;
}

}  // namespace

TEST_CASE("a sound rig has nothing to warn of and its light the level at its subject", "[judge]") {
  const Checked c = checked(point("white = '2700 K'\ndimmer = 0.5\n"));
  INFO(c.text());
  CHECK(c.problems.empty());
  const LightReport& r = c.reports[0];
  CHECK(r.subject->object == "floor");
  CHECK(r.subject->distance_m == Approx(2).epsilon(1e-5));
  CHECK(r.subject->illuminance_lx == Approx(19.8944 / 2).epsilon(1e-4));
  CHECK(*r.cct_k == Approx(2700).epsilon(1e-3));
  CHECK(r.cheats.empty());
}

TEST_CASE("subjects of lights with size and spots are lit by their exact formulas", "[judge]") {
  const Checked c = checked(R"(
[[light]]
name = "disk"
kind = "disk"
at = [0, 0, 0.5]
aim = [0, 0, 0]
radius = 0.3
output = "5000 cd/m2"
[[light]]
name = "rect"
kind = "rect"
at = [1, 0, 1]
toward = [0, 0, -1]
size = [0.6, 0.4]
output = "1000 cd/m2"
[[light]]
name = "spot"
kind = "spot"
at = [0, 1, 2]
aim = [0, 1, 0]
beam = "20 deg"
output = "800 cd"
)");
  CHECK(c.reports[0].subject->illuminance_lx ==
        Approx(disk_illuminance_on_axis(5000, 0.3, 0.5)).epsilon(1e-4));
  CHECK(c.reports[1].subject->illuminance_lx ==
        Approx(rect_illuminance_on_axis(1000, 0.6, 0.4, 1)).epsilon(1e-4));
  CHECK(c.reports[2].subject->illuminance_lx == Approx(200).epsilon(1e-4));
}

TEST_CASE("a light inside a closed object is found, in a shade or a room it is not", "[judge]") {
  const std::string pot =
      "[[object]]\nname='pot'\nshape={kind='cone', radius=[0.2, 0.3], height=0.4}\nat=[0,0,2]\n";
  const Checked inside = checked(point(pot));
  CHECK(inside.has("light-inside-object"));
  CHECK(inside.text().find("\"pot\"") != std::string::npos);
  CHECK(inside.text().find("rig.toml:") == 0);
  const std::string shade =
      "[[object]]\nname='shade'\nshape={kind='cylinder', radius=0.2, height=0.4, "
      "open=true}\nat=[0,0,2]\n";
  CHECK_FALSE(checked(point(shade)).has("light-inside-object"));
  const std::string room = "[[object]]\nname='room'\nshape={kind='box', size=[20, 20, 20]}\n";
  CHECK_FALSE(checked(point(room)).has("light-inside-object"));
  CHECK_FALSE(checked(point("on = false\n" + pot)).has("light-inside-object"));
}

TEST_CASE("lights that face nothing and reaches that hold nothing are found", "[judge]") {
  const std::string disk =
      "[[light]]\nname='d'\nkind='disk'\nradius=0.1\noutput='100 lm'\nat=[0,0,2]\n";
  CHECK(checked(disk + "toward=[0,0,1]\n").has("faces-nothing"));
  CHECK_FALSE(checked(disk + "toward=[0,0,-1]\n").has("faces-nothing"));
  const std::string spot =
      "[[light]]\nname='s'\nkind='spot'\nbeam=2\noutput='100 lm'\nat=[0,0,2]\n";
  CHECK(checked(spot + "toward=[1,0,0]\n").has("faces-nothing"));
  CHECK_FALSE(checked(spot + "toward=[0,0,-1]\n").has("faces-nothing"));
  CHECK(checked(point("range = [0.5, 1.5]\n")).has("range-holds-nothing"));
  CHECK_FALSE(checked(point("range = [1, 3]\n")).has("range-holds-nothing"));
}

TEST_CASE("sizes, luminances and albedos beyond the real are found", "[judge]") {
  const Checked millimeters =
      checked(point(""),
              "[[object]]\nname='o'\nshape={kind='box', size=[4000, 4000, "
              "100]}\nat=[0,0,-50]\n[[camera]]\nname='c'\nat=[0,-3000,1000]\nlook_at=[0,0,0]\n");
  CHECK(millimeters.has("scene-size"));
  CHECK(millimeters.text().find("length = \"mm\"") != std::string::npos);
  CHECK_FALSE(checked(point("")).has("scene-size"));
  const std::string ball =
      "[[light]]\nname='b'\nkind='sphere'\nat=[0,0,2]\noutput='1000 lm'\nradius=";
  CHECK(checked(ball + "'0.05 mm'\n").has("luminance-beyond-real"));
  CHECK_FALSE(checked(ball + "'3 cm'\n").has("luminance-beyond-real"));
  CHECK(checked(point("[[material]]\nname='w'\nkind='diffuse'\ncolor=[0.95, 0.5, 0.5]\n"))
            .has("high-albedo"));
  CHECK_FALSE(checked(point("[[material]]\nname='w'\nkind='metal'\ncolor=[0.95, 0.9, 0.9]\n"))
                  .has("high-albedo"));
}

TEST_CASE("a law that is not physics is reported with its factor at the subject", "[judge]") {
  const Checked c = checked(point("falloff = 'none'\n"));
  REQUIRE(c.has("not-physical"));
  // 2 m against a match of 1 m.
  CHECK(c.text().find("4 times the physical level") != std::string::npos);
  REQUIRE(c.reports[0].cheats.size() == 1);
  CHECK(c.reports[0].cheats[0].key == "falloff");
  CHECK(c.reports[0].subject->illuminance_lx == Approx(4 * 19.8944).epsilon(1e-4));
  CHECK_FALSE(
      checked(point("falloff = { law = 'none', matches_at = '2 m' }\n")).has("not-physical"));
  CHECK(checked(point("near_softening = '50 cm'\nrange = [1, 5]\n")).reports[0].cheats.size() == 2);
}

TEST_CASE("conversion gives every unit that a form has", "[judge]") {
  SourceShape s;
  const Conversion c =
      *convert_light(s, {Output::Kind::kFlux, 1000, {}, {}}, {2, 4}, 100).conversion;
  CHECK(c.levels.intensity->value == Approx(79.5775));
  CHECK(*c.illuminance[0].illuminance_lx == Approx(19.8944).epsilon(1e-5));
  CHECK(*c.illuminance[1].illuminance_lx == Approx(4.97359).epsilon(1e-5));
  CHECK(*c.power_w == 10);
  CHECK_FALSE(c.levels.luminance);
  CHECK_FALSE(convert_light(s, {Output::Kind::kLuminance, 1000, {}, {}}, {1}, 0).conversion);
}

TEST_CASE("lines are read pixel by pixel, ends included", "[judge]") {
  const auto line = pixels_of_line(0, 0, 6, 3);
  REQUIRE(line.size() == 7);
  CHECK(line[6].x == 6);
  CHECK(line[6].y == 3);
  CHECK(pixels_of_line(4, 4, 4, 4).size() == 1);
}
