// Assemblies: lights and objects that are placed together.
#include "jovilux/geometry/transform.h"
#include "jovilux/rig/rig.h"

#include <cmath>

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

Result<Rig> rig_of_for_assembly(const std::string& text) {
  auto document = parse_toml("jovilux = 1\n" + text, "rig.toml");
  REQUIRE(document);
  return read_rig(std::move(*document), "rig.toml");
}

Rig good_rig(const std::string& text) {
  auto rig = rig_of_for_assembly(text);
  for (const Problem& p : rig.problems()) {
    UNSCOPED_INFO(to_string(p));
  }
  REQUIRE(rig);
  return std::move(*rig);
}

std::string faults(const std::string& text) {
  const auto rig = rig_of_for_assembly(text);
  std::string out;
  for (const Problem& p : rig.problems()) {
    out += to_string(p) + "\n";
  }
  return out;
}

const std::string kPartsForAssembly = R"(
[[object]]
name = "shade"
shape = { kind = "cone", radius = [0.2, 0.1], height = 0.2, open = true }
at = [0, 0, 0.1]
[[light]]
name = "bulb"
kind = "sphere"
at = [0, 0, 0.05]
radius = 0.03
output = "800 lm"
[[light]]
name = "panel"
kind = "rect"
at = [0.5, 0, 0]
toward = [0, 1, 0]
size = [0.4, 0.2]
roll = "20 deg"
output = "500 lm"
)";

const LightSpec& light(const Rig& rig, const std::string& name) {
  for (const LightSpec& l : rig.lights) {
    if (l.name == name) {
      return l;
    }
  }
  FAIL(name);
  return rig.lights.front();
}

}  // namespace

TEST_CASE("an assembly turns, scales and moves its members about its origin", "[rig][assembly]") {
  const Rig rig = good_rig(kPartsForAssembly + R"(
[[assembly]]
name = "pendant"
members = ["light.bulb", "object.shade", "light.panel"]
at = [1, 2, 3]
rotate = [0, 0, 90]
scale = 2
)");
  // A quarter turn about z takes x to y and y to -x; twice as large.
  CHECK((light(rig, "bulb").at - Vec3d(1, 2, 3.1)).norm() < 1e-12);
  CHECK(light(rig, "bulb").shape.radius == Approx(0.06));
  // The lumens stay: a quarter of the luminance from twice the radius.
  CHECK(light(rig, "bulb").levels.flux->value == Approx(800));
  CHECK(light(rig, "bulb").levels.luminance->value ==
        Approx(800 / (kPiD * 4 * kPiD * 0.06 * 0.06)));
  const LightSpec& panel = light(rig, "panel");
  CHECK((panel.at - Vec3d(1, 3, 3)).norm() < 1e-12);
  CHECK((panel.axis - Vec3d(-1, 0, 0)).norm() < 1e-12);
  CHECK(panel.shape.width == Approx(0.8));
  // A level axis stays level, and so does what the roll is measured from.
  CHECK(panel.roll == Approx(20 * kPiD / 180));
  const Transform& shade = rig.objects[0].transform;
  CHECK((shade.point({0, 0, 0}) - Vec3d(1, 2, 3.2)).norm() < 1e-12);
  CHECK((shade.vector({1, 0, 0}) - Vec3d(0, 2, 0)).norm() < 1e-12);
}

TEST_CASE("a turn that tips a rect over keeps its width where the assembly has it",
          "[rig][assembly]") {
  const Rig plain = good_rig(kPartsForAssembly), tipped = good_rig(kPartsForAssembly + R"(
[[assembly]]
name = "a"
members = ["light.panel"]
rotate = [30, 50, 70]
)");
  const Mat3d turn = placement({0, 0, 0}, Vec3d(30, 50, 70) * kPiD / 180, {1, 1, 1}).linear;
  const auto frame = [](const LightSpec& l) { return aimed(l.axis, Vec3d::UnitZ(), l.roll); };
  CHECK((frame(light(tipped, "panel")) - turn * frame(light(plain, "panel"))).norm() < 1e-9);
}

TEST_CASE("members written inside an assembly are those of the rig's lists", "[rig][assembly]") {
  const std::string by_name = R"(
[[assembly]]
name = "outer"
members = ["light.panel", "assembly.inner"]
at = [0, 0, 1]
[[assembly]]
name = "inner"
members = ["light.bulb", "object.shade"]
at = [1, 0, 0]
scale = 2
[[light]]
name = "panel"
kind = "rect"
at = [0.5, 0, 0]
aim = [0, 0, -1]
size = [0.4, 0.2]
output = "900 lm"
[[light]]
name = "bulb"
kind = "sphere"
at = [0, 0, 0]
radius = "3 cm"
output = "400 lm"
[[object]]
name = "shade"
shape = { kind = "cone", radius = [0.2, 0.1], height = 0.2 }
)";
  const std::string inside = R"(
[[assembly]]
name = "outer"
at = [0, 0, 1]
[[assembly.light]]
name = "panel"
kind = "rect"
at = [0.5, 0, 0]
aim = [0, 0, -1]
size = [0.4, 0.2]
output = "900 lm"
[[assembly.assembly]]
name = "inner"
at = [1, 0, 0]
scale = 2
[[assembly.assembly.light]]
name = "bulb"
kind = "sphere"
at = [0, 0, 0]
radius = "3 cm"
output = "400 lm"
[[assembly.assembly.object]]
name = "shade"
shape = { kind = "cone", radius = [0.2, 0.1], height = 0.2 }
)";
  const Rig named = good_rig(by_name), written = good_rig(inside);
  for (const char* name : {"panel", "bulb"}) {
    CHECK(light(written, name).at == light(named, name).at);
    CHECK(light(written, name).levels.luminance->value ==
          light(named, name).levels.luminance->value);
  }
  CHECK(light(written, "bulb").at == Vec3d(1, 0, 1));
  CHECK(written.objects.at(0).transform.linear == named.objects.at(0).transform.linear);
  // One name for two members is one too many; what is no list of tables is told with its place.
  CHECK(
      faults(inside + "[[light]]\nname = 'bulb'\nkind = 'point'\noutput = '9 lm'\n").find("bulb") !=
      std::string::npos);
  const auto wrong = rig_of_for_assembly("[[assembly]]\nname = 'a'\nlight = 3\n");
  REQUIRE_FALSE(wrong);
  CHECK(wrong.problems().front().address == "assembly.a.light");
  CHECK(wrong.problems().front().place.line == 4);
}

TEST_CASE("assemblies nest, move over time and are copied", "[rig][assembly]") {
  const std::string nested = kPartsForAssembly + R"(
[[assembly]]
name = "outer"
members = ["assembly.inner", "light.panel"]
at = { keys = [["0 s", [0, 0, 1]], ["2 s", [0, 0, 3]]] }
[[assembly]]
name = "inner"
members = ["light.bulb", "object.shade"]
at = [1, 0, 0]
rotate = [0, 0, 180]
)";
  const Rig rig = good_rig(nested);
  CHECK((light(rig, "bulb").at - Vec3d(1, 0, 1.05)).norm() < 1e-12);
  const auto later = rig_at(rig, 1);
  REQUIRE(later);
  CHECK((light(*later, "bulb").at - Vec3d(1, 0, 2.05)).norm() < 1e-12);
  CHECK((light(*later, "panel").at - Vec3d(0.5, 0, 2)).norm() < 1e-12);

  const std::string copied = nested + R"(
[[array]]
name = "row"
of = "outer"
count = 2
output = "each"
along = { path = "line", from = [0, 0, 0], to = [8, 0, 0] }
)";
  const Rig row = good_rig(copied);
  REQUIRE(row.lights.size() == 4);
  REQUIRE(row.objects.size() == 2);
  CHECK((light(row, "row-bulb[0]").at - Vec3d(3, 0, 1.05)).norm() < 1e-12);
  CHECK((light(row, "row-bulb[1]").at - Vec3d(7, 0, 1.05)).norm() < 1e-12);
  CHECK(light(row, "row-bulb[1]").layer == "row-bulb");
  CHECK(light(row, "row-panel[1]").levels.flux->value == Approx(500));
  CHECK(row.objects[1].array == "row-shade");
  CHECK((row.objects[1].transform.point({0, 0, 0}) - Vec3d(7, 0, 1.1)).norm() < 1e-12);
  // What is resolved reads as the same rig.
  const Rig again = good_rig(to_toml(row.document).substr(std::string("jovilux = 1\n").size()));
  CHECK((light(again, "row-bulb[1]").at - light(row, "row-bulb[1]").at).norm() < 1e-12);

  // An array as a member is placed first, then turned with the rest.
  const Rig ring = good_rig(kPartsForAssembly + R"(
[[array]]
name = "row"
of = "bulb"
count = 2
output = "each"
along = { path = "line", from = [0, 0, 0], to = [8, 0, 0] }
[[assembly]]
name = "a"
members = ["array.row"]
rotate = [0, 0, 90]
)");
  CHECK((light(ring, "row[1]").at - Vec3d(0, 6, 0.05)).norm() < 1e-12);
}

TEST_CASE("what an assembly cannot hold is said with its place", "[rig][assembly]") {
  const auto with = [](const std::string& members, const std::string& more = "") {
    return faults(kPartsForAssembly +
                  "[[light]]\nname = 'sun'\nkind = 'sun'\ntoward = [0, 0, -1]\noutput = "
                  "'9 lx'\n[[assembly]]\nname = 'a'\nmembers = " +
                  members + "\n" + more);
  };
  CHECK(with("['light.bulb']").empty());
  CHECK(with("['light.bulp']").find("there is no \"light.bulp\"") != std::string::npos);
  CHECK(with("['light.bulp']").find("light.bulb") != std::string::npos);
  CHECK(with("['bulb']").find("a member is light.NAME") != std::string::npos);
  CHECK(with("['light.sun']").find("has no place to move") != std::string::npos);
  CHECK(with("['light.bulb']", "scale = [1, 1, 2]").find("scaled alike") != std::string::npos);
  CHECK(with("['object.shade']", "scale = [1, 1, 2]").empty());
  CHECK(with("['light.panel', 'light.panel']").find("member of two assemblies") !=
        std::string::npos);
  CHECK(with("['assembly.a']").find("holds itself") != std::string::npos);
  CHECK(with("['assembly.b']", "[[assembly]]\nname = 'b'\nmembers = ['assembly.a']\n")
            .find("holds itself") != std::string::npos);
  CHECK(with("['light.bulb']", "colour = 1").find("colour") != std::string::npos);
  CHECK(with("['light.bulb']", "[[assembly]]\nname = 'a'\nmembers = ['light.panel']\n")
            .find("there is another assembly \"a\"") != std::string::npos);
  const std::string copies =
      "[[array]]\nname = 'r'\nof = 'a'\ncount = 2\noutput = 'each'\nalong = { path = 'line', from "
      "= "
      "[0,0,0], to = [1,0,0] }\n";
  CHECK(with("['light.bulb']", copies).empty());
  CHECK(with("['light.bulb']", copies + "copy = { 1 = { dimmer = 0.5 } }\n")
            .find("no keys of their own") != std::string::npos);
}

TEST_CASE("what is wrong with the pattern of an array is told once", "[rig]") {
  const std::string text = faults(
      "[[light]]\nname = 'strip'\nkind = 'tube'\nradius = 0.01\noutput = '9 lm'\n[[array]]\nname = "
      "'strips'\nof = 'strip'\noutput = 'each'\ncount = 3\nalong = { path = 'line', from = "
      "[0,0,0], "
      "to = [1,0,0] }\n");
  CHECK(text.find("light.strip.from: is missing") != std::string::npos);
  CHECK(text.find("light.strips[0]") == std::string::npos);
}
