// jovilux export: lights for other tools, in real units.
#include "jovilux/base/vec.h"

#include <array>
#include <cmath>
#include <filesystem>
#include <map>
#include <sstream>

#include "tests/support/program.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

const std::string kLights = R"(
[[light]]
name = "bulb"
kind = "point"
at = [0.5, -1, 2]
output = "800 lm"
dimmer = 0.5
[[light]]
name = "beam"
kind = "spot"
at = [1, 2, 3]
aim = [0.2, 0.4, 0]
beam = "30 deg"
field = "40 deg"
output = "5000 cd"
tint = [1, 0.6, 0.3]
[[light]]
name = "soft"
kind = "spot"
at = [0, 2, 3]
aim = [0, 0, 0]
beam = "10 deg"
field = "50 deg"
output = "700 cd"
[[light]]
name = "noon"
kind = "sun"
toward = [0.3, -0.4, -0.8]
output = "50000 lx"
[[light]]
name = "ball"
kind = "sphere"
radius = 0.05
at = [0, 0, 1]
output = "600 lm"
white = "2700 K"
[[light]]
name = "panel"
kind = "rect"
size = [0.6, 0.3]
at = [0, 1, 2]
aim = [0, 0, 0]
output = "1000 cd/m2"
[[light]]
name = "grey"
kind = "sky"
model = "overcast"
output = "9000 lx"
)";

// The rows of a CSV file by their first field; no field holds a comma here.
std::map<std::string, std::map<std::string, std::string>> rows_of(const std::string& csv) {
  std::istringstream in(csv);
  std::string line, field;
  std::vector<std::string> names;
  std::map<std::string, std::map<std::string, std::string>> out;
  for (int row = 0; std::getline(in, line); ++row) {
    std::istringstream fields(line + ",");
    std::vector<std::string> cells;
    while (std::getline(fields, field, ',')) {
      cells.push_back(field);
    }
    for (std::size_t c = 0; c < cells.size(); ++c) {
      row == 0 ? names.push_back(cells[c]) : void(out[cells[0]][names[c]] = cells[c]);
    }
  }
  return out;
}

double number_after(const std::string& text, const std::string& from, const std::string& key) {
  const std::size_t light = text.find("\"" + from + "\"");
  REQUIRE(light != std::string::npos);
  const std::size_t at = text.find(key + " = ", light);
  REQUIRE(at != std::string::npos);
  return std::stod(text.substr(at + key.size() + 3));
}

}  // namespace

TEST_CASE("a schedule has each light as it shines, in units", "[cli][export]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kLights);
  const ProgramRun run = run_program({"export", rig, "-o", dir.path("lights.csv")});
  INFO(run.err << run.out);
  REQUIRE(run.status == 0);
  auto rows = rows_of(dir.read("lights.csv"));
  REQUIRE(rows.size() == 7);
  CHECK(std::stod(rows["bulb"]["flux_lm"]) == Approx(400));  // dimmed
  CHECK(std::stod(rows["bulb"]["intensity_cd"]) == Approx(400 / (4 * kPiD)));
  CHECK(std::stod(rows["bulb"]["x_m"]) == 0.5);
  CHECK(std::stod(rows["beam"]["beam_deg"]) == Approx(30));
  CHECK(std::stod(rows["ball"]["luminance_cd_m2"]) ==
        Approx(600 / (4 * kPiD * kPiD * 0.05 * 0.05)));
  CHECK(std::stod(rows["ball"]["cct_k"]) == Approx(2700).epsilon(0.01));
  CHECK(std::stod(rows["panel"]["flux_lm"]) == Approx(kPiD * 1000 * 0.18));
  CHECK(std::stod(rows["noon"]["illuminance_lx"]) == Approx(50000));
  CHECK(run_program({"export", rig, "-o", dir.path("lights.csv")}).status == 2);  // is there
  CHECK(run_program({"export", rig, "-o", dir.path("lights.fbx")}).status == 2);
}

TEST_CASE("lights go to glTF and come back within a thousandth", "[cli][export]") {
  const TemporaryFolder dir;
  for (const std::string up : {"z", "y"}) {
    INFO(up << " up");
    const std::string rig = dir.write("r" + up + ".toml",
                                      "jovilux = 1\n[scene]\nup = '" + up + "'\n" + kLights),
                      gltf = dir.path(up + "/lights.gltf");
    const ProgramRun run = run_program({"export", rig, "-o", gltf, "--json"});
    INFO(run.err << run.out);
    REQUIRE(run.status == 0);
    CHECK(run.json()["notes"].dump().find("grey: a sky has no counterpart") != std::string::npos);
    CHECK(run.json()["notes"].dump().find("ball: a sphere becomes a point") != std::string::npos);
    REQUIRE(run_program({"new", dir.path("back-" + up), "--from", gltf}).status == 0);
    REQUIRE(run_program({"export", rig, "-o", dir.path(up + ".csv")}).status == 0);
    REQUIRE(run_program(
                {"export", dir.path("back-" + up + "/rig.toml"), "-o", dir.path(up + "-back.csv")})
                .status == 0);
    auto there = rows_of(dir.read(up + ".csv")), back = rows_of(dir.read(up + "-back.csv"));
    // z is up in what comes back.
    const bool turned = up == "y";
    const auto vector = [](std::map<std::string, std::string>& row,
                           const std::string& name,
                           const std::string& unit) {
      return Vec3d(std::stod(row[name + "x" + unit]),
                   std::stod(row[name + "y" + unit]),
                   std::stod(row[name + "z" + unit]));
    };
    for (const std::string name : {"bulb", "beam"}) {
      INFO(name);
      const Vec3d at = vector(there[name], "", "_m"), got = vector(back[name], "", "_m");
      CHECK((got - (turned ? Vec3d(at.x(), -at.z(), at.y()) : at)).norm() < 1e-3);
      CHECK(std::stod(back[name]["intensity_cd"]) ==
            Approx(std::stod(there[name]["intensity_cd"])).epsilon(1e-3));
    }
    for (const std::string name : {"beam", "noon"}) {
      INFO(name);
      const Vec3d axis = vector(there[name], "axis_", ""), got = vector(back[name], "axis_", "");
      CHECK((got - (turned ? Vec3d(axis.x(), -axis.z(), axis.y()) : axis)).norm() < 1e-3);
    }
    CHECK(std::stod(back["beam"]["beam_deg"]) == Approx(30).epsilon(1e-3));
    CHECK(std::stod(back["soft"]["beam_deg"]) == Approx(10).epsilon(1e-3));  // the field follows
    CHECK(std::stod(back["beam"]["field_deg"]) == Approx(40).epsilon(1e-3));
    CHECK(std::stod(back["beam"]["color_b"]) ==
          Approx(std::stod(there["beam"]["color_b"])).epsilon(0.03));
    CHECK(std::stod(back["noon"]["illuminance_lx"]) == Approx(50000).epsilon(1e-3));
  }
}

TEST_CASE("glTF turns lights that point along each axis, backwards as well", "[cli][export]") {
  const TemporaryFolder dir;
  const std::vector<Vec3d> axes = {
      {1, 0, 0}, {-1, 0, 0}, {0, 1, 0}, {0, -1, 0}, {0, 0, 1}, {0, 0, -1}};
  std::string rig = "jovilux = 1\n[[camera]]\nname = 'c'\nat = [0, -2, 1]\nlook_at = [0, 0, 0]\n";
  for (std::size_t i = 0; i < axes.size(); ++i) {
    rig += fmt::format(
        "[[light]]\nname = 'l{}'\nkind = 'spot'\nat = [1, 2, 3]\naim = [{}, {}, {}]\nbeam = '20 "
        "deg'\nfield = '40 deg'\noutput = '500 cd'\n",
        i,
        1 + axes[i].x(),
        2 + axes[i].y(),
        3 + axes[i].z());
  }
  const ProgramRun run =
      run_program({"export", dir.write("axes.toml", rig), "-o", dir.path("lights.gltf")});
  INFO(run.err);
  REQUIRE(run.status == 0);
  const auto nodes = nlohmann::json::parse(dir.read("lights.gltf"))["nodes"];
  REQUIRE(nodes.size() == axes.size());
  for (std::size_t i = 0; i < axes.size(); ++i) {
    const auto q = nodes[i]["rotation"].get<std::array<double, 4>>();  // x, y, z, w
    const Vec3d v(q[0], q[1], q[2]), ahead(0, 0, -1);
    // Rodrigues' rotation by a unit quaternion; the rig's z is up, the file's y.
    const Vec3d turned = ahead + 2 * q[3] * v.cross(ahead) + 2 * v.cross(v.cross(ahead)),
                wanted(axes[i].x(), axes[i].z(), -axes[i].y());
    INFO("axis " << axes[i].transpose() << " became " << turned.transpose());
    CHECK(v.squaredNorm() + q[3] * q[3] == Approx(1));
    CHECK((turned - wanted).norm() < 1e-9);
  }
}

TEST_CASE("lights in USD have luminances, sizes and temperatures", "[cli][export]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kLights);
  REQUIRE(run_program({"export", rig, "-o", dir.path("lights.usda")}).status == 0);
  const std::string usda = dir.read("lights.usda");
  CHECK(usda.starts_with("#usda 1.0\n"));
  CHECK(usda.find("upAxis = \"Z\"") != std::string::npos);
  CHECK(number_after(usda, "ball", "inputs:intensity") ==
        Approx(600 / (4 * kPiD * kPiD * 0.05 * 0.05)));
  CHECK(number_after(usda, "ball", "inputs:radius") == Approx(0.05));
  CHECK(number_after(usda, "ball", "inputs:colorTemperature") == Approx(2700).epsilon(0.01));
  CHECK(number_after(usda, "panel", "inputs:intensity") == Approx(1000));
  CHECK(number_after(usda, "panel", "inputs:width") == Approx(0.6));
  // Over the surface of the sphere it is normalized by, the luminance of 400 lm / 4 pi cd.
  CHECK(number_after(usda, "bulb", "inputs:intensity") == Approx(4 * 400 / (4 * kPiD)));
  CHECK(number_after(usda, "beam", "inputs:shaping:cone:angle") == Approx(20));
  CHECK(number_after(usda, "noon", "inputs:intensity") == Approx(50000));
  // Braces and parentheses close.
  int open = 0;
  for (const char c : usda) {
    open += c == '{' || c == '(' ? 1 : c == '}' || c == ')' ? -1 : 0;
    REQUIRE(open >= 0);
  }
  CHECK(open == 0);
}

TEST_CASE("lights go to USD and come back within a thousandth", "[cli][export]") {
  const TemporaryFolder dir;
  const std::string more = R"(
[[light]]
name = "tilted"
kind = "rect"
size = [0.8, 0.2]
at = [1, 1, 2]
toward = [0.3, 0.2, -0.9]
roll = "25 deg"
output = "300 lm"
[[light]]
name = "plate"
kind = "disk"
radius = "7 cm"
at = [-1, 1, 2]
toward = [0, 0.5, -0.5]
output = "200 cd/m2"
white = "3000 K"
[[light]]
name = "tube"
kind = "tube"
from = [0, 0, 2]
to = [0.4, 0.9, 2.2]
radius = "13 mm"
output = "1100 lm"
[[light]]
name = "line"
kind = "tube"
from = [0, 0, 2]
to = [0.4, 0.9, 2.2]
radius = 0
output = "500 lm"
)";
  for (const std::string up : {"z", "y"}) {
    INFO(up << " up");
    const std::string rig = dir.write("r" + up + ".toml",
                                      "jovilux = 1\n[scene]\nup = '" + up + "'\n" + kLights + more),
                      usda = dir.path(up + "/lights.usda");
    REQUIRE(run_program({"export", rig, "-o", usda}).status == 0);
    const ProgramRun made = run_program({"new", dir.path("back-" + up), "--from", usda, "--json"});
    INFO(made.err << made.out);
    REQUIRE(made.status == 0);
    CHECK(made.json()["lights"] == 11);
    const std::string back_rig = dir.path("back-" + up + "/rig.toml");
    CHECK(run_program({"check", back_rig}).status == 0);
    REQUIRE(run_program({"export", rig, "-o", dir.path(up + ".csv")}).status == 0);
    REQUIRE(run_program({"export", back_rig, "-o", dir.path(up + "-back.csv")}).status == 0);
    auto there = rows_of(dir.read(up + ".csv")), back = rows_of(dir.read(up + "-back.csv"));
    REQUIRE(back.size() == there.size());
    for (auto& [name, row] : there) {
      INFO(name);
      auto& other = back[name];
      const bool sky = name == "grey";  // an even dome there
      CHECK((row["kind"] == other["kind"] || sky));
      for (const char* key : {"radius_m",
                              "width_m",
                              "height_m",
                              "length_m",
                              "beam_deg",
                              "field_deg",
                              "flux_lm",
                              "intensity_cd",
                              "luminance_cd_m2",
                              "illuminance_lx",
                              "cct_k",
                              "color_r",
                              "color_g",
                              "color_b"}) {
        INFO(key << ": " << row[key] << " and " << other[key]);
        if (row[key].empty() || sky) {
          continue;
        }
        REQUIRE_FALSE(other[key].empty());
        CHECK(std::stod(other[key]) == Approx(std::stod(row[key])).epsilon(1e-3).margin(1e-3));
      }
      const auto vector = [](std::map<std::string, std::string>& of,
                             const std::string& begin,
                             const std::string& unit) {
        return Vec3d(std::stod(of[begin + "x" + unit]),
                     std::stod(of[begin + "y" + unit]),
                     std::stod(of[begin + "z" + unit]));
      };
      const auto standing = [&](const Vec3d& v) {
        return up == "y" ? Vec3d(v.x(), -v.z(), v.y()) : v;
      };
      if (!sky && name != "noon") {
        CHECK((vector(other, "", "_m") - standing(vector(row, "", "_m"))).norm() < 1e-3);
      }
      if (name == "tilted" || name == "panel" || name == "beam" || name == "noon") {
        CHECK((vector(other, "axis_", "") - standing(vector(row, "axis_", ""))).norm() < 1e-3);
      }
    }
  }
}

TEST_CASE("each light's distribution goes to LM-63 with its lumens", "[cli][export]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kLights + R"(
[[light]]
name = "plate"
kind = "disk"
radius = "7 cm"
at = [-1, 1, 2]
toward = [0, 0.5, -0.5]
output = "300 lm"
[[light]]
name = "half"
kind = "rect"
size = ["1 mm", "1 mm"]
at = [0, 0, 2]
toward = [0, 0, -1]
output = "500 lm"
barn_doors = { size = ["20 cm", "20 m"], length = "20 cm", left = "90 deg", right = "90 deg" }
)");
  const ProgramRun run = run_program({"export", rig, "-o", dir.path("x/l.ies"), "--json"});
  INFO(run.err << run.out);
  REQUIRE(run.status == 0);
  CHECK(run.json()["files"].size() == 7);
  CHECK(run.json()["notes"].size() == 2);  // sun and sky
  const std::map<std::string, double> lumens = {
      {"bulb", 400},
      {"ball", 600},
      {"panel", kPiD * 1000 * 0.18},
      {"plate", 300},
      // Between two long leaves straight ahead, the sine of the angle up to their edges.
      {"half", 500 * std::sin(std::atan(0.5))}};
  for (const auto& [name, flux] : lumens) {
    INFO(name);
    const auto j = run_program({"profile", dir.path("x/l-" + name + ".ies"), "--json"}).json();
    CHECK(j["flux_lm"].get<double>() == Approx(flux).epsilon(name == "half" ? 0.04 : 0.005));
  }
  const auto beam = run_program({"profile", dir.path("x/l-soft.ies"), "--json"}).json();
  CHECK(beam["peak_cd"].get<double>() == Approx(700).epsilon(1e-3));
  CHECK(beam["beam_deg"].get<double>() == Approx(10).epsilon(0.02));
  CHECK(beam["field_deg"].get<double>() == Approx(50).epsilon(0.02));
  CHECK(run_program({"export", rig, "-o", dir.path("x/l.ies")}).status == 2);  // are there
}
