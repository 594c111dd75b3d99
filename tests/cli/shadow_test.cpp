// Shadows on surfaces that stand for real ones, through the built program.
#include "jovilux/files/exr.h"

#include <algorithm>
#include <cmath>

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
  // In the lid's shadow only the sky's light is left.
  CHECK(j["darkest"]["left"].get<double>() < 0.6);
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
